//! Many processes on one cache: what they must wait for, and nothing more.
//!
//! Two kinds of locks, both of the operating system, so that they end with the process, however it ends:
//! - *use*: everyone who installs from the cache or reads all of it shares it; only a prune wants it alone. It is on the
//!   cache's folder.
//! - *fetch*: a process writes down the archives it fetches, in a file it holds a lock on. Of several processes that want
//!   the same archive one fetches it, and the others wait for that file to go and find the archive there. All that one
//!   process wants is claimed at once, while it holds the gate, so no two can wait for each other; and a claim takes two
//!   open files, however many archives it is for.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::Read;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use yostel_documents::ArchiveDigest;
use yostel_files::{FileError, Folder, Hold, Kind, is_unfinished, lock, remove_unfinished};

use super::Cache;
use super::aside::remove_abandoned;

const FETCHING: &str = "fetching";
const GATE: &str = "gate";
const CLAIM: &str = "claim-";

/// The cache is in use; nothing in it is removed while this lives.
#[derive(Debug)]
#[must_use = "the cache may be pruned once this is dropped"]
pub struct InUse {
    root: std::path::PathBuf,
    guard: Option<File>,
}

/// The cache is nobody else's.
#[derive(Debug)]
pub(super) struct Alone {
    _guard: File,
}

/// Archives that no other process fetches while this lives.
#[derive(Debug)]
#[must_use = "others may fetch once this is dropped"]
pub struct Fetching {
    /// The cache's folder, and the claim with its lock; none when nothing was wanted.
    held: Option<(Folder, String, File)>,
}

impl Cache {
    /// Uses the cache together with others; calls `waiting` again and again while it is being
    /// pruned, which tells whether to go on.
    ///
    /// # Errors
    /// When the cache's folder cannot be made or locked.
    pub fn use_with_others(&self, waiting: impl FnMut() -> bool) -> Result<InUse, FileError> {
        let root = self.make_root()?;
        let guard = root.open_itself()?;
        lock(&guard, Hold::Shared, root.path(), waiting)?;
        clean_up(&root);
        Ok(InUse { root: self.root().to_owned(), guard: Some(guard) })
    }

    /// Waits until nobody uses the cache, then keeps others from it; calls `waiting` meanwhile, which tells whether to go on.
    pub(super) fn use_alone(&self, waiting: impl FnMut() -> bool) -> Result<Alone, FileError> {
        let root = self.folder()?;
        let guard = root.open_itself()?;
        lock(&guard, Hold::Alone, root.path(), waiting)?;
        Ok(Alone { _guard: guard })
    }

    /// Claims archives for fetching; waits for another process that fetches one of them, and calls `waiting` meanwhile,
    /// which tells whether to go on.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn claim(
        &self,
        archives: impl IntoIterator<Item = ArchiveDigest>,
        mut waiting: impl FnMut() -> bool,
    ) -> Result<Fetching, FileError> {
        let wanted: BTreeSet<ArchiveDigest> = archives.into_iter().collect();
        if wanted.is_empty() {
            return Ok(Fetching { held: None });
        }
        let root = self.make_root()?;
        loop {
            let Some((folder, gate)) = open_gate(&root)? else { continue };
            match other_claim(&folder, &wanted) {
                None => {
                    let (name, claim) = write_claim(&folder, &wanted)?;
                    drop(gate);
                    return Ok(Fetching { held: Some((root, name, claim)) });
                }
                Some((name, claim)) => {
                    drop(gate);
                    lock(&claim, Hold::Shared, &folder.path_of(name), &mut waiting)?;
                }
            }
        }
    }
}

/// Locks the gate, through which one process at a time looks at claims and makes one. Nothing when whoever was last
/// removed the folder meanwhile.
fn open_gate(root: &Folder) -> Result<Option<(Folder, File)>, FileError> {
    let folder = root.make_folders(FETCHING)?;
    let gate = match folder.open_guard(GATE) {
        Err(error) if error.is_not_found() => return Ok(None),
        other => other?,
    };
    gate.lock().map_err(FileError::when("lock", folder.path_of(GATE)))?;
    let inode = gate.metadata().map_err(FileError::when("read", folder.path_of(GATE)))?.ino();
    // Through the root: the folder that is held may have been removed and made again.
    let is_still = root.meta(format!("{FETCHING}/{GATE}")).is_ok_and(|meta| meta.inode == inode);
    Ok(is_still.then_some((folder, gate)))
}

