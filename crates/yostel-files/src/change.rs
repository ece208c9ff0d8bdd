//! What is changed below a folder that is held.

use std::fs::File;
use std::hash::{BuildHasher, RandomState};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use rustix::fs::{AtFlags, Mode, OFlags, Timespec, Timestamps};
use rustix::io::Errno;

use crate::disk::{NewFile, Step};
use crate::entry::Kind;
use crate::error::FileError;
use crate::folder::{Folder, mask};

impl Folder {
    /// Makes one folder, which must not be there; those above it must be.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_folder(&self, below: impl AsRef<Path>) -> Result<Self, FileError> {
        let below = below.as_ref();
        let failed = FileError::when("make the folder", self.path.join(below));
        self.try_make_folder(below).map_err(failed)?;
        self.folder(below)
    }

    pub(crate) fn try_make_folder(&self, below: &Path) -> io::Result<()> {
        self.disk.before(Step::MakeFolder(&self.path.join(below)))?;
        let (parent, name) = self.parent(below)?;
        rustix::fs::mkdirat(&*parent, name, Mode::from_raw_mode(0o777))?;
        if self.fixed_modes && 0o777 & !mask() != 0o755 {
            rustix::fs::chmodat(&*parent, name, Mode::from_raw_mode(0o755), AtFlags::empty())?;
        }
        Ok(())
    }

    /// Lets nobody but its owner into this folder.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn keep_to_owner(&self) -> Result<(), FileError> {
        let failed = FileError::when("set the permissions of", &self.path);
        let folder = self.open_itself()?;
        rustix::fs::fchmod(&folder, Mode::from_raw_mode(0o700)).map_err(|errno| failed(errno.into()))
    }

    /// Makes a folder and those above it, as far as they are not there, and returns it.
    ///
    /// # Errors
    /// When one cannot be made, or a part is a link or a file.
    pub fn make_folders(&self, below: impl AsRef<Path>) -> Result<Self, FileError> {
        let below = below.as_ref();
        match self.folder(below) {
            Err(error) if error.is_not_found() => {}
            other => return other,
        }
        // Mostly it is the last one alone that is not there.
        let (mut at, rest) = match below.parent().filter(|parent| !parent.as_os_str().is_empty()) {
            Some(parent) => match (self.folder(parent), below.file_name()) {
                (Ok(parent), Some(name)) => (parent, Path::new(name)),
                _ => (self.clone(), below),
            },
            None => (self.clone(), below),
        };
        for part in rest {
            at = at.made(Path::new(part))?;
        }
        Ok(at)
    }

    /// Opens a folder, which is made when it is not there. Another process may make it, or remove it, at any time.
    fn made(&self, part: &Path) -> Result<Self, FileError> {
        loop {
            match self.folder(part) {
                Err(error) if error.is_not_found() => {}
                other => return other,
            }
            match self.try_make_folder(part) {
                Ok(()) => {}
                // If it is a link by now, opening it says so.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(cause) => return Err(FileError::when("make the folder", self.path.join(part))(cause)),
            }
        }
    }

    /// Makes a folder that nobody else has, with a name that begins so and that nobody ever uses again; returns its name
    /// too. A number would not do: where the folder is removed at once, another may make one by the same name, and two
    /// would hold it; nor does the process, which has the same number in two containers that share a disk.
    ///
    /// # Errors
    /// When none can be made.
    pub fn make_own_folder(&self, prefix: &str) -> Result<(String, Self), FileError> {
        let process = std::process::id();
        loop {
            let chance = RandomState::new().hash_one(process);
            let name = format!("{prefix}{process}-{chance:016x}");
            match self.try_make_folder(Path::new(&name)) {
                Ok(()) => return Ok((name.clone(), self.folder(&name)?)),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(cause) => return Err(FileError::when("make a folder in", &self.path)(cause)),
            }
        }
    }

    /// Makes a file, which must not be there.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn create(&self, below: impl AsRef<Path>, mode: u32) -> Result<NewFile, FileError> {
        self.open_new(below.as_ref(), OFlags::CREATE | OFlags::EXCL, mode)
    }

    /// Opens a file to hold a lock on it, and makes it when it is not there. Nothing is written to it.
    ///
    /// # Errors
    /// When it can be neither opened nor made, or is not a plain file.
    pub fn open_guard(&self, below: impl AsRef<Path>) -> Result<File, FileError> {
        let below = below.as_ref();
        match self.open_file(below) {
            // Reading is enough to lock, so a folder that cannot be written serves too.
            Err(error) if error.is_not_found() => {}
            other => return other,
        }
        Ok(self.open_new(below, OFlags::CREATE, 0o644)?.into_file())
    }

    /// Opens a file to be written. Where modes are fixed, it gets exactly this one, whatever the process masks.
    fn open_new(&self, below: &Path, flags: OFlags, mode: u32) -> Result<NewFile, FileError> {
        let path = self.path.join(below);
        let flags = flags | OFlags::WRONLY | OFlags::NONBLOCK | OFlags::NOCTTY;
        let opened = self.disk.before(Step::Create(&path)).and_then(|()| {
            let file = File::from(self.open_below(below, flags, Mode::from_raw_mode(mode))?);
            match flags.contains(OFlags::EXCL) || file.metadata()?.is_file() {
                true => Ok(file),
                false => Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a plain file")),
            }
        });
        let file = opened.map_err(FileError::when("write", &path))?;
        let made = self.disk.made(path, file);
        if self.fixed_modes && mask() & mode != 0 {
            match self.set_mode(&made, mode) {
                // One that is there may be somebody else's.
                Err(_) if !flags.contains(OFlags::EXCL) => {}
                set => set?,
            }
        }
        Ok(made)
    }

    /// Gives a file exactly these permissions, whatever the process masks.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn set_mode(&self, file: &NewFile, mode: u32) -> Result<(), FileError> {
        rustix::fs::fchmod(file.file(), Mode::from_raw_mode(mode)).map_err(|errno| file.failed(errno.into()))
    }

    /// Writes a file that nothing depends on: not synced, and a reader may see a part.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn write_loosely(&self, below: impl AsRef<Path>, text: &str) -> Result<(), FileError> {
        let below = below.as_ref();
        let mut file = self.open_new(below, OFlags::CREATE | OFlags::TRUNC, 0o644)?;
        file.write_all(text.as_bytes()).map_err(FileError::when("write", self.path.join(below)))
    }

    /// Sets the modification time of something that is there.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn set_time(&self, below: impl AsRef<Path>, time: SystemTime) -> Result<(), FileError> {
        let below = below.as_ref();
        let path = self.path.join(below);
        let marked = self.disk.before(Step::Mark(&path)).and_then(|()| {
            let since = time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
            let last_modification = Timespec {
                tv_sec: i64::try_from(since.as_secs()).unwrap_or(i64::MAX),
                tv_nsec: since.subsec_nanos().into(),
            };
            let (parent, name) = self.parent(below)?;
            let times = Timestamps { last_access: last_modification, last_modification };
            Ok(rustix::fs::utimensat(&*parent, name, &times, AtFlags::SYMLINK_NOFOLLOW)?)
        });
        marked.map_err(FileError::when("write", &path))
    }

    /// Makes a hard link to a file below at another place, here or in another folder.
    ///
    /// # Errors
    /// When the system refuses: there may be no such links, or too many.
    pub fn hard_link(&self, from: impl AsRef<Path>, to: &Self, at: impl AsRef<Path>) -> io::Result<()> {
        let at = at.as_ref();
        // Tens of thousands are made in one install: nothing is put together for nobody.
        if self.disk.is_watched() {
            self.disk.before(Step::Link(&to.path.join(at)))?;
        }
        let (parent, name) = self.parent(from.as_ref())?;
        let (to, at) = to.parent(at)?;
        Ok(rustix::fs::linkat(&*parent, name, &*to, at, AtFlags::empty())?)
    }

    /// Makes a symbolic link.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn symlink(&self, target: impl AsRef<Path>, below: impl AsRef<Path>) -> Result<(), FileError> {
        let below = below.as_ref();
        let path = self.path.join(below);
        let made = self.disk.before(Step::Link(&path)).and_then(|()| {
            let (parent, name) = self.parent(below)?;
            Ok(rustix::fs::symlinkat(target.as_ref(), &*parent, name)?)
        });
        made.map_err(FileError::when("make the link", path))
    }

    /// Copies a file below to another place, with these permissions.
    ///
    /// # Errors
    /// When it cannot be read or written.
    pub fn copy(
        &self,
        from: impl AsRef<Path>,
        to: &Self,
        at: impl AsRef<Path>,
        mode: u32,
    ) -> Result<NewFile, FileError> {
        let mut from = self.open_file(from)?;
        let mut made = to.create(at, mode)?;
        // The system clones the content where the file system can.
        io::copy(&mut from, &mut made.file()).map_err(|cause| made.failed(cause))?;
        to.set_mode(&made, mode)?;
        made.flush().map_err(|cause| made.failed(cause))?;
        Ok(made)
    }

    /// Gives something below another name, here or in another folder. What has that name is replaced where the system
    /// does so.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn rename(&self, from: impl AsRef<Path>, to: &Self, at: impl AsRef<Path>) -> io::Result<()> {
        let (from, at) = (from.as_ref(), at.as_ref());
        self.disk.before(Step::Rename(&self.path.join(from), &to.path.join(at)))?;
        let (parent, name) = self.parent(from)?;
        let (to, at) = to.parent(at)?;
        Ok(rustix::fs::renameat(&*parent, name, &*to, at)?)
    }

    /// Puts what was made into a place where something may be: in one step where the system can, and what was there is
    /// then where the new was made; elsewhere it goes aside first, to a name that ends in `.old`.
    ///
    /// # Errors
    /// When the system refuses; the place then has the old or, where there is no exchange, for a moment nothing.
    pub fn put_in_place(&self, made: impl AsRef<Path>, to: &Self, at: impl AsRef<Path>) -> Result<(), FileError> {
        let (made, at) = (made.as_ref(), at.as_ref());
        let place = to.path.join(at);
        if !to.exists(at) {
            return self.rename(made, to, at).map_err(FileError::when("write", place));
        }
        let exchanged = || {
            self.disk.before(Step::Rename(&self.path.join(made), &place))?;
            let (parent, name) = self.parent(made)?;
            let (to, at) = to.parent(at)?;
            exchange((&parent, name), (&to, at))
        };
        match exchanged() {
            Ok(()) => return Ok(()),
            Err(error)
                if !matches!(
                    error.raw_os_error().map(Errno::from_raw_os_error),
                    Some(Errno::NOSYS | Errno::INVAL | Errno::NOTSUP)
                ) =>
            {
                return Err(FileError::when("replace", place)(error));
            }
            Err(_) => {}
        }
        let mut old = made.as_os_str().to_owned();
        old.push(".old");
        to.rename(at, self, PathBuf::from(old))
            .and_then(|()| self.rename(made, to, at))
            .map_err(FileError::when("replace", place))
    }

    /// Removes a file or link below, or a folder with all that is in it; what is not there is no error. No link is
    /// followed.
    ///
    /// # Errors
    /// When something cannot be removed, or a part on the way is a link.
    pub fn remove(&self, below: impl AsRef<Path>) -> Result<(), FileError> {
        let below = below.as_ref();
        let failed = FileError::when("remove", self.path.join(below));
        match self.meta(below) {
            Err(error) if error.is_not_found() => Ok(()),
            Err(error) => Err(failed(error.cause)),
            Ok(meta) => {
                let removed = self.disk.before(Step::Remove(&self.path.join(below))).and_then(|()| match meta.kind {
                    Kind::Folder => self.remove_tree(below),
                    _ => self.unlink(below, AtFlags::empty()),
                });
                removed.map_err(failed)
            }
        }
    }

    pub(crate) fn unlink(&self, below: &Path, flags: AtFlags) -> io::Result<()> {
        let (parent, name) = self.parent(below)?;
        match rustix::fs::unlinkat(&*parent, name, flags) {
            Ok(()) | Err(Errno::NOENT) => Ok(()),
            Err(errno) => Err(errno.into()),
        }
    }

    /// Removes a folder below if it is empty; returns whether it went.
    pub fn remove_if_empty(&self, below: impl AsRef<Path>) -> bool {
        let below = below.as_ref();
        let removed = self.disk.before(Step::Remove(&self.path.join(below))).and_then(|()| {
            let (parent, name) = self.parent(below)?;
            Ok(rustix::fs::unlinkat(&*parent, name, AtFlags::REMOVEDIR)?)
        });
        removed.is_ok()
    }

    /// Removes the folders above a path below that are empty now, but for the topmost.
    pub fn remove_empty_above(&self, below: impl AsRef<Path>) {
        let mut above = below.as_ref().parent();
        while let Some(folder) = above.filter(|folder| folder.components().count() > 1) {
            above = if self.remove_if_empty(folder) { folder.parent() } else { None };
        }
    }

    /// Makes renames in the folder durable. Some file systems cannot sync folders; then it is as durable as they make it.
    pub fn sync(&self) {
        if self.disk.before(Step::SyncFolder(&self.path)).is_ok()
            && let Ok(folder) = self.readable()
        {
            File::from(folder).sync_all().ok();
        }
    }

    /// Makes everything below durable, whoever wrote it.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn sync_all(&self) -> Result<(), FileError> {
        let synced = self.disk.before(Step::SyncAll(&self.path)).and_then(|()| self.sync_below());
        synced.map_err(FileError::when("sync", &self.path))
    }

    /// One call for the whole file system: for thousands of files far cheaper than one for each.
    #[cfg(any(target_os = "linux", target_os = "android"))]
    fn sync_below(&self) -> io::Result<()> {
        Ok(rustix::fs::syncfs(self.readable()?)?)
    }

    #[cfg(not(any(target_os = "linux", target_os = "android")))]
    fn sync_below(&self) -> io::Result<()> {
        self.walk(|folder, _, entries| {
            for entry in entries.iter().filter(|entry| entry.kind == Kind::File) {
                folder
                    .open_file(&entry.name)?
                    .sync_all()
                    .map_err(FileError::when("sync", folder.path_of(&entry.name)))?;
            }
            Ok(File::from(folder.readable().map_err(FileError::when("sync", &folder.path))?)
                .sync_all()
                .map_err(FileError::when("sync", &folder.path))?)
        })
        .map_err(|error: FileError| error.cause)
    }
}

type Place<'a> = (&'a std::os::fd::OwnedFd, &'a std::ffi::OsStr);

#[cfg(any(target_os = "linux", target_os = "android", target_vendor = "apple"))]
fn exchange(one: Place<'_>, other: Place<'_>) -> io::Result<()> {
    Ok(rustix::fs::renameat_with(one.0, one.1, other.0, other.1, rustix::fs::RenameFlags::EXCHANGE)?)
}

#[cfg(not(any(target_os = "linux", target_os = "android", target_vendor = "apple")))]
fn exchange(_: Place<'_>, _: Place<'_>) -> io::Result<()> {
    Err(Errno::NOSYS.into())
}
