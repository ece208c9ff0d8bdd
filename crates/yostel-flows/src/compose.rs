//! From a lockfile to an install plan: which artifact fits this machine, and who is linked to what.

use std::collections::{BTreeMap, BTreeSet};

use yostel_core::{Asker, Lockfile, PackageName};
use yostel_store::{InstallPlan, Link, PlannedPackage};

use crate::error::FlowError;
use crate::patches::Patches;

/// Plans the install of a lockfile on a platform, with the patches that the project's manifest names.
///
/// # Errors
/// `NoArtifact` for each package that has nothing for the platform; `Patch` for a patch that is none.
pub fn plan_of(lockfile: &Lockfile, platform: &str, patches: &Patches) -> Result<InstallPlan, FlowError> {
    let mut packages = BTreeMap::new();
    let mut links = BTreeSet::new();
    let mut failures = Vec::new();
    for (name, locked) in &lockfile.chosen {
        let Some((artifact, altered)) = locked.fitting(platform) else {
            failures.push(FlowError::NoArtifact {
                package: name.clone(),
                version: locked.version.clone(),
                wanted: platform.to_owned(),
                offered: locked.artifacts.iter().map(|artifact| artifact.platform.clone()).collect(),
            });
            continue;
        };
        let planned = PlannedPackage {
            name: name.clone(),
            version: locked.version.clone(),
            artifact: artifact.clone(),
            altered: patches.planned(name, altered)?,
        };
        packages.insert(name.clone(), planned);
        for asked in &locked.asked_by {
            links.insert(Link {
                who: who_element(&asked.who),
                purpose: asked.purpose.to_string(),
                package: name.clone(),
            });
        }
    }
    if failures.is_empty() {
        Ok(InstallPlan {
            lock: lockfile.seal(),
            platform: platform.to_owned(),
            packages,
            links: links.into_iter().collect(),
        })
    } else {
        Err(FlowError::several(failures))
    }
}

fn who_element(who: &Asker) -> String {
    let element = PackageName::to_path_element;
    match who {
        Asker::Project(name) => element(name),
        Asker::Release(name, version) => format!("{}@{version}", element(name)),
    }
}
