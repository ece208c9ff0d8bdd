//! Start a manifest.

use std::path::{Path, PathBuf};

use yostel_documents::{PackageName, SourceName, new_manifest};
use yostel_files::{Disk, Folder};

use crate::error::{FlowError, ProjectError};
use crate::project::files::MANIFEST_NAME;

/// A first manifest.
#[derive(Debug, Clone)]
pub struct InitRequest {
    /// The project's name.
    pub name: PackageName,
    /// A source to name in it: name and folder.
    pub source: Option<(SourceName, String)>,
}

/// Writes a manifest into a folder that has none, and returns its file.
///
/// # Errors
/// `AlreadyAProject`, or `Store` when it cannot be written.
pub fn init(folder: &Path, request: &InitRequest) -> Result<PathBuf, FlowError> {
    let path = folder.join(MANIFEST_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::AlreadyAProject(path).into());
    }
    let mut text = new_manifest(&request.name, "0.1.0");
    if let Some((name, folder)) = &request.source {
        let folder = folder.replace('\\', "\\\\").replace('"', "\\\"");
        text.push_str(&format!("\n[sources.{name}]\nfolder = \"{folder}\"\n"));
    }
    Folder::make_on(&Disk::default(), folder)?.write_atomically(MANIFEST_NAME, text.as_bytes())?;
    Ok(path)
}
