//! Pictures and pages that are written where somebody says.

use std::io;
use std::path::Path;

use yostel_files::write_atomically;

use crate::context::Settings;
use crate::error::{FlowError, ProjectError};

/// Most of a file that is read to see who wrote it.
const MOST_OF_A_PICTURE: u64 = 256 << 20;

/// Writes a picture or a page, whole or not at all. A file that is there already is written anew only if it has `mark` near
/// its beginning, which says that it is one of ours.
///
/// # Errors
/// `Read`, `NotOurs`; `Store` when it cannot be written.
pub fn write_picture(path: &Path, content: &str, mark: &str, settings: &Settings) -> Result<(), FlowError> {
    match settings.files.read(path, MOST_OF_A_PICTURE) {
        Ok(old) if old.is_empty() || is_marked(&old, mark) => {}
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => {}
        // What is no text is not ours either.
        Ok(_) => return Err(ProjectError::NotOurs(path.to_owned()).into()),
        Err(cause) if matches!(cause.kind(), io::ErrorKind::InvalidData | io::ErrorKind::FileTooLarge) => {
            return Err(ProjectError::NotOurs(path.to_owned()).into());
        }
        Err(cause) => return Err(ProjectError::Read { path: path.to_owned(), cause }.into()),
    }
    Ok(write_atomically(path, content.as_bytes())?)
}

/// The mark is in one of the first lines, before anything that packages say.
fn is_marked(text: &str, mark: &str) -> bool {
    text.lines().take(3).any(|line| line.contains(mark))
}
