//! Trees with local changes: made from the tree of an archive and a patch, and kept in the cache beside it.

use std::ffi::OsStr;
use std::fs;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use yostel_core::{ContentDigest, Entry, EntryKind, Listing, Patch, Rejected, TreeDigest, TreeFile, link_stays_inside};

use crate::cache::{Cache, StagedTree};
use crate::changes::read_file;
use crate::disk::Disk;
use crate::error::StoreError;

/// Why a tree was not changed.
#[derive(Debug, thiserror::Error)]
pub enum AlterError {
    /// The patch does not fit the files.
    #[error("the patch does not fit `{}`", .0.path)]
    Rejected(Rejected),
    /// The patch makes a link that leads out of the package.
    #[error("the patch makes `{0}` a link that leads out of the package")]
    LinkLeaves(String),
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
    Store(#[from] StoreError),
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
        let from = self.tree_files(base);
        let mut changed: Vec<(&str, TreeFile)> = Vec::new();
        for file in &patch.files {
            let before = listing.entries.get(&file.path).map(|entry| read_file(&from.join(&file.path), entry.kind));
            match file.apply(before.transpose()?.as_ref()).map_err(AlterError::Rejected)? {
                None => drop(listing.entries.remove(&file.path)),
                Some(after) => {
                    let target = std::str::from_utf8(&after.content).unwrap_or_default();
                    if after.kind == EntryKind::Link && !link_stays_inside(&file.path, target) {
                        return Err(AlterError::LinkLeaves(file.path.clone()));
                    }
                    let (digest, size) = (ContentDigest::of(&after.content), after.content.len() as u64);
                    listing.entries.insert(file.path.clone(), Entry { kind: after.kind, digest, size });
                    changed.push((&file.path, after));
                }
            }
        }
        if let Some(path) = in_the_way(&listing) {
            return Err(AlterError::InTheWay(path));
        }
        let found = listing.digest();
        if let Some(expected) = expected.filter(|expected| *expected != found) {
            return Err(AlterError::TreeDiffers { expected, found });
        }
        let disk = self.disk();
        Ok(self.stage_files(&listing, |into| {
            for path in listing.entries.keys() {
                let to = into.join(path);
                disk.make_folders(to.parent().unwrap_or(into))?;
                match changed.iter().find(|(changed, _)| changed == path) {
                    Some((_, file)) => write_file(disk, &to, file, WrittenFor::Install)?,
                    None => place(disk, &from.join(path), &to)?,
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

pub(crate) fn write_file(disk: &Disk, to: &Path, file: &TreeFile, used: WrittenFor) -> Result<(), StoreError> {
    let mode = match (file.kind, used) {
        (EntryKind::Link, _) => return disk.symlink(OsStr::from_bytes(&file.content), to),
        (EntryKind::File, WrittenFor::Install) => 0o444,
        (EntryKind::Program, WrittenFor::Install) => 0o555,
        (EntryKind::File, WrittenFor::Work) => 0o644,
        (EntryKind::Program, WrittenFor::Work) => 0o755,
    };
    let mut made = disk.create(to, mode)?;
    made.write_all(&file.content).map_err(StoreError::when("write", to))?;
    match used {
        WrittenFor::Install => made.fix_time(),
        WrittenFor::Work => Ok(()),
    }
}

/// Puts the same file at another place too.
fn place(disk: &Disk, from: &Path, to: &Path) -> Result<(), StoreError> {
    match fs::read_link(from) {
        Ok(target) => disk.symlink(target, to),
        Err(_) => disk.hard_link(from, to).or_else(|_| disk.copy(from, to)),
    }
}

/// Finds a path that cannot be where it is: below a file, or the same as another on some systems.
fn in_the_way(listing: &Listing) -> Option<String> {
    let mut folded = std::collections::BTreeMap::new();
    for path in listing.entries.keys() {
        let parts = path.match_indices('/').map(|(at, _)| &path[..at]);
        for (part, is_folder) in parts.map(|part| (part, true)).chain([(path.as_str(), false)]) {
            let first = folded.entry(crate::unpack::fold(part)).or_insert((part, is_folder));
            if *first != (part, is_folder) || !is_folder && *first != (path.as_str(), false) {
                return Some(path.clone());
            }
        }
    }
    None
}
