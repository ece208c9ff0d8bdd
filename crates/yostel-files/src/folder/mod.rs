//! Folders that are held open, and what is read below them.
//!
//! Paths below a folder are relative and have no `.` or `..`. Each part but the last must be a folder, the last may be
//! a link only where the function is about links. On Linux one `openat2` (RESOLVE_BENEATH, RESOLVE_NO_SYMLINKS) does it;
//! elsewhere, and where that call is forbidden, one `openat` a part (O_NOFOLLOW) comes to the same.

#[cfg(test)]
mod tests;

use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags};

use crate::disk::Disk;
use crate::entry::{Entry, Kind, Meta, kind_of};
use crate::error::FileError;

/// A folder that is held open.
#[derive(Debug, Clone)]
pub struct Folder {
    pub(crate) handle: Arc<OwnedFd>,
    pub(crate) path: PathBuf,
    pub(crate) disk: Disk,
    /// Whether what is made below has the modes asked for, whatever the process masks: others read it too.
    pub(crate) fixed_modes: bool,
    /// Whether the handle itself can be read; most are only for reaching what is below.
    pub(crate) listable: bool,
}

/// Flags of a handle that is only for reaching what is below.
#[cfg(any(target_os = "linux", target_os = "android"))]
const REACH: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);
#[cfg(not(any(target_os = "linux", target_os = "android")))]
const REACH: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

