//! Pictures and pages that are written where somebody says.

use std::io::{self, Read};
use std::path::Path;

use yostel_files::{open_regular, write_atomically};

use crate::error::{FlowError, ProjectError};

/// Where the mark is, in bytes: before anything that packages say.
const BEGINNING: u64 = 120;

/// Writes a picture or a page, whole or not at all. A file that is there already is written anew only if it has `mark` at
/// its beginning, which says that it is one of these.
///
/// # Errors
/// `Read`, `NotOurs`; `Store` when it cannot be written.
pub fn write_picture(path: &Path, content: &[u8], mark: &str) -> Result<(), FlowError> {
    match beginning_of(path) {
        Ok(old) if old.is_empty() || String::from_utf8_lossy(&old).contains(mark) => {}
        Ok(_) => return Err(ProjectError::NotOurs(path.to_owned()).into()),
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => {}
        Err(cause) => return Err(ProjectError::Read { path: path.to_owned(), cause }.into()),
    }
    Ok(write_atomically(path, content)?)
}

fn beginning_of(path: &Path) -> io::Result<Vec<u8>> {
    let mut beginning = Vec::new();
    open_regular(path)?.take(BEGINNING).read_to_end(&mut beginning)?;
    Ok(beginning)
}
