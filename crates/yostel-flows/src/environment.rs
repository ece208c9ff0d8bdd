//! The environment that a project's packages make, and where they lie.

use std::collections::BTreeMap;
use std::path::PathBuf;

use yostel_core::{Manifest, PackageName, nearest};
use yostel_store::{Cache, PlannedPackage, Project};

use crate::compose::plan_of;
use crate::error::FlowError;
use crate::install::as_installed;
use crate::project::{LoadedProject, MANIFEST_NAME, Settings, load_fitting_lockfile};

/// Folders to put before what each variable of the environment holds.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Environment {
    /// By variable; `PATH` among them when programs are offered.
    pub prepend: BTreeMap<String, Vec<PathBuf>>,
}

/// Composes the environment: what the project asked for itself first, then what came along, each by name.
///
/// # Errors
/// `NotInstalled` when the lockfile's packages are not (all) there, and as loading the lockfile.
pub fn environment(project: &LoadedProject, settings: &Settings) -> Result<Environment, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let target = Project::at(&project.root)?;
    let (_, selection) = as_installed(&target, &Cache::open(&settings.cache), settings);
    let plan = plan_of(&lockfile, &selection, &project.patches()?)?;
    let state = target.state().to_owned();
    let mut packages: Vec<_> = plan.packages.values().collect();
    packages.sort_by_key(|package| (!lockfile.is_direct(&package.name), package.name.clone()));
    let mut environment = Environment::default();
    for package in packages {
        let folder = state.join("packages").join(package.folder());
        if !folder.is_dir() {
            return Err(FlowError::NotInstalled);
        }
        // A package without a manifest offers nothing.
        let Ok(text) = std::fs::read_to_string(folder.join(MANIFEST_NAME)) else { continue };
        let Ok(manifest) = Manifest::parse(&text) else { continue };
        for path in &manifest.offers.programs {
            environment.prepend.entry("PATH".into()).or_default().push(folder.join(path));
        }
        for (variable, path) in &manifest.offers.variables {
            environment.prepend.entry(variable.clone()).or_default().push(folder.join(path));
        }
    }
    Ok(environment)
}

/// Returns the folder where a package is installed.
///
/// # Errors
/// `NotLocked`, `NotInstalled`, and as loading the lockfile.
pub fn where_is(project: &LoadedProject, package: &PackageName, settings: &Settings) -> Result<PathBuf, FlowError> {
    let planned = planned_package(project, package, settings)?;
    let folder = Project::at(&project.root)?.state().join("packages").join(planned.folder());
    if folder.is_dir() { Ok(folder) } else { Err(FlowError::NotInstalled) }
}

/// Plans a locked package as it is, or would be, installed.
pub(crate) fn planned_package(
    project: &LoadedProject,
    package: &PackageName,
    settings: &Settings,
) -> Result<PlannedPackage, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let (_, selection) = as_installed(&Project::at(&project.root)?, &Cache::open(&settings.cache), settings);
    let mut plan = plan_of(&lockfile, &selection, &project.patches()?)?;
    if let Some(planned) = plan.packages.remove(package) {
        return Ok(planned);
    }
    // Locked, and not for what is installed.
    if lockfile.chosen.contains_key(package) {
        return Err(FlowError::NotInstalled);
    }
    let near = nearest(package.as_str(), plan.packages.keys().map(PackageName::as_str));
    let near = near.and_then(|near| PackageName::parse(near).ok());
    Err(FlowError::NotLocked { package: package.clone(), near })
}
