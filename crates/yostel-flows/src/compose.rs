//! From a lockfile to an install plan: which artifact fits this machine, and who is linked to what.

use std::collections::{BTreeMap, BTreeSet};

use yostel_core::{AskedBy, Asker, Lockfile, PackageName, Purpose};
use yostel_store::{InstallPlan, Link, PlannedPackage};

use crate::error::FlowError;
use crate::patches::Patches;

/// Which part of a lockfile to install.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Selection {
    /// System and architecture.
    pub platform: String,
    /// Only what is reached for one of these purposes; everything when there is none.
    pub purposes: BTreeSet<Purpose>,
}

impl Selection {
    /// Selects everything, on a platform.
    pub fn all_for(platform: impl Into<String>) -> Self {
        Self { platform: platform.into(), purposes: BTreeSet::new() }
    }

    fn takes(&self, purposes: &BTreeSet<Purpose>) -> bool {
        self.purposes.is_empty() || !self.purposes.is_disjoint(purposes)
    }
}

/// Plans the install of a lockfile, or of the part that is selected, with the patches that the project's manifest names.
///
/// # Errors
/// `NoArtifact` for each package that has nothing for the platform; `Patch` for a patch that is none.
pub fn plan_of(lockfile: &Lockfile, selection: &Selection, patches: &Patches) -> Result<InstallPlan, FlowError> {
    let platform = &selection.platform;
    let is_taken =
        |name: &PackageName| lockfile.chosen.get(name).is_some_and(|locked| selection.takes(&locked.purposes));
    let mut packages = BTreeMap::new();
    let mut links = BTreeSet::new();
    let mut failures = Vec::new();
    for (name, locked) in lockfile.chosen.iter().filter(|(name, _)| is_taken(name)) {
        let Some((artifact, altered)) = locked.fitting(platform) else {
            failures.push(FlowError::NoArtifact {
                package: name.clone(),
                version: locked.version.clone(),
                wanted: platform.clone(),
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
        let asks = |asked: &&AskedBy| match &asked.who {
            Asker::Project(_) => selection.takes(&BTreeSet::from([asked.purpose.clone()])),
            Asker::Release(name, _) => is_taken(name),
        };
        for asked in locked.asked_by.iter().filter(asks) {
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
            platform: platform.clone(),
            purposes: selection.purposes.iter().map(ToString::to_string).collect(),
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
