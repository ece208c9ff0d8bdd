//! The environment that a project's packages make, and where they lie.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_core::{Manifest, PackageName, Purpose, Version, nearest};
use yostel_store::{Cache, InstallPlan, PlannedPackage, Project, STATE_FOLDER};

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

/// Composes the environment of the project that is worked on, of what it needs and what came along with that: what it
/// asked for itself first, then the rest, each by name.
///
/// # Errors
/// `NotInstalled` when the lockfile's packages are not (all) there, and as loading the lockfile.
pub fn environment(project: &LoadedProject, settings: &Settings) -> Result<Environment, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let target = Project::at(&project.root)?;
    let (_, selection) = as_installed(&target, &Cache::open(&settings.cache), settings);
    let declared = project.declared()?;
    let plan = plan_of(&lockfile, &declared, &selection, &project.patches()?)?;
    let mut wishes = declared.bound_wishes();
    wishes.retain(|wish| wish.asker.name() == project.here().name());
    // What was left out of the install on purpose is not missed.
    let taken = |purpose: &Purpose| selection.purposes.is_empty() || selection.purposes.contains(purpose);
    wishes.retain(|wish| taken(&wish.purpose) && wish.accept.covers(&selection.platform));
    let met = wishes.iter().filter_map(|wish| lockfile.met_by(wish, &declared));
    let direct: BTreeSet<_> = met.map(|(name, locked)| (name, &locked.version)).collect();
    let reached = lockfile.reached(&wishes, &declared, Some(&selection.platform));
    let mut packages: Vec<(&PackageName, &Version)> = reached.iter().collect();
    packages.sort_by_key(|id| !direct.contains(id));
    let mut environment = Environment::default();
    for (name, version) in packages {
        let Some(folder) = folder_of(project, &plan, name, version).filter(|folder| folder.is_dir()) else {
            return Err(FlowError::NotInstalled);
        };
        // A package without a manifest offers nothing.
        let Ok(text) = std::fs::read_to_string(folder.join(MANIFEST_NAME)) else { continue };
        let Some(offers) = Manifest::offers_of(&text) else { continue };
        for path in &offers.programs {
            environment.prepend.entry("PATH".into()).or_default().push(folder.join(path));
        }
        for (variable, path) in &offers.variables {
            environment.prepend.entry(variable.clone()).or_default().push(folder.join(path));
        }
    }
    Ok(environment)
}

/// Returns where a package lies, or would when it were installed.
fn folder_of(project: &LoadedProject, plan: &InstallPlan, package: &PackageName, version: &Version) -> Option<PathBuf> {
    if let Some(folder) = plan.live.get(package) {
        let folder = project.root.join(folder);
        return Some(folder.canonicalize().unwrap_or(folder));
    }
    let planned = plan.packages.at(package, version)?;
    Some(project.root.join(STATE_FOLDER).join("packages").join(planned.folder()))
}

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
            Project::at(&project.root)?.state().join("packages").join(planned.folder())
        }
    };
    let folder = folder.canonicalize().unwrap_or(folder);
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
    let declared = project.declared()?;
    let mut plan = plan_of(&lockfile, &declared, &selection, &project.patches()?)?;
    // Of several, the one that the project worked on gets; else the newest.
    let here = project.here().name();
    let wishes = declared.bound_wishes();
    let wish = wishes.iter().find(|wish| wish.package == *package && wish.asker.name() == here);
    let own = wish.and_then(|wish| lockfile.met_by(wish, &declared));
    if let Some(planned) = own.and_then(|(_, locked)| plan.packages.at(package, &locked.version)) {
        return Ok(planned.clone());
    }
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
