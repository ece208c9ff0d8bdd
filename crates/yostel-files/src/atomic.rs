//! Replacing a file so that readers, and a machine that loses power, see the old content or the new, never a part.
//!
//! The new content is written beside it under one name that only says whose it is (`.NAME.yostel-new`), with a lock
//! held: a second writer of the same file waits, and what a killed one left is written over by the next, or removed by
//! [`remove_unfinished`].

use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};

use rustix::fs::{AtFlags, Mode, OFlags};

use crate::disk::{Disk, NewFile, Step};
use crate::entry::Kind;
use crate::error::FileError;
use crate::folder::Folder;

const ENDING: &str = ".yostel-new";

/// Tells whether a name is that of a file that is being written, or was when its writer was killed.
pub fn is_unfinished(name: &OsStr) -> bool {
    let name = name.as_encoded_bytes();
    name.starts_with(b".") && name.ends_with(ENDING.as_bytes()) && name.len() > ENDING.len() + 1
}

fn unfinished_name(name: &OsStr) -> OsString {
    let mut beside = OsString::from(".");
    // A name may have 255 bytes; what is cut off only makes two writers wait for each other.
    let room = 255 - 1 - ENDING.len();
    match name.to_str() {
        Some(text) if text.len() > room => {
            let mut end = room;
            while !text.is_char_boundary(end) {
                end -= 1;
            }
            beside.push(&text[..end]);
        }
        _ => beside.push(name),
    }
    beside.push(ENDING);
    beside
}

/// Removes what killed writers left directly in a folder; what is being written is left alone. Returns how much went.
pub fn remove_unfinished(folder: &Folder, names: impl IntoIterator<Item = impl AsRef<OsStr>>) -> usize {
    let mut removed = 0;
    for name in names {
        let beside =
            if is_unfinished(name.as_ref()) { name.as_ref().to_owned() } else { unfinished_name(name.as_ref()) };
        if folder.has(&beside, Kind::File)
            && let Ok(file) = folder.open_file(&beside)
            && file.try_lock().is_ok()
            && is_still(folder, &beside, &file)
        {
            removed += usize::from(folder.remove(&beside).is_ok());
        }
    }
    removed
}

fn is_still(folder: &Folder, name: &OsStr, file: &File) -> bool {
    let inode = file.metadata().map(|metadata| metadata.ino());
    folder.meta(name).is_ok_and(|meta| inode.is_ok_and(|inode| inode == meta.inode))
}

impl Folder {
    /// Writes a file below so that readers, and a machine that loses power, see the old content or the new, never a
    /// part. Keeps the permissions of a file that is there.
    ///
    /// # Errors
    /// When its folder cannot be written; the old file is as it was.
    pub fn write_atomically(&self, below: impl AsRef<Path>, content: &[u8]) -> Result<(), FileError> {
        let below = below.as_ref();
        let path = self.path.join(below);
        self.write_atomically_with(below, |file| file.write_all(content).map_err(FileError::when("write", path)))
    }

    /// Writes a program, replacing what is there, so that whoever runs it meanwhile finds the old one or the new, never a
    /// part. Nobody else may write below this folder meanwhile.
    ///
    /// # Errors
    /// When its folder cannot be written.
    pub fn write_program(&self, name: &str, text: &str) -> Result<(), FileError> {
        if self.has(name, Kind::Folder) {
            self.remove(name)?;
        }
        self.write_beside(&unfinished_name(OsStr::new(name)), name.as_ref(), text.as_bytes(), (Some(0o755), false))
    }

    /// Writes a file so that readers see the old content or the new. After a power cut it may hold either, or nothing: for
    /// what anybody can make again, and tells whether it is whole.
    ///
    /// # Errors
    /// When its folder cannot be written.
    pub fn write_in_passing(&self, name: impl AsRef<Path>, content: &[u8]) -> Result<(), FileError> {
        static COUNT: AtomicU32 = AtomicU32::new(0);
        let own = format!(".{}-{}.yostel-new", std::process::id(), COUNT.fetch_add(1, Ordering::Relaxed));
        self.write_beside(OsStr::new(&own), name.as_ref(), content, (None, false))
    }

    /// Writes a file that nobody else may read, replacing what is there, so that readers find the old content or the new.
    /// Nobody else may write below this folder meanwhile.
    ///
    /// # Errors
    /// When its folder cannot be written; the old file is as it was.
    pub fn write_private(&self, name: impl AsRef<Path>, content: &[u8]) -> Result<(), FileError> {
        let name = name.as_ref();
        self.write_beside(&unfinished_name(name.as_os_str()), name, content, (Some(0o600), true))
    }

