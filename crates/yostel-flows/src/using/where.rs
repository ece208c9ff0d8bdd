//! Where a package is.

use std::path::PathBuf;

use yostel_documents::PackageName;

use crate::context::Context;
use crate::error::{FlowError, InstallError};
use crate::plan::planned::planned_package;
use crate::project::LoadedProject;

/// Returns the folder where a package is installed.
///
/// # Errors
/// `NotLocked`, `NotInstalled`, and as loading the lockfile.
pub fn where_is(project: &LoadedProject, package: &PackageName, context: &Context<'_>) -> Result<PathBuf, FlowError> {
    let local = project.local();
    let folder = match local.get(package).and_then(|local| local.origin.local_folder()) {
        Some(folder) => project.root.join(folder),
        None => {
            let planned = planned_package(project, project.prepare_to_look(context.observer)?, package, context)?;
            project.target()?.state().join("packages").join(planned.folder())
        }
    };
    let folder = folder.canonicalize().unwrap_or(folder);
    if folder.is_dir() { Ok(folder) } else { Err(InstallError::NotInstalled.into()) }
}
