//! Two lockfiles that came from one: what of both is to be kept.

use std::collections::BTreeSet;

use yostel_documents::{Chosen, LockedPackage, Lockfile, PackageName};
use yostel_versions::Version;

/// What of two lockfiles is to be kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merged {
    /// Every version that either side moved to, and those that neither moved away from. It fits no manifest yet.
    pub lockfile: Lockfile,
    /// Packages that both sides moved, each to another version.
    pub both: Vec<BothMoved>,
}

/// A package that both sides moved, each to another version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BothMoved {
    /// The package.
    pub package: PackageName,
    /// Where ours moved it.
    pub ours: Version,
    /// Where theirs did.
    pub theirs: Version,
}

/// Merges what two sides made of a lockfile, version by version: one stays where both have it, and where the side that has
/// it chose it anew. Where both moved a package that may be there once, the newer version is kept. With no `base`, both
/// sides began with nothing.
pub fn merge(base: Option<&Lockfile>, ours: &Lockfile, theirs: &Lockfile, coexist: &BTreeSet<PackageName>) -> Merged {
    let mut chosen: Chosen<LockedPackage> = Chosen::default();
    let mut both = Vec::new();
    let names: BTreeSet<&PackageName> = ours.chosen.keys().chain(theirs.chosen.keys()).collect();
    for name in names {
        let has = |lockfile: &Lockfile, version: &Version| lockfile.chosen.at(name, version).is_some();
        let was_there = |version: &Version| base.is_some_and(|base| has(base, version));
        // A side that needs a package no more did not move it: if the other still needs it, it stays.
        let stays = |here: &LockedPackage, other: &Lockfile| {
            !other.chosen.contains_key(name) || has(other, &here.version) || !was_there(&here.version)
        };
        let of_ours: Vec<_> = ours.chosen.all(name).iter().filter(|here| stays(here, theirs)).collect();
        let of_theirs: Vec<_> = theirs.chosen.all(name).iter().filter(|here| stays(here, ours)).collect();
        let mut kept: Chosen<LockedPackage> = Chosen::default();
        of_theirs.iter().chain(&of_ours).for_each(|one| kept.insert(name.clone(), (*one).clone()));
        if kept.len() > 1 && !coexist.contains(name) {
            let alone = |here: &[&LockedPackage], other: &Lockfile| {
                here.iter().rfind(|one| !has(other, &one.version)).map(|one| one.version.clone())
            };
            if let (Some(ours), Some(theirs)) = (alone(&of_ours, theirs), alone(&of_theirs, ours)) {
                both.push(BothMoved { package: name.clone(), ours, theirs });
            }
            chosen.insert(name.clone(), kept[name].clone());
            continue;
        }
        kept.all(name).iter().for_each(|one| chosen.insert(name.clone(), one.clone()));
    }
    Merged { lockfile: Lockfile { declarations: ours.declarations, chosen }, both }
}