    /// Writes a file under another name and gives it its own; with a mode, whatever the process masks, and durably, where
    /// that is wanted.
    fn write_beside(
        &self,
        beside: &OsStr,
        name: &Path,
        content: &[u8],
        (mode, durable): (Option<u32>, bool),
    ) -> Result<(), FileError> {
        let create = || self.create(beside, mode.unwrap_or(0o644));
        let mut file = match create() {
            // Whoever was killed left it.
            Err(error) if error.cause.kind() == io::ErrorKind::AlreadyExists => {
                self.remove(beside)?;
                create()?
            }
            file => file?,
        };
        let written = file
            .write_all(content)
            .map_err(|cause| file.failed(cause))
            .and_then(|()| mode.map_or(Ok(()), |mode| self.set_mode(&file, mode)))
            .and_then(|()| if durable { file.sync() } else { Ok(()) });
        // An open file cannot be run.
        drop(file);
        let renamed = written
            .and_then(|()| self.rename(beside, self, name).map_err(FileError::when("write", self.path.join(name))));
        if renamed.is_err() {
            self.remove(beside).ok();
        }
        renamed
    }

    /// Like [`Self::write_atomically`], but `write` streams the content.
    ///
    /// # Errors
    /// As there, and what `write` returns.
    pub fn write_atomically_with<E: From<FileError>>(
        &self,
        below: impl AsRef<Path>,
        write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
    ) -> Result<(), E> {
        let below = below.as_ref();
        let path = self.path.join(below);
        let (folder, name) = match (below.parent().filter(|parent| !parent.as_os_str().is_empty()), below.file_name()) {
            (_, None) => return Err(FileError::unfit("write", path, "it has no name").into()),
            (None, Some(name)) => (self.clone(), name),
            (Some(parent), Some(name)) => (self.folder(parent)?, name),
        };
        let beside = unfinished_name(name);
        let file = folder.claim_unfinished(&beside, &path)?;
        let written = folder.fill(file, (&beside, name), &path, write);
        if written.is_err() {
            folder.remove(&beside).ok();
        }
        written
    }

    /// Opens the file beside, alone: waits for another writer, and takes over what a killed one left.
    fn claim_unfinished(&self, beside: &OsStr, path: &Path) -> Result<NewFile, FileError> {
        let failed = |cause| FileError { doing: "write", path: path.to_owned(), cause };
        let shown = self.path.join(beside);
        loop {
            self.disk.before(Step::Create(&shown)).map_err(failed)?;
            let flags = OFlags::CREATE | OFlags::WRONLY | OFlags::NONBLOCK | OFlags::NOCTTY;
            let file = match self.open_below(Path::new(beside), flags, Mode::from_raw_mode(0o644)) {
                Ok(handle) => File::from(handle),
                Err(cause) => {
                    match self.meta(beside).map(|meta| meta.kind) {
                        // The name is ours, whatever somebody put there.
                        Ok(Kind::Link | Kind::Other) => self.remove(beside)?,
                        // It has the mode of the file that it is, or was, to replace.
                        Ok(Kind::File) if cause.kind() == io::ErrorKind::PermissionDenied => {
                            let other = self.open_file(beside)?;
                            other.lock().map_err(failed)?;
                            if is_still(self, beside, &other) {
                                self.remove(beside)?;
                            }
                        }
                        // What is in the way is named, and otherwise what was to be written.
                        Ok(_) => return Err(FileError { doing: "write", path: shown, cause }),
                        Err(_) => return Err(failed(cause)),
                    }
                    continue;
                }
            };
            let metadata = file.metadata().map_err(failed)?;
            if !metadata.is_file() || metadata.nlink() > 1 {
                // Somebody else's: a pipe would block, and a second name would be written through.
                self.remove(beside)?;
                continue;
            }
            file.lock().map_err(failed)?;
            if is_still(self, beside, &file) {
                file.set_len(0).map_err(failed)?;
                return Ok(self.disk.made(shown, file));
            }
        }
    }

