//! The folder aside in which one process makes things before they get their names.
//!
//! Life of one: made as `new-…`, its guard file locked, renamed to `work-…`; removed when the process ends. A process
//! that was killed leaves it behind without a lock, and the next process that writes removes it. A `new-…` folder is
//! left alone for an hour, so one that is being made is safe.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::error::StoreError;

/// How old a folder is that nobody is making any more.
const ABANDONED: Duration = Duration::from_secs(3600);

#[derive(Debug)]
pub(crate) struct Aside {
    path: PathBuf,
    _guard: File,
}

impl Aside {
    pub(crate) fn new(parent: &Path) -> Result<Self, StoreError> {
        let made = make_new(parent)?;
        remove_abandoned(parent);
        let guard_path = made.path().join("guard");
        let guard = File::create(&guard_path).map_err(StoreError::when("write", &guard_path))?;
        guard.lock().map_err(StoreError::when("lock", &guard_path))?;
        let name =
            made.path().file_name().expect("a made folder has a name").to_string_lossy().replace("new-", "work-");
        let path = parent.join(name);
        fs::rename(made.path(), &path).map_err(StoreError::when("rename", made.path()))?;
        // The folder now has another name; there is nothing left under the first for `made` to remove.
        let _ = made.keep();
        Ok(Self { path, _guard: guard })
    }

    pub(crate) fn file(&self) -> Result<tempfile::NamedTempFile, StoreError> {
        tempfile::NamedTempFile::new_in(&self.path).map_err(StoreError::when("write in", &self.path))
    }

    pub(crate) fn folder(&self) -> Result<tempfile::TempDir, StoreError> {
        tempfile::TempDir::new_in(&self.path).map_err(StoreError::when("make a folder in", &self.path))
    }
}

impl Drop for Aside {
    fn drop(&mut self) {
        fs::remove_dir_all(&self.path).ok();
        // A cache that was empty and stayed so leaves no folder behind; folders in use are not empty and stay.
        if let Some(parent) = self.path.parent()
            && fs::remove_dir(parent).is_ok()
            && let Some(root) = parent.parent()
        {
            fs::remove_dir(root).ok();
        }
    }
}

/// Another process that ends may remove the empty parent just before the new folder is made in it: then again.
fn make_new(parent: &Path) -> Result<tempfile::TempDir, StoreError> {
    let mut tries = 0;
    loop {
        fs::create_dir_all(parent).map_err(StoreError::when("make the folder", parent))?;
        match tempfile::Builder::new().prefix("new-").tempdir_in(parent) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && tries < 100 => tries += 1,
            made => return made.map_err(StoreError::when("make a folder in", parent)),
        }
    }
}

pub(super) fn remove_abandoned(parent: &Path) {
    let Ok(entries) = fs::read_dir(parent) else { return };
    for entry in entries.flatten() {
        if entry.file_name().to_string_lossy().starts_with("new-") {
            // Its process died between two calls, or is between them now; after an hour it is the former.
            let made = entry.metadata().and_then(|metadata| metadata.modified()).ok();
            if made.and_then(|made| made.elapsed().ok()).is_some_and(|age| age > ABANDONED) {
                fs::remove_dir_all(entry.path()).ok();
            }
        }
        if entry.file_name().to_string_lossy().starts_with("work-") {
            let guard = File::open(entry.path().join("guard"));
            if guard.is_ok_and(|guard| guard.try_lock().is_ok()) {
                fs::remove_dir_all(entry.path()).ok();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_killed_process_left_is_removed_and_what_a_living_one_has_is_not() {
        let parent = tempfile::tempdir().unwrap();
        let living = Aside::new(parent.path()).unwrap();
        let dead = parent.path().join("work-dead");
        fs::create_dir(&dead).unwrap();
        fs::write(dead.join("guard"), "").unwrap();
        fs::write(dead.join("half"), "half").unwrap();
        let next = Aside::new(parent.path()).unwrap();
        assert!(!dead.exists() && living.path.exists() && next.path.exists());
        drop((living, next));
        assert!(!parent.path().exists(), "nothing is left, not even the empty folder");
    }
}
