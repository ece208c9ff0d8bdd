//! The file of findings that are known: read and written.

use std::io;
use std::path::Path;

use yostel_documents::Baseline;
use yostel_files::write_atomically;

use crate::context::Settings;
use crate::error::{FlowError, ProjectError};
use crate::project::files::MOST_MANIFEST;

/// Reads a baseline; nothing when there is no such file.
///
/// # Errors
/// `Read`, and `Baseline` when it is none.
pub fn read_baseline(path: &Path, settings: &Settings) -> Result<Option<Baseline>, FlowError> {
    let text = match settings.files.read(path, MOST_MANIFEST) {
        Ok(text) => text,
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(cause) => return Err(ProjectError::Read { path: path.to_owned(), cause }.into()),
    };
    match Baseline::parse(&text) {
        Ok(baseline) => Ok(Some(baseline)),
        Err(error) => Err(ProjectError::Baseline { path: path.to_owned(), text, error }.into()),
    }
}

/// Writes a baseline, whole or not at all; `says` tells what a finding is, by its name.
///
/// # Errors
/// `Store` when it cannot be written.
pub fn write_baseline(
    path: &Path,
    baseline: &Baseline,
    says: impl Fn(&str) -> Option<String>,
) -> Result<(), FlowError> {
    Ok(write_atomically(path, baseline.write(says).as_bytes())?)
}
