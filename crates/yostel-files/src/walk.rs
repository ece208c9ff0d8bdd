//! Looking at everything below a folder: a few open handles whatever the depth, no recursion, and time in proportion to
//! what is there.

use std::ffi::{OsStr, OsString};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{AtFlags, Mode, OFlags};

use crate::entry::{Entry, Kind};
use crate::error::FileError;
use crate::folder::Folder;

/// Folders on the way down that stay open. Whatever is above them is opened again by `..` on the way back.
const HELD: usize = 4;

/// A way down into a tree, one folder below the other.
#[derive(Debug)]
struct Descent {
    levels: Vec<Level>,
}

#[derive(Debug)]
enum Level {
    Held(Folder),
    /// Closed, and by what it is known again.
    Left(Identity),
}

/// Device and number of a folder.
type Identity = (u64, u64);

impl Descent {
    fn from(top: Folder) -> Self {
        Self { levels: vec![Level::Held(top)] }
    }

    /// Returns the folder that was reached; none after the top was left.
    fn here(&self) -> Option<&Folder> {
        match self.levels.last() {
            Some(Level::Held(folder)) => Some(folder),
            Some(Level::Left(_)) | None => None,
        }
    }

    /// Goes down into a folder that is in the one that was reached.
    fn enter(&mut self, name: &OsStr) -> Result<(), FileError> {
        let Some(below) = self.here().map(|here| here.folder_to_list(name)).transpose()? else { return Ok(()) };
        if let Some(above) = self.levels.len().checked_sub(HELD)
            && let Level::Held(folder) = &self.levels[above]
        {
            self.levels[above] = Level::Left(folder.identity()?);
        }
        self.levels.push(Level::Held(below));
        Ok(())
    }

    /// Goes back up, to the very folder that this one was entered from.
    fn leave(&mut self) -> Result<(), FileError> {
        let Some(Level::Held(below)) = self.levels.pop() else { return Ok(()) };
        if let Some(above) = self.levels.last_mut()
            && let Level::Left(identity) = *above
        {
            *above = Level::Held(below.above(identity)?);
        }
        Ok(())
    }
}

impl Folder {
    fn identity(&self) -> Result<Identity, FileError> {
        let told = rustix::fs::fstat(&*self.handle);
        #[allow(clippy::unnecessary_cast, reason = "the types differ from system to system")]
        told.map(|stat| (stat.st_dev as u64, stat.st_ino as u64))
            .map_err(|errno| FileError::when("read", &self.path)(errno.into()))
    }

    /// Opens the folder that this one is in, which must be the one that is known.
    fn above(&self, known: Identity) -> Result<Self, FileError> {
        let path = self.path.parent().unwrap_or(&self.path).to_owned();
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let opened = rustix::fs::openat(&*self.handle, "..", flags, Mode::empty());
        let handle = opened.map_err(|errno| FileError::when("open the folder", &path)(errno.into()))?;
        let above = Self { handle: Arc::new(handle), path, listable: true, ..self.clone() };
        if above.identity()? == known {
            return Ok(above);
        }
        Err(FileError::unfit("read the folder", above.path, "it was moved at the same moment"))
    }

    /// Visits this folder and all below it, each with its path from here (empty for this one) and what is in it, sorted.
    /// Folders come in the order of their paths, those above before those below.
    ///
    /// # Errors
    /// When a folder cannot be read, and what `visit` returns.
    pub fn walk<E: From<FileError>>(
        &self,
        visit: impl FnMut(&Self, &Path, &[Entry]) -> Result<(), E>,
    ) -> Result<(), E> {
        self.walk_into(|_, _| true, visit)
    }

    /// Like [`Self::walk`], but only into folders that are accepted, by the folder that they are in and their path from here.
    ///
    /// # Errors
    /// As that.
    pub fn walk_into<E: From<FileError>>(
        &self,
        enters: impl Fn(&Self, &Path) -> bool,
        mut visit: impl FnMut(&Self, &Path, &[Entry]) -> Result<(), E>,
    ) -> Result<(), E> {
        let folders_of = |here: &Self, path: &Path, entries: &[Entry]| {
            let mut names = folders_of(entries);
            names.retain(|name| enters(here, &path.join(name)));
            names
        };
        let mut descent = Descent::from(self.clone());
        let mut path = PathBuf::new();
        // Of each level of the way down, the folders in it that were not entered yet, the next one last.
        let mut open = vec![folders_of(self, &path, &visited(self, &path, &mut visit)?)];
        while let Some(names) = open.last_mut() {
            if let Some(name) = names.pop() {
                descent.enter(&name)?;
                path.push(&name);
                let Some(here) = descent.here() else { break };
                open.push(folders_of(here, &path, &visited(here, &path, &mut visit)?));
            } else {
                open.pop();
                path.pop();
                descent.leave()?;
            }
        }
        Ok(())
    }

