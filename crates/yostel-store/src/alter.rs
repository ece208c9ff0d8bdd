//! Trees with local changes: made from the tree of an archive and a patch, and kept in the cache beside it.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;

use yostel_documents::{
    ContentDigest, Entry, EntryKind, LinkFault, Listing, Patch, Rejected, TreeDigest, TreeFile, check_links, fold,
};
use yostel_files::{FileError, Nearby};

use crate::cache::{Cache, StagedTree};
use crate::changes::read_file;
use crate::pack::fixed_time;

/// Why a tree was not changed.
#[derive(Debug, thiserror::Error)]
pub enum AlterError {
    /// The patch does not fit the files.
    #[error("the patch does not fit `{}`", .0.path)]
    Rejected(Rejected),
    /// The patch makes a link that leads where none may, or leads another one there.
    #[error("with the patch, the link `{path}` {}", fault.as_str())]
    Link {
        /// The link.
        path: String,
        /// What is wrong.
        fault: LinkFault,
    },
    /// The patch makes a tree with a path below a file, or with two that are one on some systems.
    #[error("the patch makes `{0}`, which stands in the way of another file")]
    InTheWay(String),
    /// The patch makes another tree than was locked.
    #[error("the patch makes tree {found}, expected {expected}")]
    TreeDiffers {
        /// What the lockfile says.
        expected: TreeDigest,
        /// What it makes.
        found: TreeDigest,
    },
    /// The machine refused.
    #[error(transparent)]
    Store(#[from] FileError),
}

impl Cache {
    /// Makes a tree from another that is in the cache and sound, and a patch, aside. It gets its name with
    /// [`Cache::commit`]. Files that the patch leaves alone are the same files.
    ///
    /// # Errors
    /// `Rejected` for a patch that does not fit, `TreeDiffers` when another tree is expected. Nothing stays.
    pub fn stage_altered(
        &self,
        base: TreeDigest,
        patch: &Patch,
        expected: Option<TreeDigest>,
    ) -> Result<StagedTree, AlterError> {
        let mut listing = self.listing(base)?;
        let from = self.tree(base)?;
        let mut changed: BTreeMap<&str, TreeFile> = BTreeMap::new();
        for file in &patch.files {
            let before = listing.entries.get(&file.path).map(|entry| read_file(&from, &file.path, entry.kind));
            match file.apply(before.transpose()?.as_ref()).map_err(AlterError::Rejected)? {
                None => drop(listing.entries.remove(&file.path)),
                Some(after) => {
                    let (digest, size) = (ContentDigest::of(&after.content), after.content.len() as u64);
                    listing.entries.insert(file.path.clone(), Entry { kind: after.kind, digest, size });
                    changed.insert(&file.path, after);
                }
            }
        }
        if let Some(path) = in_the_way(&listing) {
            return Err(AlterError::InTheWay(path));
        }
        let mut targets: BTreeMap<&str, String> = BTreeMap::new();
        for (path, entry) in listing.entries.iter().filter(|(_, entry)| entry.kind == EntryKind::Link) {
            let content = match changed.get(path.as_str()) {
                Some(file) => file.content.clone(),
                None => read_file(&from, path, entry.kind)?.content,
            };
            // What is not UTF-8 is refused as an empty target is.
            targets.insert(path, String::from_utf8(content).unwrap_or_default());
        }
        let nodes = listing.entries.keys().map(|path| (path.as_str(), targets.get(path.as_str()).map(String::as_str)));
        check_links(nodes).map_err(|(path, fault)| AlterError::Link { path: path.to_owned(), fault })?;
        let found = listing.digest();
        if let Some(expected) = expected.filter(|expected| *expected != found) {
            return Err(AlterError::TreeDiffers { expected, found });
        }
        Ok(self.stage_files(&listing, |into| {
            let (mut from, mut into) = (Nearby::new(from.clone()), Nearby::new(into.clone()));
            for (path, entry) in &listing.entries {
                match changed.get(path.as_str()) {
                    Some(file) => write_file(&mut into, path, file, WrittenFor::Install)?,
                    None => place(&mut from, &mut into, path, entry)?,
                }
            }
            Ok(())
        })?)
    }
}

/// What a file is written for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum WrittenFor {
    /// To be installed: read-only, with the time that all such files have.
    Install,
    /// To be worked on.
    Work,
}

pub(crate) fn write_file(into: &mut Nearby, path: &str, file: &TreeFile, used: WrittenFor) -> Result<(), FileError> {
    let (folder, name) = into.made_for(path)?;
    let mode = match (file.kind, used) {
        (EntryKind::Link, _) => return folder.symlink(OsStr::from_bytes(&file.content), name),
        (EntryKind::File, WrittenFor::Install) => 0o444,
        (EntryKind::Program, WrittenFor::Install) => 0o555,
        (EntryKind::File, WrittenFor::Work) => 0o644,
        (EntryKind::Program, WrittenFor::Work) => 0o755,
    };
    let mut made = folder.create(name, mode)?;
    made.write_all(&file.content).map_err(|cause| made.failed(cause))?;
    match used {
        WrittenFor::Install => made.set_time(fixed_time()),
        WrittenFor::Work => Ok(()),
    }
}

/// The mode of an installed file.
pub(crate) fn installed_mode(kind: EntryKind) -> u32 {
    if kind == EntryKind::Program { 0o555 } else { 0o444 }
}

/// Puts the same file at the same path of another tree too.
fn place(from: &mut Nearby, into: &mut Nearby, path: &str, entry: &Entry) -> Result<(), FileError> {
    let (there, name) = from.of(path)?;
    let (here, _) = into.made_for(path)?;
    if entry.kind == EntryKind::Link {
        return here.symlink(there.read_link(name)?, name);
    }
    match there.hard_link(name, here, name) {
        Ok(()) => Ok(()),
        Err(_) => there.copy(name, here, name, installed_mode(entry.kind))?.set_time(fixed_time()),
    }
}

/// Finds a path that cannot be where it is: below a file, or the same as another on some systems.
fn in_the_way(listing: &Listing) -> Option<String> {
    let mut folded: BTreeMap<String, (&str, bool)> = BTreeMap::new();
    let mut seen = BTreeSet::new();
    for path in listing.entries.keys() {
        let parts = path.match_indices('/').map(|(at, _)| &path[..at]);
        for (part, is_folder) in parts.map(|part| (part, true)).chain([(path.as_str(), false)]) {
            let first = folded.entry(fold(part)).or_insert((part, is_folder));
            if *first != (part, is_folder) || !is_folder && !seen.insert(part) {
                return Some(path.clone());
            }
        }
    }
    None
}