/// Finds a living process's claim on one of these, and removes those of processes that ended. The gate is held.
fn other_claim(folder: &Folder, wanted: &BTreeSet<ArchiveDigest>) -> Option<(String, File)> {
    for entry in folder.entries().unwrap_or_default() {
        if entry.kind != Kind::File || !entry.text().starts_with(CLAIM) {
            continue;
        }
        let Ok(mut claim) = folder.open_file(&entry.name) else { continue };
        if claim.try_lock_shared().is_ok() {
            folder.remove(&entry.name).ok();
            continue;
        }
        let mut text = String::new();
        let claimed = claim.read_to_string(&mut text).is_ok()
            && text.lines().any(|line| ArchiveDigest::parse(line).is_ok_and(|digest| wanted.contains(&digest)));
        if claimed {
            return Some((entry.text().into_owned(), claim));
        }
    }
    None
}

/// Writes a claim and locks it. The gate is held, so nobody sees it unlocked.
fn write_claim(folder: &Folder, wanted: &BTreeSet<ArchiveDigest>) -> Result<(String, File), FileError> {
    let process = std::process::id();
    let name = (0u32..).map(|number| format!("{CLAIM}{process}-{number}")).find(|name| !folder.exists(name));
    let name = name.expect("no process makes that many claims");
    let mut claim = folder.create(&name, 0o644)?;
    let text: String = wanted.iter().map(|digest| format!("{digest}\n")).collect();
    let written = std::io::Write::write_all(&mut claim, text.as_bytes());
    let locked = written.map_err(|cause| claim.failed(cause)).and_then(|()| {
        let claim = claim.into_file();
        claim.lock().map_err(FileError::when("lock", folder.path_of(&name)))?;
        Ok(claim)
    });
    if locked.is_err() {
        folder.remove(&name).ok();
    }
    Ok((name, locked?))
}

/// Removes what processes left that were killed: their folders aside and their claims.
fn clean_up(root: &Folder) {
    remove_abandoned(root);
    let journals = root.entries_of("journal").unwrap_or_default().into_iter();
    let journals = journals.map(|entry| Path::new("journal").join(entry.name));
    for folder in journals.chain([PathBuf::from("projects")]) {
        if let Ok(folder) = root.folder(folder) {
            let names = folder.entries().unwrap_or_default().into_iter().map(|entry| entry.name);
            remove_unfinished(&folder, names.filter(|name| is_unfinished(name)));
        }
    }
    if root.has(FETCHING, Kind::Folder)
        && let Ok(Some((folder, gate))) = open_gate(root)
    {
        other_claim(&folder, &BTreeSet::new());
        remove_if_unused(root, &folder, gate);
    }
}

/// Removes the folder of claims when there is none left. The gate is held, and goes with it.
fn remove_if_unused(root: &Folder, folder: &Folder, gate: File) {
    let is_empty = folder.entries().is_ok_and(|entries| entries.iter().all(|entry| entry.name == GATE));
    if is_empty && folder.remove(GATE).is_ok() {
        root.remove_if_empty(FETCHING);
    }
    drop(gate);
}

impl Drop for Fetching {
    fn drop(&mut self) {
        let Some((root, name, claim)) = self.held.take() else { return };
        // The name first: once the lock is free, nobody must find a file that goes away.
        if let Ok(folder) = root.folder(FETCHING) {
            folder.remove(&name).ok();
        }
        drop(claim);
        if let Ok(Some((folder, gate))) = open_gate(&root) {
            remove_if_unused(&root, &folder, gate);
        }
    }
}

impl Drop for InUse {
    fn drop(&mut self) {
        self.guard.take();
        // A cache that was empty and stayed so leaves no folder behind; any other is not empty.
        if let (Some(parent), Some(name)) = (self.root.parent(), self.root.file_name())
            && let Ok(parent) = Folder::open(parent)
        {
            parent.remove_if_empty(name);
        }
    }
}