impl Folder {
    /// Opens a folder that a person named, or that was found from there: links on the way to it are followed.
    ///
    /// # Errors
    /// When it is not there, or is not a folder.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        Self::open_on(&Disk::default(), path)
    }

    /// Like [`Self::open`], on a watched disk.
    ///
    /// # Errors
    /// When it is not there, or is not a folder.
    pub fn open_on(disk: &Disk, path: &Path) -> Result<Self, FileError> {
        let opened = rustix::fs::openat(CWD, path, REACH, Mode::empty());
        let handle = opened.map_err(|errno| FileError::when("open the folder", path)(errno.into()))?;
        Ok(Self {
            handle: Arc::new(handle),
            path: path.to_owned(),
            disk: disk.clone(),
            fixed_modes: false,
            listable: false,
        })
    }

    /// Like [`Self::open`], and makes the folder and those above it as far as they are not there.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_on(disk: &Disk, path: &Path) -> Result<Self, FileError> {
        match Self::open_on(disk, path) {
            Err(error) if error.is_not_found() => {}
            other => return other,
        }
        let made = disk.before(crate::Step::MakeFolder(path)).and_then(|()| std::fs::create_dir_all(path));
        made.map_err(FileError::when("make the folder", path))?;
        Self::open_on(disk, path)
    }

    /// Makes what is made below it readable for everybody, whatever the process masks.
    #[must_use]
    pub fn with_fixed_modes(self) -> Self {
        Self { fixed_modes: true, ..self }
    }

    /// Returns where it was opened, for messages and for other programs. Nothing here may be reached by it.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Returns the way in which its changes are made.
    pub fn disk(&self) -> &Disk {
        &self.disk
    }

    /// Returns the path of something below it, for messages and for other programs.
    pub fn path_of(&self, below: impl AsRef<Path>) -> PathBuf {
        self.path.join(below)
    }

    /// Opens a folder below.
    ///
    /// # Errors
    /// When it is not there, or a part is a link or a file.
    pub fn folder(&self, below: impl AsRef<Path>) -> Result<Self, FileError> {
        let below = below.as_ref();
        let opened = self.open_below(below, REACH, Mode::empty());
        let handle = opened.map_err(FileError::when("open the folder", self.path.join(below)))?;
        Ok(Self { handle: Arc::new(handle), path: self.path.join(below), listable: false, ..self.clone() })
    }

    /// Opens a folder below that is to be listed: one call less than listing what [`Self::folder`] opens.
    ///
    /// # Errors
    /// As there, and when it may not be read.
    pub fn folder_to_list(&self, below: impl AsRef<Path>) -> Result<Self, FileError> {
        let below = below.as_ref();
        let opened = self.open_below(below, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        let handle = opened.map_err(FileError::when("open the folder", self.path.join(below)))?;
        Ok(Self { handle: Arc::new(handle), path: self.path.join(below), listable: true, ..self.clone() })
    }

    /// Opens a plain file below for reading.
    ///
    /// # Errors
    /// When it is not there, a part is a link, or it is not a plain file: a pipe never blocks.
    pub fn open_file(&self, below: impl AsRef<Path>) -> Result<File, FileError> {
        let below = below.as_ref();
        let failed = FileError::when("read", self.path.join(below));
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        self.open_below(below, flags, Mode::empty()).and_then(regular).map_err(failed)
    }

    /// Reads a file below to its end, of at most so many bytes.
    ///
    /// # Errors
    /// As [`Self::open_file`], and when it is longer.
    pub fn read(&self, below: impl AsRef<Path>, most: u64) -> Result<Vec<u8>, FileError> {
        let below = below.as_ref();
        let file = self.open_file(below)?;
        read_whole(file, most).map_err(FileError::when("read", self.path.join(below)))
    }

    /// Reads a text below to its end, of at most so many bytes.
    ///
    /// # Errors
    /// As [`Self::read`], and when it is not UTF-8.
    pub fn read_text(&self, below: impl AsRef<Path>, most: u64) -> Result<String, FileError> {
        let below = below.as_ref();
        let content = self.read(below, most)?;
        String::from_utf8(content).map_err(|_| FileError::unfit("read", self.path.join(below), "it is not UTF-8"))
    }

    /// Returns the target of a link below.
    ///
    /// # Errors
    /// When it is not there, or is not a link.
    pub fn read_link(&self, below: impl AsRef<Path>) -> Result<OsString, FileError> {
        let below = below.as_ref();
        let read = self.parent(below).and_then(|(parent, name)| {
            Ok(OsString::from_vec(rustix::fs::readlinkat(&*parent, name, Vec::new())?.into_bytes()))
        });
        read.map_err(FileError::when("read the link", self.path.join(below)))
    }

    /// Says what something below is: of a link, what it is itself.
    ///
    /// # Errors
    /// When it is not there, or a part on the way is a link.
    pub fn meta(&self, below: impl AsRef<Path>) -> Result<Meta, FileError> {
        let below = below.as_ref();
        let looked = self
            .parent(below)
            .and_then(|(parent, name)| Ok(rustix::fs::statat(&*parent, name, AtFlags::SYMLINK_NOFOLLOW)?));
        looked.map(|stat| Meta::of(&stat)).map_err(FileError::when("read", self.path.join(below)))
    }

    /// Tells whether there is something of this kind below.
    pub fn has(&self, below: impl AsRef<Path>, kind: Kind) -> bool {
        self.meta(below).is_ok_and(|meta| meta.kind == kind)
    }

    /// Tells whether there is anything at this name below.
    pub fn exists(&self, below: impl AsRef<Path>) -> bool {
        self.meta(below).is_ok()
    }

    /// Lists what is in the folder itself, sorted by the bytes of names.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn entries(&self) -> Result<Vec<Entry>, FileError> {
        self.list().map_err(FileError::when("read the folder", &self.path))
    }

    /// Lists what is in a folder below; nothing where there is none.
    ///
    /// # Errors
    /// When it cannot be read, or a part is a link or a file.
    pub fn entries_of(&self, below: impl AsRef<Path>) -> Result<Vec<Entry>, FileError> {
        match self.folder(below) {
            Ok(folder) => folder.entries(),
            Err(error) if error.is_not_found() => Ok(Vec::new()),
            Err(error) => Err(error),
        }
    }

    pub(crate) fn list(&self) -> io::Result<Vec<Entry>> {
        let mut entries = Vec::new();
        let mut take = |name: &[u8], kind: FileType| {
            let name = OsStr::from_bytes(name);
            if name == "." || name == ".." {
                return Ok(());
            }
            let kind = match kind {
                // Some file systems do not tell.
                FileType::Unknown => match rustix::fs::statat(&*self.handle, name, AtFlags::SYMLINK_NOFOLLOW) {
                    Ok(stat) => Meta::of(&stat).kind,
                    Err(rustix::io::Errno::NOENT) => return Ok(()),
                    Err(errno) => return Err(io::Error::from(errno)),
                },
                kind => kind_of(kind),
            };
            entries.push(Entry { name: name.to_owned(), kind });
            Ok(())
        };
        if self.listable {
            rustix::fs::seek(&*self.handle, rustix::fs::SeekFrom::Start(0))?;
            each_name(&self.handle, &mut take)?;
        } else {
            each_name(&self.readable()?, &mut take)?;
        }
        entries.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(entries)
    }

    /// Opens the folder itself in a way in which it can be listed, synced and locked.
    pub(crate) fn readable(&self) -> io::Result<OwnedFd> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&*self.handle, ".", flags, Mode::empty())?)
    }

    /// Opens the folder itself, to hold a lock on it.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open_itself(&self) -> Result<File, FileError> {
        self.readable().map(File::from).map_err(FileError::when("open the folder", &self.path))
    }

    /// Returns the folder in which the last part of a path is, and that part.
    pub(crate) fn parent<'a>(&self, below: &'a Path) -> io::Result<(Arc<OwnedFd>, &'a OsStr)> {
        // Nearly always it is one name.
        let bytes = below.as_os_str().as_bytes();
        if !bytes.is_empty() && !bytes.contains(&b'/') && bytes != b"." && bytes != b".." {
            return Ok((self.handle.clone(), below.as_os_str()));
        }
        let Some(Component::Normal(name)) = below.components().next_back() else { return Err(no_way(below)) };
        match below.parent().filter(|parent| !parent.as_os_str().is_empty()) {
            None => Ok((self.handle.clone(), name)),
            Some(parent) => Ok((Arc::new(self.open_below(parent, REACH, Mode::empty())?), name)),
        }
    }

    pub(crate) fn open_below(&self, below: &Path, flags: OFlags, mode: Mode) -> io::Result<OwnedFd> {
        if !below.components().all(|part| matches!(part, Component::Normal(_))) || below.as_os_str().is_empty() {
            return Err(no_way(below));
        }
        let flags = flags | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mut rest = below;
        let mut reached: Option<Arc<OwnedFd>> = None;
        // A path may be longer than the system takes at once.
        while let Some((near, far)) = first_stretch(rest) {
            let from = reached.as_ref().unwrap_or(&self.handle);
            reached = Some(Arc::new(open_from(from, near, REACH | OFlags::NOFOLLOW, Mode::empty())?));
            rest = far;
        }
        open_from(reached.as_ref().unwrap_or(&self.handle), rest, flags, mode)
    }
}

