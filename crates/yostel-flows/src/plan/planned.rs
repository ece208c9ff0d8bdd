//! One package of a plan, and where it is.

use std::path::PathBuf;

use yostel_documents::{PackageName, nearest};
use yostel_store::{InstallPlan, PlannedPackage, STATE_FOLDER};
use yostel_versions::Version;

use crate::context::Context;
use crate::error::{FlowError, InstallError, LockError};
use crate::plan::installed::CurrentInstall;
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;

/// Returns where a package is, or would when it were installed.
pub(crate) fn folder_of(
    project: &LoadedProject,
    plan: &InstallPlan,
    package: &PackageName,
    version: &Version,
) -> Option<PathBuf> {
    if let Some(folder) = plan.local.get(package) {
        let folder = project.root.join(folder);
        return Some(folder.canonicalize().unwrap_or(folder));
    }
    let planned = plan.packages.at(package, version)?;
    Some(project.target.join(STATE_FOLDER).join("packages").join(planned.folder()))
}

/// Plans a locked package as it is, or would be, installed.
pub(crate) fn planned_package(
    project: &LoadedProject,
    prepared: Prepared,
    package: &PackageName,
    context: &Context<'_>,
) -> Result<PlannedPackage, FlowError> {
    let CurrentInstall { prepared: Prepared { lockfile, declared, .. }, mut plan, .. } =
        project.installed(prepared, context)?;
    // Of several, the one that the project worked on gets; else the newest.
    let here = project.here().name();
    let requirements = declared.bound_requirements();
    let requirement =
        requirements.iter().find(|requirement| requirement.package == *package && requirement.asker.name() == here);
    let own = requirement.and_then(|requirement| lockfile.met_by(requirement, &declared));
    if let Some(planned) = own.and_then(|(_, locked)| plan.packages.at(package, &locked.version)) {
        return Ok(planned.clone());
    }
    if let Some(planned) = plan.packages.remove(package) {
        return Ok(planned);
    }
    // Locked, and not for what is installed.
    if lockfile.chosen.contains_key(package) {
        return Err(InstallError::NotInstalled.into());
    }
    let near = nearest(package.as_str(), plan.packages.keys().map(PackageName::as_str));
    let near = near.and_then(|near| PackageName::parse(near).ok());
    Err(LockError::NotLocked { package: package.clone(), near }.into())
}
