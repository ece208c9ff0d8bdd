//! The files of a project: their names, how much of them is read, and from where.

use std::collections::BTreeMap;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

use yostel_files::read_text_of;

use crate::error::ProjectError;

/// The manifest's file name.
pub const MANIFEST_NAME: &str = "yostel.toml";

/// The lockfile's file name.
pub const LOCKFILE_NAME: &str = "yostel.lock";

/// The name of the file with what the project itself says of advisories.
pub const STATEMENTS_NAME: &str = "yostel.openvex.json";

/// Longest manifest that is read, in bytes: a clone may bring a link to something without end.
pub(crate) const MOST_MANIFEST: u64 = 4 << 20;

/// Longest lockfile that is read, in bytes.
pub const MOST_LOCKFILE: u64 = 256 << 20;

/// Where manifests and lockfiles are read from.
pub trait Files: fmt::Debug + Send + Sync {
    /// Reads a text of so many bytes at most.
    ///
    /// # Errors
    /// When it is not there, is not text, or is longer.
    fn read(&self, path: &Path, most: u64) -> io::Result<String>;

    /// Tells whether there is a file.
    fn is_file(&self, path: &Path) -> bool;
}

/// The disk.
#[derive(Debug, Clone, Copy, Default)]
pub struct DiskFiles;

impl Files for DiskFiles {
    fn read(&self, path: &Path, most: u64) -> io::Result<String> {
        read_text_of(path, most)
    }

    fn is_file(&self, path: &Path) -> bool {
        path.is_file()
    }
}

/// What an editor has open, over the disk: a file that was changed and not saved is read as it is in the editor.
#[derive(Debug, Clone, Default)]
pub struct OpenFiles {
    /// Texts by absolute path.
    pub texts: BTreeMap<PathBuf, String>,
}

impl Files for OpenFiles {
    fn read(&self, path: &Path, most: u64) -> io::Result<String> {
        match self.texts.get(path) {
            Some(text) if text.len() as u64 <= most => Ok(text.clone()),
            Some(_) => Err(io::Error::new(io::ErrorKind::InvalidData, format!("it is longer than {most} bytes"))),
            None => DiskFiles.read(path, most),
        }
    }

    fn is_file(&self, path: &Path) -> bool {
        self.texts.contains_key(path) || DiskFiles.is_file(path)
    }
}

/// Reads a manifest's text.
pub(crate) fn read_text(files: &dyn Files, path: &Path) -> Result<String, ProjectError> {
    files.read(path, MOST_MANIFEST).map_err(|cause| ProjectError::Read { path: path.to_owned(), cause })
}
