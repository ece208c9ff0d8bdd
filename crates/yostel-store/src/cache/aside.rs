//! The folder aside in which one process makes things before they get their names.
//!
//! It lives as long as its process, which holds a lock on the guard file inside. A process that was killed leaves it
//! behind without a lock, and the next process that writes removes it. One that is just being made may be taken for such;
//! whoever makes it then finds it gone and makes another.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use crate::disk::Disk;
use crate::error::StoreError;

#[derive(Debug)]
pub(crate) struct Aside {
    disk: Disk,
    path: PathBuf,
    next: AtomicU64,
    _guard: File,
}

/// A file or folder aside. It goes when this is dropped, unless it was renamed by then.
#[derive(Debug)]
pub(crate) struct Made {
    disk: Disk,
    path: PathBuf,
}

impl Aside {
    pub(crate) fn new(disk: &Disk, parent: &Path) -> Result<Self, StoreError> {
        remove_abandoned(disk, parent);
        let mut tries = 0;
        loop {
            match Self::try_new(disk, parent) {
                Err(error) if error.cause.kind() == io::ErrorKind::NotFound && tries < 100 => tries += 1,
                made => return made,
            }
        }
    }

    fn try_new(disk: &Disk, parent: &Path) -> Result<Self, StoreError> {
        disk.make_folders(parent)?;
        let path = disk.make_own_folder(parent, "work-")?;
        let made = Made { disk: disk.clone(), path };
        let guard_path = made.path.join("guard");
        let guard = disk.create(&guard_path, 0o644)?.into_file();
        guard.lock().map_err(StoreError::when("lock", &guard_path))?;
        // Whoever took it for abandoned held this lock until it was gone.
        fs::metadata(&guard_path).map_err(StoreError::when("lock", &guard_path))?;
        let path = made.keep();
        Ok(Self { disk: disk.clone(), path, next: AtomicU64::new(0), _guard: guard })
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Returns a path at which nothing is yet.
    pub(crate) fn place(&self) -> Made {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        Made { disk: self.disk.clone(), path: self.path.join(number.to_string()) }
    }

    /// Makes a folder.
    pub(crate) fn folder(&self) -> Result<Made, StoreError> {
        let made = self.place();
        self.disk.make_folder(&made.path)?;
        Ok(made)
    }
}

impl Made {
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Leaves it where it is.
    fn keep(mut self) -> PathBuf {
        std::mem::take(&mut self.path)
    }
}

impl Drop for Made {
    fn drop(&mut self) {
        if !self.path.as_os_str().is_empty() {
            self.disk.remove(&self.path).ok();
        }
    }
}

impl Drop for Aside {
    fn drop(&mut self) {
        self.disk.remove(&self.path).ok();
        // A cache that was empty and stayed so leaves no folder behind; folders in use are not empty and stay.
        if let Some(parent) = self.path.parent()
            && self.disk.remove_if_empty(parent)
            && let Some(root) = parent.parent()
        {
            self.disk.remove_if_empty(root);
        }
    }
}

pub(super) fn remove_abandoned(disk: &Disk, parent: &Path) {
    for entry in fs::read_dir(parent).into_iter().flatten().flatten() {
        match File::open(entry.path().join("guard")) {
            // The lock is held until the folder is gone, so that whoever is making it sees that.
            Ok(guard) => {
                if guard.try_lock().is_ok() {
                    disk.remove(&entry.path()).ok();
                }
            }
            Err(_) => drop(disk.remove_if_empty(&entry.path())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_killed_process_left_is_removed_and_what_a_living_one_has_is_not() {
        let parent = tempfile::tempdir().unwrap();
        let disk = Disk::default();
        let living = Aside::new(&disk, parent.path()).unwrap();
        let empty = parent.path().join("work-empty");
        fs::create_dir(&empty).unwrap();
        let dead = parent.path().join("work-dead");
        fs::create_dir(&dead).unwrap();
        fs::write(dead.join("guard"), "").unwrap();
        fs::write(dead.join("half"), "half").unwrap();
        let next = Aside::new(&disk, parent.path()).unwrap();
        assert!(!dead.exists() && !empty.exists() && living.path.exists() && next.path.exists());
        drop((living, next));
        assert!(!parent.path().exists(), "nothing is left, not even the empty folder");
    }
}