/// The longest path that is handed to the system at once: POSIX promises no more than 256 bytes, Linux takes 4095.
const STRETCH: usize = 4000;

/// Splits what the system takes at once off the start of a path; nothing when it takes the whole.
fn first_stretch(path: &Path) -> Option<(&Path, &Path)> {
    let bytes = path.as_os_str().as_bytes();
    if bytes.len() <= STRETCH {
        return None;
    }
    let end = bytes[..STRETCH].iter().rposition(|byte| *byte == b'/')?;
    Some((Path::new(OsStr::from_bytes(&bytes[..end])), Path::new(OsStr::from_bytes(&bytes[end + 1..]))))
}

fn open_from(folder: &OwnedFd, below: &Path, flags: OFlags, mode: Mode) -> io::Result<OwnedFd> {
    let opened = beneath(folder, below, flags, mode).unwrap_or_else(|| step_by_step(folder, below, flags, mode));
    opened.map_err(in_the_way)
}

fn step_by_step(folder: &OwnedFd, below: &Path, flags: OFlags, mode: Mode) -> rustix::io::Result<OwnedFd> {
    let mut parts = below.components().peekable();
    let mut at: Option<OwnedFd> = None;
    while let Some(part) = parts.next() {
        let (flags, mode) =
            if parts.peek().is_some() { (REACH | OFlags::NOFOLLOW, Mode::empty()) } else { (flags, mode) };
        at = Some(rustix::fs::openat(at.as_ref().unwrap_or(folder), part.as_os_str(), flags, mode)?);
    }
    at.ok_or(rustix::io::Errno::NOENT)
}

/// Opens in one call; nothing where the system has no such call, or somebody forbade it.
#[cfg(any(target_os = "linux", target_os = "android"))]
fn beneath(folder: &OwnedFd, below: &Path, flags: OFlags, mode: Mode) -> Option<rustix::io::Result<OwnedFd>> {
    use rustix::fs::ResolveFlags;
    use rustix::io::Errno;
    let how = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    match rustix::fs::openat2(folder, below, flags, mode, how) {
        Err(Errno::NOSYS | Errno::PERM | Errno::AGAIN) => None,
        other => Some(other),
    }
}

