//! The folder aside in which one process makes things before they get their names.
//!
//! It lives as long as its process, which holds a lock on the guard file inside. A process that was killed leaves it
//! behind without a lock, and the next process that writes removes it. One that is just being made may be taken for such;
//! whoever makes it then finds it gone and makes another.

use std::fs::File;
use std::sync::atomic::{AtomicU64, Ordering};

use yostel_files::{FileError, Folder, Kind};

const NAME: &str = "aside";

#[derive(Debug)]
pub(crate) struct Aside {
    root: Folder,
    name: String,
    folder: Folder,
    next: AtomicU64,
    _guard: File,
}

/// A file or folder aside. It goes when this is dropped, unless it was renamed by then.
#[derive(Debug)]
pub(crate) struct Made {
    folder: Folder,
    name: String,
}

impl Aside {
    pub(crate) fn new(root: &Folder) -> Result<Self, FileError> {
        remove_abandoned(root);
        let mut tries = 0;
        loop {
            match Self::try_new(root) {
                Err(error) if error.is_not_found() && tries < 100 => {
                    tries += 1;
                    // Others come and go at the same time; whoever waits a little is past them.
                    std::thread::sleep(std::time::Duration::from_micros(50 * tries));
                }
                made => return made,
            }
        }
    }

    fn try_new(root: &Folder) -> Result<Self, FileError> {
        let parent = root.make_folders(NAME)?;
        let (name, folder) = parent.make_own_folder("work-")?;
        let made = Made { folder: parent.clone(), name };
        match guarded(&folder) {
            Ok(guard) => {
                let name = made.keep();
                Ok(Self { root: root.clone(), name, folder, next: AtomicU64::new(0), _guard: guard })
            }
            Err(error) => {
                if error.is_not_found() {
                    // It is gone, and by now the name may be another's.
                    made.keep();
                }
                Err(error)
            }
        }
    }

    /// Returns the folder in which things are made.
    pub(crate) fn folder(&self) -> &Folder {
        &self.folder
    }

    /// Returns a name at which nothing is yet.
    pub(crate) fn place(&self) -> Made {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        Made { folder: self.folder.clone(), name: number.to_string() }
    }

    /// Makes a folder; returns it opened, too.
    pub(crate) fn make_folder(&self) -> Result<(Made, Folder), FileError> {
        let made = self.place();
        let folder = made.folder.make_folder(&made.name)?;
        Ok((made, folder))
    }
}

/// Makes the guard of a folder that was just made, and locks it.
fn guarded(folder: &Folder) -> Result<File, FileError> {
    let guard = folder.create("guard", 0o644)?.into_file();
    guard.lock().map_err(FileError::when("lock", folder.path_of("guard")))?;
    // Whoever took it for abandoned held this lock until it was gone.
    folder.meta("guard")?;
    Ok(guard)
}

impl Made {
    /// Returns the folder it is in, and its name there.
    pub(crate) fn at(&self) -> (&Folder, &str) {
        (&self.folder, &self.name)
    }

    /// Leaves it where it is.
    fn keep(mut self) -> String {
        std::mem::take(&mut self.name)
    }
}

impl Drop for Made {
    fn drop(&mut self) {
        if !self.name.is_empty() {
            self.folder.remove(&self.name).ok();
        }
    }
}

impl Drop for Aside {
    fn drop(&mut self) {
        if let Ok(parent) = self.root.folder(NAME) {
            parent.remove(&self.name).ok();
        }
        // A cache that was empty and stayed so leaves no folder behind; folders in use are not empty and stay.
        self.root.remove_if_empty(NAME);
    }
}

pub(super) fn remove_abandoned(root: &Folder) {
    let Ok(parent) = root.folder(NAME) else { return };
    for entry in parent.entries().unwrap_or_default() {
        let guard = match entry.kind {
            Kind::Folder => parent.folder(&entry.name).and_then(|folder| folder.open_file("guard")),
            // Nothing we made is a file here.
            _ => continue,
        };
        match guard {
            // The lock is held until the folder is gone, so that whoever is making it sees that.
            Ok(guard) => {
                if guard.try_lock().is_ok() {
                    parent.remove(&entry.name).ok();
                }
            }
            Err(_) => drop(parent.remove_if_empty(&entry.name)),
        }
    }
    root.remove_if_empty(NAME);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_killed_process_left_is_removed_and_what_a_living_one_has_is_not() {
        let root = tempfile::tempdir().unwrap();
        let root = Folder::open(root.path()).unwrap();
        let living = Aside::new(&root).unwrap();
        let parent = root.folder(NAME).unwrap();
        parent.make_folder("work-empty").unwrap();
        let dead = parent.make_folder("work-dead").unwrap();
        dead.write_loosely("guard", "").unwrap();
        dead.write_loosely("half", "half").unwrap();
        let next = Aside::new(&root).unwrap();
        assert!(!parent.exists("work-empty") && !parent.exists("work-dead"));
        assert!(parent.exists(&living.name) && parent.exists(&next.name));
        drop((living, next));
        assert!(!root.exists(NAME), "nothing is left, not even the empty folder");
    }

    /// The accident this prevents: a folder is taken for abandoned while it is made, its name is used again, and whoever
    /// had it first removes what it holds by then.
    #[test]
    fn many_at_once_never_remove_each_others_folder() {
        let root = tempfile::tempdir().unwrap();
        for _ in 0..100 {
            std::thread::scope(|scope| {
                for _ in 0..8 {
                    scope.spawn(|| {
                        let aside = Aside::new(&Folder::open(root.path()).unwrap()).unwrap();
                        let (_made, folder) = aside.make_folder().unwrap();
                        folder.write_loosely("file", "content").unwrap();
                        assert_eq!(folder.read_text("file", 10).unwrap(), "content");
                    });
                }
            });
        }
    }

    #[test]
    #[allow(clippy::disallowed_methods, reason = "the trap is set by hand")]
    fn nothing_is_made_or_removed_through_a_link() {
        let world = tempfile::tempdir().unwrap();
        let (root, other) = (world.path().join("cache"), world.path().join("other"));
        std::fs::create_dir(&root).unwrap();
        std::fs::create_dir_all(other.join("work-1")).unwrap();
        std::os::unix::fs::symlink(&other, root.join(NAME)).unwrap();
        let root = Folder::open(&root).unwrap();
        assert!(Aside::new(&root).is_err());
        assert!(other.join("work-1").is_dir());
    }
}
