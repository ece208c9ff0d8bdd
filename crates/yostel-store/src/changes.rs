//! What differs between two trees, file by file, with the lines where they are text.

use std::collections::BTreeMap;

use yostel_documents::{Artifact, ContentDigest, EntryKind, FilePatch, Listing, TreeDigest, TreeFile};
use yostel_files::{FileError, Folder};

use crate::cache::Cache;
use crate::unpack::UnpackConfig;

/// Files longer than this are said to differ, without their lines.
const MOST_TOLD: u64 = 1 << 20;

/// A file that differs between two trees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileChange {
    /// Its path.
    pub path: String,
    /// What it was; nothing when it is new.
    pub before: Option<EntryKind>,
    /// What it is; nothing when it is gone.
    pub after: Option<EntryKind>,
    /// The lines that differ; none when it is not text, or too long to tell.
    pub patch: Option<FilePatch>,
}

impl FileChange {
    /// Returns the word for what happened to it.
    pub fn word(&self) -> &'static str {
        match (self.before, self.after) {
            (None, _) => "new",
            (_, None) => "gone",
            (Some(before), Some(after)) if before != after => "changed kind",
            _ => "changed",
        }
    }
}

/// Lists what differs between two trees, by path.
///
/// # Errors
/// When a file that differs cannot be read.
pub fn changes_between(old: (&Folder, &Listing), new: (&Folder, &Listing)) -> Result<Vec<FileChange>, FileError> {
    let mut paths: Vec<&String> = old.1.entries.keys().chain(new.1.entries.keys()).collect();
    paths.sort();
    paths.dedup();
    let mut changes = Vec::new();
    for path in paths {
        let (before, after) = (old.1.entries.get(path), new.1.entries.get(path));
        if before == after {
            continue;
        }
        let short = [before, after].iter().flatten().all(|entry| entry.size <= MOST_TOLD);
        let read = |folder: &Folder, entry: Option<&yostel_documents::Entry>| {
            entry.map(|entry| read_file(folder, path, entry.kind)).transpose()
        };
        let patch = match short {
            true => FilePatch::between(path, read(old.0, before)?.as_ref(), read(new.0, after)?.as_ref()),
            false => Ok(None),
        };
        changes.push(FileChange {
            path: path.clone(),
            before: before.map(|entry| entry.kind),
            after: after.map(|entry| entry.kind),
            patch: patch.unwrap_or_default(),
        });
    }
    Ok(changes)
}

/// Reads a file of a tree.
///
/// # Errors
/// When it cannot be read.
pub fn read_file(tree: &Folder, path: &str, kind: EntryKind) -> Result<TreeFile, FileError> {
    use std::os::unix::ffi::OsStringExt;
    let content = match kind {
        EntryKind::Link => tree.read_link(path)?.into_vec(),
        EntryKind::File | EntryKind::Program => tree.read(path, u64::MAX)?,
    };
    Ok(TreeFile { kind, content })
}

impl Cache {
    /// Returns files of a tree as its listing has them: from the tree or, where that was changed too, from its archive.
    /// Nothing when neither has them, or they are too long to tell.
    pub fn right_files(
        &self,
        tree: TreeDigest,
        artifact: &Artifact,
        paths: &[&str],
    ) -> Option<BTreeMap<String, TreeFile>> {
        let listing = self.listing(tree).ok()?;
        let read_from = |folder: &Folder| {
            let read = |path: &&str| {
                let entry = listing.entries.get(*path).filter(|entry| entry.size <= MOST_TOLD)?;
                let file = read_file(folder, path, entry.kind).ok()?;
                (ContentDigest::of(&file.content) == entry.digest).then(|| ((*path).to_owned(), file))
            };
            paths.iter().map(read).collect::<Option<BTreeMap<String, TreeFile>>>()
        };
        self.tree(tree).ok().and_then(|folder| read_from(&folder)).or_else(|| {
            let staged = self
                .has_archive(artifact.digest)
                .then(|| self.stage_tree(artifact, None, UnpackConfig::default(), None));
            let staged = staged.and_then(Result::ok).filter(|staged| staged.tree() == tree)?;
            read_from(&staged.files().ok()?)
        })
    }
}
