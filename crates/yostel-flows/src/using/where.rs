//! Where a package lies.

use std::path::PathBuf;

use yostel_documents::PackageName;

use crate::context::Settings;
use crate::error::FlowError;
use crate::plan::planned::planned_package;
use crate::project::LoadedProject;

/// Returns the folder where a package is installed.
///
/// # Errors
/// `NotLocked`, `NotInstalled`, and as loading the lockfile.
pub fn where_is(project: &LoadedProject, package: &PackageName, settings: &Settings) -> Result<PathBuf, FlowError> {
    let live = project.live();
    let folder = match live.get(package).and_then(|live| live.origin.live_folder()) {
        Some(folder) => project.root.join(folder),
        None => {
            let planned = planned_package(project, package, settings)?;
            project.target()?.state().join("packages").join(planned.folder())
        }
    };
    let folder = folder.canonicalize().unwrap_or(folder);
    if folder.is_dir() { Ok(folder) } else { Err(FlowError::NotInstalled) }
}
