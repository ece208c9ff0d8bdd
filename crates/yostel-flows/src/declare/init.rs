//! Start a manifest.

use std::path::{Path, PathBuf};

use yostel_documents::{PackageName, SourceName, SourcePlace, add_source, new_manifest};
use yostel_files::{Disk, Folder};

use crate::context::Context;
use crate::declare::sources::{SourceDoubt, doubt_about, registries_nearby};
use crate::error::{FlowError, ProjectError};
use crate::project::files::MANIFEST_NAME;
use crate::project::write::Writing;

/// A first manifest.
#[derive(Debug, Clone)]
pub struct InitRequest {
    /// The project's name.
    pub name: PackageName,
    /// A source to name in it: its name, and where its registry is.
    pub source: Option<(SourceName, SourcePlace)>,
}

/// A manifest that was started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InitReport {
    /// Its file.
    pub path: PathBuf,
    /// Why its source cannot be asked yet, when it cannot.
    pub doubt: Option<SourceDoubt>,
    /// Registries nearby, as paths from the folder, when it names no source.
    pub nearby: Vec<String>,
}

/// Writes a manifest into a folder that has none.
///
/// # Errors
/// `AlreadyAProject`, or `Store` when it cannot be written.
pub fn init(folder: &Path, request: &InitRequest, context: &Context<'_>) -> Result<InitReport, FlowError> {
    let path = folder.join(MANIFEST_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::AlreadyAProject(path).into());
    }
    let mut text = new_manifest(&request.name, "0.1.0");
    if let Some((name, place)) = &request.source {
        text = add_source(&text, name, place, &[]).map_err(ProjectError::Edit)?;
    }
    Folder::make_on(&Disk::default(), folder)?;
    Writing::at(folder, context).put(MANIFEST_NAME, Some(text.as_bytes()))?;
    let source = request.source.as_ref().and_then(|(_, place)| place.folder());
    let doubt = source.and_then(|source| doubt_about(&folder.join(source)));
    let nearby = if request.source.is_none() { registries_nearby(folder) } else { Vec::new() };
    Ok(InitReport { path, doubt, nearby })
}
