//! Many processes on one cache: what they must wait for, and nothing more.
//!
//! Two kinds of locks, both of the operating system, so that they end with the process, however it ends:
//! - *use*: everyone who installs from the cache shares it; only a prune wants it alone. It is on the cache's folder.
//! - *fetch*: one a digest, so that of several processes that want the same archive one fetches it and the others find
//!   it there. All that one process wants are taken in the order of their digests, so no two can wait for each other.

use std::fs::{self, File};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;

use yostel_core::ArchiveDigest;

use super::Cache;
use super::aside::remove_abandoned;
use crate::disk::Disk;
use crate::error::StoreError;
use crate::locking::{Hold, lock};

/// The cache is in use; nothing in it is removed while this lives.
#[derive(Debug)]
#[must_use = "the cache may be pruned once this is dropped"]
pub struct InUse {
    disk: Disk,
    root: PathBuf,
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
    disk: Disk,
    folder: PathBuf,
    guards: Vec<(PathBuf, File)>,
}

impl Cache {
    /// Uses the cache together with others; calls `waiting` once when it is being pruned.
    ///
    /// # Errors
    /// When the cache's folder cannot be made or locked.
    pub fn use_with_others(&self, waiting: impl FnOnce()) -> Result<InUse, StoreError> {
        self.disk.make_folders(&self.root)?;
        let guard = File::open(&self.root).map_err(StoreError::when("open the folder", &self.root))?;
        lock(&guard, Hold::Shared, &self.root, waiting)?;
        self.clean_up();
        Ok(InUse { disk: self.disk.clone(), root: self.root.clone(), guard: Some(guard) })
    }

    /// Waits until nobody uses the cache, then keeps others from it; calls `waiting` once when somebody does.
    pub(super) fn use_alone(&self, waiting: impl FnOnce()) -> Result<Alone, StoreError> {
        let guard = File::open(&self.root).map_err(StoreError::when("open the folder", &self.root))?;
        lock(&guard, Hold::Alone, &self.root, waiting)?;
        Ok(Alone { _guard: guard })
    }

    /// Claims archives for fetching; calls `waiting` once when another process fetches one of them, and waits for it.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn claim(
        &self,
        archives: impl IntoIterator<Item = ArchiveDigest>,
        waiting: impl FnOnce(),
    ) -> Result<Fetching, StoreError> {
        let folder = self.root.join("fetching");
        let mut archives: Vec<ArchiveDigest> = archives.into_iter().collect();
        archives.sort_unstable();
        archives.dedup();
        let mut waiting = Some(waiting);
        let mut fetching = Fetching { disk: self.disk.clone(), folder: folder.clone(), guards: Vec::new() };
        for archive in archives {
            let path = folder.join(archive.to_hex());
            loop {
                self.disk.make_folders(&folder)?;
                let opened = File::options().append(true).create(true).open(&path);
                let guard = match opened {
                    // Whoever was last removed the folder between the two calls.
                    Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                    other => other.map_err(StoreError::when("write", &path))?,
                };
                lock(&guard, Hold::Alone, &path, || {
                    if let Some(waiting) = waiting.take() {
                        waiting();
                    }
                })?;
                // Whoever held it removed the file; then the lock is on something that no newcomer sees.
                let inode = guard.metadata().map_err(StoreError::when("read", &path))?.ino();
                if fs::metadata(&path).is_ok_and(|there| there.ino() == inode) {
                    fetching.guards.push((path, guard));
                    break;
                }
            }
        }
        Ok(fetching)
    }

    /// Removes what processes left that were killed: their folders aside and their claims.
    fn clean_up(&self) {
        let aside = self.root.join("aside");
        remove_abandoned(&self.disk, &aside);
        self.disk.remove_if_empty(&aside);
        let fetching = self.root.join("fetching");
        for claim in fs::read_dir(&fetching).into_iter().flatten().flatten() {
            // The lock is held until the file is gone, so nobody claims it in between.
            if let Ok(guard) = File::open(claim.path())
                && guard.try_lock().is_ok()
            {
                self.disk.remove(&claim.path()).ok();
            }
        }
        self.disk.remove_if_empty(&fetching);
    }
}

impl Drop for Fetching {
    fn drop(&mut self) {
        for (path, guard) in self.guards.drain(..) {
            // The name first: once the lock is free, nobody must find a file that goes away.
            self.disk.remove(&path).ok();
            drop(guard);
        }
        self.disk.remove_if_empty(&self.folder);
    }
}

impl Drop for InUse {
    fn drop(&mut self) {
        self.guard.take();
        // A cache that was empty and stayed so leaves no folder behind; any other is not empty.
        self.disk.remove_if_empty(&self.root);
    }
}