#[cfg(not(any(target_os = "linux", target_os = "android")))]
fn beneath(_: &OwnedFd, _: &Path, _: OFlags, _: Mode) -> Option<rustix::io::Result<OwnedFd>> {
    None
}

/// Tells each name in a folder.
#[cfg(any(target_os = "linux", target_os = "android"))]
fn each_name(folder: &OwnedFd, take: &mut impl FnMut(&[u8], FileType) -> io::Result<()>) -> io::Result<()> {
    // Not cleared first, unlike the buffer of the portable way: thousands of small folders are listed.
    let mut buffer = [std::mem::MaybeUninit::uninit(); 16 * 1024];
    let mut names = rustix::fs::RawDir::new(folder, &mut buffer);
    while let Some(entry) = names.next() {
        let entry = entry?;
        take(entry.file_name().to_bytes(), entry.file_type())?;
    }
    Ok(())
}

#[cfg(not(any(target_os = "linux", target_os = "android")))]
fn each_name(folder: &OwnedFd, take: &mut impl FnMut(&[u8], FileType) -> io::Result<()>) -> io::Result<()> {
    for entry in rustix::fs::Dir::read_from(folder)? {
        let entry = entry?;
        take(entry.file_name().to_bytes(), entry.file_type())?;
    }
    Ok(())
}

/// Returns which permissions the process takes from what it makes; all of them where that cannot be told.
pub(crate) fn mask() -> u32 {
    static MASK: std::sync::OnceLock<u32> = std::sync::OnceLock::new();
    *MASK.get_or_init(|| {
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let told = status.lines().find_map(|line| line.strip_prefix("Umask:"));
        told.and_then(|text| u32::from_str_radix(text.trim(), 8).ok()).unwrap_or(0o777)
    })
}

fn no_way(below: &Path) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, format!("`{}` is not a path below a folder", below.display()))
}

/// Says in words that a link is where it must not.
fn in_the_way(errno: rustix::io::Errno) -> io::Error {
    match errno {
        rustix::io::Errno::LOOP | rustix::io::Errno::NOTDIR => io::Error::new(
            io::ErrorKind::NotADirectory,
            "it is a link or a file, where a folder should be, or is reached through one",
        ),
        errno => errno.into(),
    }
}

/// Checks that what was opened is a plain file, and makes reading it wait as usual.
fn regular(handle: OwnedFd) -> io::Result<File> {
    let file = File::from(handle);
    if !file.metadata()?.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a plain file"));
    }
    Ok(file)
}

/// Opens a plain file that a person named, links followed: a pipe or a device is refused at once and never blocks.
///
/// # Errors
/// When it is not there or is not a plain file.
pub fn open_regular(path: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    regular(rustix::fs::openat(CWD, path, flags, Mode::empty())?)
}

/// Reads a text file that a person named, as [`open_regular`] opens it, of at most so many bytes.
///
/// # Errors
/// When it is not there, is not a plain file, is longer, or is not UTF-8.
pub fn read_text_of(path: &Path, most: u64) -> io::Result<String> {
    let content = read_of(path, most)?;
    String::from_utf8(content).map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "it is not UTF-8"))
}

/// Reads a file that a person named, as [`open_regular`] opens it, of at most so many bytes.
///
/// # Errors
/// When it is not there, is not a plain file, or is longer.
pub fn read_of(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_whole(open_regular(path)?, most)
}

fn read_whole(file: File, most: u64) -> io::Result<Vec<u8>> {
    let too_long = || {
        let limit = if most < 1 << 20 { format!("{most} bytes") } else { format!("{} MiB", most >> 20) };
        io::Error::new(io::ErrorKind::InvalidData, format!("it is longer than {limit}"))
    };
    // What is told first saves reading; it may still grow.
    let told = file.metadata()?.len();
    if told > most {
        return Err(too_long());
    }
    let mut content = Vec::with_capacity(usize::try_from(told).unwrap_or(0).saturating_add(1));
    file.take(most.saturating_add(1)).read_to_end(&mut content)?;
    if content.len() as u64 > most { Err(too_long()) } else { Ok(content) }
}
