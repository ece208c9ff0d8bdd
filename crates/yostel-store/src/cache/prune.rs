//! Making room: what goes, and how it goes without harm to anyone.
//!
//! Nothing that a project which is there has installed goes. An object is renamed aside before it is removed, so whoever
//! looks sees all of it or nothing, and a prune that is killed leaves only a folder aside.

use std::io;

use yostel_files::{FileError, Folder};

use super::{Cache, CacheEntry};

/// What may go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct PruneRule {
    /// What was last used before this time, in seconds since 1970.
    pub used_before: Option<i64>,
    /// What was used least recently, until no more than so many bytes are left.
    pub keep_under: Option<u64>,
}

/// What goes, or went.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Pruned {
    /// What goes, in the order of the list.
    pub gone: Vec<CacheEntry>,
    /// Bytes that are left.
    pub left: u64,
    /// Whether more is left than should be, because projects use it.
    pub still_over: bool,
}

impl Cache {
    /// Says what a prune by this rule would remove.
    ///
    /// # Errors
    /// When a folder of the cache cannot be read.
    pub fn would_prune(&self, rule: PruneRule) -> Result<Pruned, FileError> {
        let entries = self.entries()?;
        let mut left: u64 = entries.iter().map(CacheEntry::bytes).sum();
        let mut gone = vec![false; entries.len()];
        let mut oldest_first: Vec<usize> = (0..entries.len()).filter(|&i| entries[i].users.is_empty()).collect();
        oldest_first.sort_by_key(|&i| (entries[i].used, i));
        for i in oldest_first {
            let old = rule.used_before.is_some_and(|before| entries[i].used < before);
            let over = rule.keep_under.is_some_and(|most| left > most);
            if old || over {
                gone[i] = true;
                left -= entries[i].bytes();
            }
        }
        let still_over = rule.keep_under.is_some_and(|most| left > most);
        let gone = entries.into_iter().zip(gone).filter(|(_, gone)| *gone).map(|(entry, _)| entry).collect();
        Ok(Pruned { gone, left, still_over })
    }

    /// Removes what the rule says; waits until nobody uses the cache, and calls `waiting` meanwhile, which tells whether to go on.
    ///
    /// # Errors
    /// When the cache cannot be read or written; what has gone by then has gone whole.
    pub fn prune(&self, rule: PruneRule, waiting: impl FnMut() -> bool) -> Result<Pruned, FileError> {
        let root = match self.folder() {
            Err(error) if error.is_not_found() => return Ok(Pruned::default()),
            root => root?,
        };
        let alone = self.use_alone(waiting)?;
        for record in self.project_records()?.into_iter().filter(|record| !record.project.is_dir()) {
            self.forget_project(&record.project);
        }
        self.forget_journals()?;
        self.forget_old_verdicts()?;
        rule.used_before.map_or(Ok(()), |before| self.forget_answers(before))?;
        let pruned = self.would_prune(rule)?;
        let (made, trash) = self.aside()?.make_folder()?;
        for (number, entry) in pruned.gone.iter().enumerate() {
            // The tree first: an archive alone can be unpacked again, a tree alone has no name.
            if let Some(tree) = entry.tree {
                move_to_trash(&root, &Self::tree_path(tree), &trash, &format!("tree{number}"))?;
            }
            if let Some(archive) = entry.archive {
                move_to_trash(&root, &Self::archive_name(archive), &trash, &format!("archive{number}"))?;
                self.forget(archive);
            }
        }
        drop(alone);
        // The long part, which nobody need wait for.
        drop(made);
        Ok(pruned)
    }
}

fn move_to_trash(root: &Folder, path: &str, trash: &Folder, name: &str) -> Result<(), FileError> {
    match root.rename(path, trash, name) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            Err(FileError { doing: "remove", path: root.path_of(path), cause: error })
        }
        _ => Ok(()),
    }
}
