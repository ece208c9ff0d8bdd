//! The files of a project: their names, and how much of them is read.

use std::path::Path;

use yostel_files::read_text_of;

use crate::error::FlowError;

/// The manifest's file name.
pub const MANIFEST_NAME: &str = "yostel.toml";

/// The lockfile's file name.
pub const LOCKFILE_NAME: &str = "yostel.lock";

/// Longest manifest and longest lockfile that are read, in bytes: a clone may bring a link to something without end.
pub(crate) const MOST_MANIFEST: u64 = 4 << 20;

pub(crate) const MOST_LOCKFILE: u64 = 256 << 20;

/// Reads a text file.
pub(crate) fn read_text(path: &Path) -> Result<String, FlowError> {
    read_text_of(path, MOST_MANIFEST).map_err(|cause| FlowError::Read { path: path.to_owned(), cause })
}
