//! Who needs what, from the lockfile and from what is declared now.

use std::collections::BTreeMap;

use yostel_documents::{Asker, Declared, LockedPackage, Lockfile, Origin, PackageName, Purpose};
use yostel_versions::{ConstraintText, Version};

/// One need of somebody.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct NeedOf {
    /// The package that meets it.
    pub(crate) package: PackageName,
    /// At this version.
    pub(crate) version: Version,
    /// What is accepted.
    pub(crate) accept: ConstraintText,
    /// What for.
    pub(crate) purpose: Purpose,
}

/// Lists the needs of everybody who has some: those of releases as they are locked, those of projects as they are declared
/// now, for a need that came later and is met by what is locked is a need like any other.
pub(crate) fn needs_by_asker(lockfile: &Lockfile, declared: &Declared) -> BTreeMap<Asker, Vec<NeedOf>> {
    let mut needs: BTreeMap<Asker, Vec<NeedOf>> = BTreeMap::new();
    for (package, locked) in lockfile.chosen.iter() {
        for asked in locked.asked_by.iter().filter(|asked| !asked.who.is_project()) {
            needs.entry(asked.who.clone()).or_default().push(NeedOf {
                package: package.clone(),
                version: locked.version.clone(),
                accept: asked.accept.clone(),
                purpose: asked.purpose.clone(),
            });
        }
    }
    for requirement in declared.bound_requirements() {
        if let Some((package, locked)) = lockfile.met_by(&requirement, declared) {
            needs.entry(requirement.asker.clone()).or_default().push(NeedOf {
                package: package.clone(),
                version: locked.version.clone(),
                accept: requirement.accept.clone(),
                purpose: requirement.purpose.clone(),
            });
        }
    }
    needs.values_mut().for_each(|of| of.sort());
    needs
}

/// Says in whose name a locked package asks: what a project needs is told in its own name.
pub(crate) fn asker_of(package: &PackageName, locked: &LockedPackage) -> Asker {
    match &locked.from {
        Origin::Project { .. } => Asker::Project(package.clone()),
        _ => Asker::Release(package.clone(), locked.version.clone()),
    }
}
