//! Start a manifest.

use std::path::{Path, PathBuf};

use yostel_documents::{PackageName, REGISTRY_HEAD, SourceName, new_manifest};
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

/// What stands in the way of a source that a new manifest names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SourceDoubt {
    /// There is no such folder.
    NoFolder,
    /// The folder is there, and no registry is in it.
    NoRegistry,
}

/// A manifest that was started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InitReport {
    /// Its file.
    pub path: PathBuf,
    /// Why its source cannot be asked yet, when it cannot.
    pub doubt: Option<SourceDoubt>,
}

/// Writes a manifest into a folder that has none.
///
/// # Errors
/// `AlreadyAProject`, or `Store` when it cannot be written.
pub fn init(folder: &Path, request: &InitRequest) -> Result<InitReport, FlowError> {
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
    let doubt = request.source.as_ref().and_then(|(_, source)| {
        let source = folder.join(source);
        if !source.is_dir() {
            return Some(SourceDoubt::NoFolder);
        }
        (!source.join(REGISTRY_HEAD).is_file()).then_some(SourceDoubt::NoRegistry)
    });
    Ok(InitReport { path, doubt })
}
