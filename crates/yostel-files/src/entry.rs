//! What is in a folder: its name, its kind, what is known of it.

use std::borrow::Cow;
use std::ffi::OsString;
use std::fs::File;
use std::io;

use rustix::fs::FileType;

/// What something in a folder is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A plain file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A pipe, a device, a socket.
    Other,
}

/// A name in a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The name.
    pub name: OsString,
    /// What it is.
    pub kind: Kind,
}

impl Entry {
    /// Returns the name as text, with a mark for what is not UTF-8.
    pub fn text(&self) -> Cow<'_, str> {
        self.name.to_string_lossy()
    }
}

/// What the system says about a file, a link itself, or a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// What it is.
    pub kind: Kind,
    /// Kind and permissions, as `st_mode` has them.
    pub mode: u32,
    /// Bytes.
    pub size: u64,
    /// Time of the last change of content: seconds since 1970.
    pub modified: i64,
    /// And nanoseconds.
    pub modified_nanos: i64,
    /// Time of the last change of anything, which nobody sets: seconds since 1970.
    pub changed: i64,
    /// And nanoseconds.
    pub changed_nanos: i64,
    /// The file's number on its file system.
    pub inode: u64,
}

impl Meta {
    pub(crate) fn of(stat: &rustix::fs::Stat) -> Self {
        #[allow(clippy::unnecessary_cast, reason = "the types differ from system to system")]
        Self {
            kind: kind_of(FileType::from_raw_mode(stat.st_mode)),
            mode: stat.st_mode as u32,
            size: stat.st_size as u64,
            modified: stat.st_mtime as i64,
            modified_nanos: stat.st_mtime_nsec as i64,
            changed: stat.st_ctime as i64,
            changed_nanos: stat.st_ctime_nsec as i64,
            inode: stat.st_ino as u64,
        }
    }

    /// Returns what the system says about an open file.
    ///
    /// # Errors
    /// As the system says.
    pub fn of_file(file: &File) -> io::Result<Self> {
        Ok(Self::of(&rustix::fs::fstat(file)?))
    }

    /// Tells whether its owner may execute it.
    pub fn is_program(&self) -> bool {
        self.kind == Kind::File && self.mode & 0o100 != 0
    }
}

pub(crate) fn kind_of(kind: FileType) -> Kind {
    match kind {
        FileType::RegularFile => Kind::File,
        FileType::Directory => Kind::Folder,
        FileType::Symlink => Kind::Link,
        _ => Kind::Other,
    }
}