    /// Copies what is in this folder and below it into another one: files, which their owner may read and write there, and
    /// links as they are. Whether a folder is copied is asked before it is opened, with the folder that it is in and its path
    /// from here.
    ///
    /// # Errors
    /// When something cannot be read or written, and what `enters` returns.
    pub fn copy_into<E: From<FileError>>(
        &self,
        to: &Self,
        mut enters: impl FnMut(&Self, &Path) -> Result<bool, E>,
    ) -> Result<(), E> {
        let (mut from, mut into) = (Descent::from(self.clone()), Descent::from(to.clone()));
        let mut path = PathBuf::new();
        let mut open = vec![folders_of(&self.copy_files_into(to)?)];
        while let Some(names) = open.last_mut() {
            let (Some(here), Some(there)) = (from.here(), into.here()) else { break };
            if let Some(name) = names.pop() {
                path.push(&name);
                if !enters(here, &path)? {
                    path.pop();
                    continue;
                }
                there.make_folder(&name)?;
                from.enter(&name)?;
                into.enter(&name)?;
                let (Some(here), Some(there)) = (from.here(), into.here()) else { break };
                open.push(folders_of(&here.copy_files_into(there)?));
            } else {
                open.pop();
                path.pop();
                from.leave()?;
                into.leave()?;
            }
        }
        Ok(())
    }

    /// Copies the files and links in the folder itself; returns all that is in it.
    fn copy_files_into(&self, to: &Self) -> Result<Vec<Entry>, FileError> {
        let entries = self.entries()?;
        for Entry { name, kind, .. } in &entries {
            match kind {
                Kind::File => drop(self.copy(name, to, name, self.meta(name)?.mode & 0o777 | 0o600)?),
                Kind::Link => to.symlink(self.read_link(name)?, name)?,
                _ => {}
            }
        }
        Ok(entries)
    }

    /// Lists the files below, by path.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn files_below(&self) -> Result<Vec<PathBuf>, FileError> {
        let mut files = Vec::new();
        self.walk(|_, at, entries| {
            files.extend(entries.iter().filter(|entry| entry.kind == Kind::File).map(|entry| at.join(&entry.name)));
            Ok::<_, FileError>(())
        })?;
        Ok(files)
    }

    /// Removes a folder below with all that is in it.
    pub(crate) fn remove_tree(&self, below: &Path) -> io::Result<()> {
        let top = match self.folder_to_list(below) {
            Err(error) if error.is_not_found() => return Ok(()),
            other => other.map_err(|error| error.cause)?,
        };
        let mut open = vec![(below.as_os_str().to_owned(), top.remove_all_but_folders()?)];
        let mut descent = Descent::from(top);
        while let Some((_, names)) = open.last_mut() {
            if let Some(name) = names.pop() {
                match descent.enter(&name) {
                    Err(error) if error.is_not_found() => continue,
                    other => other.map_err(|error| error.cause)?,
                }
                let Some(here) = descent.here() else { break };
                open.push((name, here.remove_all_but_folders()?));
            } else if let Some((name, _)) = open.pop() {
                descent.leave().map_err(|error| error.cause)?;
                descent.here().unwrap_or(self).unlink(Path::new(&name), AtFlags::REMOVEDIR)?;
            }
        }
        Ok(())
    }

    /// Removes what is in the folder itself; returns the folders in it, which are left.
    fn remove_all_but_folders(&self) -> io::Result<Vec<OsString>> {
        let mut folders = Vec::new();
        for entry in self.list()? {
            match entry.kind {
                Kind::Folder => folders.push(entry.name),
                _ => self.unlink(Path::new(&entry.name), AtFlags::empty())?,
            }
        }
        Ok(folders)
    }
}

fn visited<E: From<FileError>>(
    folder: &Folder,
    path: &Path,
    visit: &mut impl FnMut(&Folder, &Path, &[Entry]) -> Result<(), E>,
) -> Result<Vec<Entry>, E> {
    let entries = folder.entries()?;
    visit(folder, path, &entries)?;
    Ok(entries)
}

/// Returns the names of the folders among what is in one, the first one last.
fn folders_of(entries: &[Entry]) -> Vec<OsString> {
    entries.iter().rev().filter(|entry| entry.kind == Kind::Folder).map(|entry| entry.name.clone()).collect()
}
