//! From a lockfile to an install plan: which artifact fits this machine, and who is linked to what.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{AskedBy, Asker, Chosen, Declared, Lockfile, PackageName, Purpose, Requirement, run_purpose};
use yostel_store::{InstallPlan, Link, PlannedPackage};
use yostel_versions::Version;

use crate::error::{ContentError, FlowError};
use crate::project::patches::Patches;
use crate::project::prepared::Prepared;

/// Which part of a lockfile to install.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Selection {
    /// System and architecture.
    pub platform: String,
    /// Only what is reached for one of these purposes; everything when there is none.
    pub purposes: BTreeSet<Purpose>,
    /// Only what these projects of the workspace reach; everything when there is none.
    pub projects: BTreeSet<PackageName>,
}

impl Selection {
    /// Selects everything, on a platform.
    pub fn all_for(platform: impl Into<String>) -> Self {
        Self { platform: platform.into(), ..Self::default() }
    }

    /// Tells whether what somebody in a project needs is selected by itself.
    fn takes(&self, requirement: &Requirement) -> bool {
        (self.purposes.is_empty() || self.purposes.contains(&requirement.purpose))
            && (self.projects.is_empty() || self.projects.contains(requirement.asker.name()))
    }
}

impl Prepared {
    /// Plans the install of what is selected.
    ///
    /// # Errors
    /// As [`plan_of`].
    pub(crate) fn plan(&self, selection: &Selection) -> Result<InstallPlan, FlowError> {
        let mut plan = plan_of(&self.lockfile, &self.declared, selection, &self.patches)?;
        if let Some(root) = &self.seen_from_elsewhere {
            for folder in plan.local.values_mut() {
                *folder = root.join(&*folder).to_string_lossy().into_owned();
            }
        }
        Ok(plan)
    }
}

/// Plans the install of a lockfile, or of the part that is selected, with the patches that the project's manifest names.
///
/// # Errors
/// `NoArtifact` for each package that has nothing for the platform; `Patch` for a patch that is none.
pub fn plan_of(
    lockfile: &Lockfile,
    declared: &Declared,
    selection: &Selection,
    patches: &Patches,
) -> Result<InstallPlan, FlowError> {
    let platform = &selection.platform;
    let mut requirements = declared.bound_requirements();
    requirements.retain(|requirement| selection.takes(requirement));
    let reached = lockfile.reached(&requirements, declared, Some(platform));
    // A project that others need brings along what it needs to run.
    let all = declared.bound_requirements();
    let comes_along =
        |requirement: &&Requirement| requirement.purpose == run_purpose() && reached.has(requirement.asker.name());
    let of_local =
        declared.local.keys().filter(|name| reached.has(name)).flat_map(|name| declared.needs_of_local(name));
    let needs = requirements.iter().chain(all.iter().filter(comes_along)).cloned().chain(of_local);
    let mut links: BTreeSet<Link> = needs
        .filter_map(|need| {
            let met = lockfile.met_by(&need, declared).filter(|_| need.accept.covers(platform));
            let (name, locked) = met?;
            Some(link(&need.asker, &need.purpose, name, &locked.version))
        })
        .collect();
    let mut packages = Chosen::default();
    let mut local = BTreeMap::new();
    let mut failures = Vec::new();
    let is_reached = |name: &PackageName, version: &Version| reached.purposes(name, version).is_some();
    for (name, locked) in lockfile.chosen.iter().filter(|(name, locked)| is_reached(name, &locked.version)) {
        let release = |asked: &&AskedBy| match &asked.who {
            Asker::Project(_) => false,
            Asker::Release(asker, version) => {
                let is_local = declared.local.contains_key(asker);
                !is_local && is_reached(asker, version) && asked.accept.covers(platform)
            }
        };
        let by_releases = locked.asked_by.iter().filter(release);
        links.extend(by_releases.map(|asked| link(&asked.who, &asked.purpose, name, &locked.version)));
        if let Some(folder) = locked.from.local_folder() {
            local.insert(name.clone(), folder.to_owned());
            continue;
        }
        let Some((artifact, altered)) = locked.fitting(platform) else {
            failures.push(
                ContentError::NoArtifact {
                    package: name.clone(),
                    version: locked.version.clone(),
                    wanted: platform.clone(),
                    offered: locked.artifacts.iter().map(|artifact| artifact.platform.clone()).collect(),
                }
                .into(),
            );
            continue;
        };
        let planned = PlannedPackage {
            name: name.clone(),
            version: locked.version.clone(),
            artifact: artifact.clone(),
            altered: patches.planned(name, altered)?,
        };
        packages.insert(name.clone(), planned);
    }
    if failures.is_empty() {
        Ok(InstallPlan {
            lock: lockfile.seal(),
            platform: platform.clone(),
            purposes: selection.purposes.iter().map(ToString::to_string).collect(),
            projects: selection.projects.iter().map(ToString::to_string).collect(),
            packages,
            local,
            links: links.into_iter().collect(),
        })
    } else {
        Err(FlowError::several(failures))
    }
}

fn link(who: &Asker, purpose: &Purpose, package: &PackageName, version: &Version) -> Link {
    let (package, version) = (package.clone(), version.clone());
    Link { who: who.clone(), purpose: purpose.to_string(), package, version }
}
