//! From a resolution to a lockfile.

use std::collections::BTreeSet;

use yostel_documents::{Artifact, AskedBy, Chosen, Declared, LockedPackage, Lockfile, Requirement, artifact_for};

use crate::problem::requirements_of;
use crate::resolution::Resolution;

impl Resolution {
    /// Writes down a self. Local changes are for the caller to add: what they make of a tree depends on its files.
    pub fn to_lockfile(&self, declared: &Declared) -> Lockfile {
        let requirements = &declared.bound_requirements();
        let mut chosen: Chosen<LockedPackage> = self
            .chosen
            .iter()
            .map(|(name, choice)| {
                let locked = LockedPackage {
                    version: choice.release.version.clone(),
                    numbering: choice.numbering.clone(),
                    from: choice.origin.clone(),
                    record: choice.release.record(),
                    purposes: BTreeSet::new(),
                    asked_by: BTreeSet::new(),
                    artifacts: needed_artifacts(&choice.release.artifacts, &declared.platforms),
                    altered: None,
                    forced: declared.overrides.forced.contains_key(name),
                    stands_in_for: BTreeSet::new(),
                };
                (name.clone(), locked)
            })
            .collect();
        let mut ask = |asked: &[Requirement]| {
            let bound = declared.overrides.bound_all(asked, &declared.coexist);
            for asked in asked {
                let one = declared.overrides.bound(asked);
                let joined = bound.iter().find(|other| {
                    (&other.asker, &other.purpose, &other.package) == (&one.asker, &one.purpose, &one.package)
                        && match declared.coexist.contains(&one.package) {
                            true => other.accept.meets(&one.accept),
                            false => other.accept == one.accept,
                        }
                });
                let requirement = joined.unwrap_or(&one).clone();
                let met_by = self.met_by(&requirement, &declared.platforms);
                let at = met_by.map(|(name, choice)| (name, &choice.release.version));
                if let Some(locked) = at.and_then(|(name, version)| chosen.at_mut(name, version)) {
                    if asked.package != requirement.package {
                        locked.stands_in_for.insert(asked.package.clone());
                    }
                    let Requirement { asker: who, purpose, accept, .. } = requirement;
                    locked.asked_by.insert(AskedBy { who, purpose, accept });
                }
            }
        };
        ask(&declared.requirements);
        for (name, choice) in self.chosen.iter() {
            ask(&requirements_of(name, &choice.release));
        }
        let mut lockfile = Lockfile { declarations: declared.seal(), chosen };
        let reached = lockfile.reached(requirements, declared, None);
        for (name, version) in reached.iter() {
            if let Some(locked) = lockfile.chosen.at_mut(name, version) {
                locked.purposes = reached.purposes(name, version).cloned().unwrap_or_default();
            }
        }
        lockfile
    }
}

/// Keeps the artifacts that some platform takes; all of them when no platform is named.
fn needed_artifacts(artifacts: &[Artifact], platforms: &BTreeSet<String>) -> Vec<Artifact> {
    if platforms.is_empty() {
        return artifacts.to_vec();
    }
    let taken: BTreeSet<&Artifact> =
        platforms.iter().filter_map(|platform| artifact_for(artifacts, platform)).collect();
    artifacts.iter().filter(|artifact| taken.contains(artifact)).cloned().collect()
}
