//! Everything that changes files passes here, so that a test can watch every step and refuse any of them.
//!
//! The rules that make an install safe when the power goes:
//! - What is made aside is made durable before it gets a name: one [`Disk::sync_all`] for all of it, since a sync for each of
//!   thousands of files costs more than writing them.
//! - A name is given by one rename, and its folder synced after it.
//! - A small file that replaces another is written aside, synced, renamed ([`Disk::write_atomically`]).
//! - What nothing depends on (notes, stamps, listings, claims) is not synced: each of these is checked when it is read, and
//!   one that is damaged counts as not there.
//!
//! Journals of file systems keep the order of names; their order against content is what the syncs are for.

use std::fmt::Debug;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use crate::error::StoreError;
use crate::pack::FIXED_TIME;

/// One change that is about to be made.
#[derive(Debug)]
#[non_exhaustive]
pub enum Step<'a> {
    /// A folder is made.
    MakeFolder(&'a Path),
    /// A file is made, or emptied.
    Create(&'a Path),
    /// Bytes are written to a file.
    Write(&'a Path),
    /// A file's times are set.
    Mark(&'a Path),
    /// A file is made durable.
    Sync(&'a Path, &'a File),
    /// The names in a folder are made durable.
    SyncFolder(&'a Path),
    /// Everything on the file system of this folder is made durable.
    SyncAll(&'a Path),
    /// A hard or symbolic link is made.
    Link(&'a Path),
    /// Something gets another name, which may be that of something else.
    Rename(&'a Path, &'a Path),
    /// A file, or a folder with all that is in it, is removed.
    Remove(&'a Path),
}

/// Sees every change before it is made.
pub trait Watch: Debug + Send + Sync {
    /// Is called before each step.
    ///
    /// # Errors
    /// One to refuse the step, which then is not made and fails with it.
    fn before(&self, step: &Step<'_>) -> io::Result<()>;

    /// Is called with each file that was made.
    fn made(&self, file: &File) {
        let _ = file;
    }
}

/// The way to the file system.
#[derive(Debug, Clone, Default)]
pub struct Disk {
    watch: Option<Arc<dyn Watch>>,
}

/// A file that is being written.
#[derive(Debug)]
pub(crate) struct NewFile<'a> {
    disk: &'a Disk,
    path: &'a Path,
    file: File,
}

impl Disk {
    /// Returns one on which every step is watched.
    pub fn watched_by(watch: Arc<dyn Watch>) -> Self {
        Self { watch: Some(watch) }
    }

    fn before(&self, step: Step<'_>) -> io::Result<()> {
        self.watch.as_ref().map_or(Ok(()), |watch| watch.before(&step))
    }

    /// Makes a folder and those above it, as far as they are not there.
    pub(crate) fn make_folders(&self, path: &Path) -> Result<(), StoreError> {
        let made = || match path.is_dir() {
            true => Ok(()),
            false => self.before(Step::MakeFolder(path)).and_then(|()| fs::create_dir_all(path)),
        };
        made().map_err(StoreError::when("make the folder", path))
    }

    /// Makes one folder, which must not be there.
    pub(crate) fn make_folder(&self, path: &Path) -> Result<(), StoreError> {
        let made = self.before(Step::MakeFolder(path)).and_then(|()| fs::create_dir(path));
        made.map_err(StoreError::when("make the folder", path))
    }

    /// Makes a folder that nobody else has, with a name that begins so.
    pub(crate) fn make_own_folder(&self, parent: &Path, prefix: &str) -> Result<PathBuf, StoreError> {
        let made = || {
            self.before(Step::MakeFolder(parent))?;
            Ok(tempfile::Builder::new().prefix(prefix).tempdir_in(parent)?.keep())
        };
        made().map_err(StoreError::when("make a folder in", parent))
    }

    /// Makes a file, which must not be there.
    pub(crate) fn create<'a>(&'a self, path: &'a Path, mode: u32) -> Result<NewFile<'a>, StoreError> {
        self.open(path, OpenOptions::new().write(true).create_new(true).mode(mode))
    }

    fn open<'a>(&'a self, path: &'a Path, options: &OpenOptions) -> Result<NewFile<'a>, StoreError> {
        let opened = self.before(Step::Create(path)).and_then(|()| options.open(path));
        let file = opened.map_err(StoreError::when("write", path))?;
        if let Some(watch) = &self.watch {
            watch.made(&file);
        }
        Ok(NewFile { disk: self, path, file })
    }

    /// Writes a file that nothing depends on: not synced, and a reader may see a part.
    pub(crate) fn write_loosely(&self, path: &Path, text: &str) -> Result<(), StoreError> {
        let mut file = self.open(path, OpenOptions::new().write(true).create(true).truncate(true))?;
        file.write_all(text.as_bytes()).map_err(StoreError::when("write", path))
    }

    /// Writes a file so that readers, and a machine that loses power, see the old content or the new, never a part.
    ///
    /// # Errors
    /// When the folder cannot be written; the old file is as it was.
    pub fn write_atomically(&self, path: &Path, content: &[u8]) -> Result<(), StoreError> {
        self.write_atomically_with(path, |file| file.write_all(content).map_err(StoreError::when("write", path)))
    }

    /// The same, of a file too long to be held in memory.
    pub(crate) fn write_atomically_with<E: From<StoreError>>(
        &self,
        path: &Path,
        write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
    ) -> Result<(), E> {
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let failed = StoreError::when("write in", folder);
        self.before(Step::Create(path)).map_err(StoreError::when("write", path))?;
        let aside = tempfile::Builder::new().prefix(".yostel-").tempfile_in(folder).map_err(failed)?;
        if let Some(watch) = &self.watch {
            watch.made(aside.as_file());
        }
        let file =
            NewFile { disk: self, path, file: aside.as_file().try_clone().map_err(StoreError::when("write", path))? };
        let mut buffered = BufWriter::new(file);
        write(&mut buffered)?;
        buffered.flush().map_err(StoreError::when("write", path))?;
        let permissions = match fs::metadata(path) {
            Ok(there) => there.permissions(),
            Err(_) => fs::Permissions::from_mode(0o644),
        };
        aside.as_file().set_permissions(permissions).map_err(StoreError::when("write", path))?;
        buffered.get_ref().sync()?;
        self.before(Step::Rename(aside.path(), path)).map_err(StoreError::when("write", path))?;
        aside.persist(path).map_err(|error| StoreError {
            doing: "write",
            path: path.to_owned(),
            cause: error.error,
        })?;
        self.sync_folder(folder);
        Ok(())
    }

    /// Sets the modification time of a file that is there.
    pub(crate) fn set_time(&self, path: &Path, time: SystemTime) -> Result<(), StoreError> {
        let opened = || self.before(Step::Mark(path)).and_then(|()| File::options().append(true).open(path));
        opened().and_then(|file| file.set_modified(time)).map_err(StoreError::when("write", path))
    }

    /// Makes a hard link.
    pub(crate) fn hard_link(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.before(Step::Link(to))?;
        fs::hard_link(from, to)
    }

    /// Makes a symbolic link.
    pub(crate) fn symlink(&self, target: impl AsRef<Path>, link: &Path) -> Result<(), StoreError> {
        let made = self.before(Step::Link(link)).and_then(|()| symlink(target, link));
        made.map_err(StoreError::when("make the link", link))
    }

    /// Copies a file, its permissions too; the system clones it where the file system can.
    pub(crate) fn copy(&self, from: &Path, to: &Path) -> Result<(), StoreError> {
        let copied = self.before(Step::Create(to)).and_then(|()| fs::copy(from, to)).and_then(|_| File::open(to));
        let file = copied.map_err(StoreError::when("write", to))?;
        if let Some(watch) = &self.watch {
            watch.made(&file);
        }
        NewFile { disk: self, path: to, file }.fix_time()
    }

    /// Gives something another name. What has that name is replaced where the system does so.
    pub(crate) fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.before(Step::Rename(from, to))?;
        fs::rename(from, to)
    }

    /// Swaps two folders in one step where the system can, else by way of a third name.
    pub(crate) fn exchange(&self, new: &Path, place: &Path) -> Result<(), StoreError> {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        let failed = |cause| StoreError { doing: "replace", path: place.to_owned(), cause };
        self.before(Step::Rename(new, place)).map_err(failed)?;
        if renameat_with(CWD, new, CWD, place, RenameFlags::EXCHANGE).is_ok() {
            return Ok(());
        }
        let old = new.with_file_name("old");
        self.rename(place, &old).and_then(|()| self.rename(new, place)).map_err(failed)
    }

    /// Removes a file, or a folder with all that is in it; what is not there is no error.
    pub(crate) fn remove(&self, path: &Path) -> Result<(), StoreError> {
        let remove = || match path.symlink_metadata() {
            Ok(metadata) => {
                self.before(Step::Remove(path))?;
                if metadata.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) }
            }
            Err(_) => Ok(()),
        };
        remove().map_err(StoreError::when("remove", path))
    }

    /// Removes a folder if it is empty; returns whether it went.
    pub(crate) fn remove_if_empty(&self, path: &Path) -> bool {
        self.before(Step::Remove(path)).and_then(|()| fs::remove_dir(path)).is_ok()
    }

    /// Makes a rename durable. Some file systems cannot sync folders; then it is as durable as they make it.
    pub(crate) fn sync_folder(&self, folder: &Path) {
        if self.before(Step::SyncFolder(folder)).is_ok()
            && let Ok(folder) = File::open(folder)
        {
            folder.sync_all().ok();
        }
    }

    /// Makes everything below a folder durable, whoever wrote it.
    pub(crate) fn sync_all(&self, folder: &Path) -> Result<(), StoreError> {
        let synced = self.before(Step::SyncAll(folder)).and_then(|()| sync_below(folder));
        synced.map_err(StoreError::when("sync", folder))
    }
}

/// One call for the whole file system: for thousands of files far cheaper than one for each.
#[cfg(any(target_os = "linux", target_os = "android"))]
fn sync_below(folder: &Path) -> io::Result<()> {
    Ok(rustix::fs::syncfs(File::open(folder)?)?)
}

#[cfg(not(any(target_os = "linux", target_os = "android")))]
fn sync_below(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_dir() {
            sync_below(&entry.path())?;
        } else if kind.is_file() {
            File::open(entry.path())?.sync_all()?;
        }
    }
    File::open(folder)?.sync_all()
}

impl NewFile<'_> {
    /// Gives it the modification time of every packed and installed file.
    pub(crate) fn fix_time(&self) -> Result<(), StoreError> {
        let fixed = SystemTime::UNIX_EPOCH + Duration::from_secs(FIXED_TIME);
        let set = self.disk.before(Step::Mark(self.path)).and_then(|()| self.file.set_modified(fixed));
        set.map_err(StoreError::when("write", self.path))
    }

    /// Returns the open file.
    pub(crate) fn into_file(self) -> File {
        self.file
    }

    /// Makes it durable.
    pub(crate) fn sync(&self) -> Result<(), StoreError> {
        let synced = self.disk.before(Step::Sync(self.path, &self.file)).and_then(|()| self.file.sync_all());
        synced.map_err(StoreError::when("write", self.path))
    }
}

impl Write for NewFile<'_> {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        self.disk.before(Step::Write(self.path))?;
        self.file.write(buffer)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// Writes a file so that readers, and a machine that loses power, see the old content or the new, never a part.
/// Keeps the permissions of a file that is already there.
///
/// # Errors
/// When the folder cannot be written; the old file is as it was.
pub fn write_atomically(path: &Path, content: &[u8]) -> Result<(), StoreError> {
    Disk::default().write_atomically(path, content)
}

/// The same, of a file too long to be held in memory.
///
/// # Errors
/// As above, and whatever `write` returns.
pub fn write_atomically_with<E: From<StoreError>>(
    path: &Path,
    write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
) -> Result<(), E> {
    Disk::default().write_atomically_with(path, write)
}