    fn fill<E: From<FileError>>(
        &self,
        file: NewFile,
        (beside, name): (&OsStr, &OsStr),
        path: &Path,
        write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
    ) -> Result<(), E> {
        let failed = |cause| FileError { doing: "write", path: path.to_owned(), cause };
        let mut buffered = BufWriter::new(file);
        write(&mut buffered)?;
        let file = buffered.into_inner().map_err(|error| failed(error.into_error()))?;
        let mode = match self.meta(name) {
            Ok(meta) if meta.kind == Kind::File => Some(meta.mode & 0o7777),
            // A link that somebody made is not ours to replace, nor a folder or a pipe.
            Ok(_) => {
                let reason = "there is a link, a folder or a pipe where a plain file should be";
                return Err(failed(io::Error::new(io::ErrorKind::InvalidInput, reason)).into());
            }
            Err(_) if self.fixed_modes => Some(0o644),
            // As it was made: what the process masks, nobody else is to have.
            Err(_) => None,
        };
        if let Some(mode) = mode {
            file.file().set_permissions(std::fs::Permissions::from_mode(mode)).map_err(failed)?;
        }
        file.sync()?;
        self.disk.before(Step::Rename(&self.path.join(beside), path)).map_err(failed)?;
        rustix::fs::renameat(&*self.handle, beside, &*self.handle, name).map_err(|errno| failed(errno.into()))?;
        self.sync();
        Ok(())
    }

    /// Removes a file below that is a link or a plain file.
    ///
    /// # Errors
    /// When it is a folder, or cannot be removed; one that is not there is no error.
    pub fn remove_file(&self, below: impl AsRef<Path>) -> Result<(), FileError> {
        let below = below.as_ref();
        let path = self.path.join(below);
        let removed = self.disk.before(Step::Remove(&path)).and_then(|()| self.unlink(below, AtFlags::empty()));
        removed.map_err(FileError::when("remove", path))
    }
}

/// Writes a file that a person named so that readers, and a machine that loses power, see the old content or the new,
/// never a part. Keeps the permissions of a file that is already there.
///
/// # Errors
/// When the folder cannot be written; the old file is as it was.
pub fn write_atomically(path: &Path, content: &[u8]) -> Result<(), FileError> {
    Disk::default().write_atomically(path, content)
}

/// Like [`write_atomically`], but `write` streams the content.
///
/// # Errors
/// As there, and whatever `write` returns.
pub fn write_atomically_with<E: From<FileError>>(
    path: &Path,
    write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
) -> Result<(), E> {
    let (folder, name) = Disk::default().place_of(path)?;
    folder.write_atomically_with(name, write)
}

impl Disk {
    /// Like the function [`write_atomically`].
    ///
    /// # Errors
    /// As there.
    pub fn write_atomically(&self, path: &Path, content: &[u8]) -> Result<(), FileError> {
        let (folder, name) = self.place_of(path)?;
        folder.write_atomically(name, content)
    }

    /// Finds the folder and the name of a file to be written. A link is followed to a file in the same folder or below
    /// it; one that leads elsewhere is not, since whoever brought it would choose which of the user's files is written.
    fn place_of(&self, path: &Path) -> Result<(Folder, OsString), FileError> {
        let name = path.file_name().ok_or_else(|| FileError::unfit("write", path, "it has no name"))?;
        let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let in_folder =
            |folder: &Path| Folder::open_on(self, folder).map_err(|error| FileError { doing: "write in", ..error });
        if path.symlink_metadata().is_ok_and(|metadata| metadata.is_symlink()) {
            let resolved = path.canonicalize().and_then(|real| Ok((real, parent.canonicalize()?)));
            let (real, top) = resolved.map_err(FileError::when("write", path))?;
            return match (real.parent(), real.file_name()) {
                (Some(folder), Some(name)) if folder.starts_with(&top) => Ok((in_folder(folder)?, name.to_owned())),
                _ => {
                    let reason =
                        format!("it is a link to {}, outside its folder; put the file in its place", real.display());
                    Err(FileError::unfit("write", path, reason))
                }
            };
        }
        Ok((in_folder(parent)?, name.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_names_have_one_beside_them_that_is_not_too_long_and_is_recognised() {
        // Characters of one to four bytes, so that every cut falls inside one of some of them.
        for (letter, times) in [("a", 255), ("é", 127), ("€", 85), ("🚡", 63)] {
            for start in ["", "a", "aa", "aaa"] {
                let name = format!("{start}{}", letter.repeat(times - 1));
                let beside = unfinished_name(name.as_ref());
                assert!((252..=255).contains(&beside.len()) && is_unfinished(&beside), "{name}: {beside:?}");
                assert!(name.starts_with(beside.to_str().unwrap()[1..].strip_suffix(ENDING).unwrap()), "{beside:?}");
            }
        }
        assert_eq!(unfinished_name("yostel.lock".as_ref()), ".yostel.lock.yostel-new");
    }
}
