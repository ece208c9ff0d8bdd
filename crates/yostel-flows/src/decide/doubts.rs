//! What is probably not meant, told when it is locked: rules that nothing meets, needs that count nowhere, purposes that are
//! spelt twice, packages that this very machine cannot install.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Declared, Lockfile, PackageName, Purpose, Requirement, artifact_for, nearest};
use yostel_versions::Version;

use crate::project::LoadedProject;

/// Something that is probably not meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Doubt {
    /// An entry about a package that nothing needs.
    UnmetRule {
        /// The table.
        table: &'static str,
        /// The package.
        package: PackageName,
        /// The package that was probably meant.
        near: Option<PackageName>,
    },
    /// A need that counts on none of the listed platforms.
    CountsNowhere(Requirement),
    /// A purpose that one need has, and that is nearly another.
    LonelyPurpose {
        /// The purpose.
        purpose: Purpose,
        /// The other.
        near: Purpose,
    },
    /// A package that offers nothing for this machine, where no platforms are listed.
    NotForHere {
        /// The package.
        package: PackageName,
        /// The version.
        version: Version,
        /// This machine's platform.
        platform: String,
    },
}

/// Lists what is probably not meant.
pub(crate) fn doubts(project: &LoadedProject, declared: &Declared, lockfile: &Lockfile, platform: &str) -> Vec<Doubt> {
    let mut found = unmet_rules(project, lockfile);
    let nowhere = |one: &&Requirement| !declared.counts(&one.accept, None);
    found.extend(declared.requirements.iter().filter(nowhere).cloned().map(Doubt::CountsNowhere));
    found.extend(lonely_purposes(&declared.requirements));
    if declared.platforms.is_empty() {
        let not_here = lockfile
            .chosen
            .iter()
            .filter(|(_, locked)| !locked.artifacts.is_empty() && artifact_for(&locked.artifacts, platform).is_none());
        found.extend(not_here.map(|(name, locked)| Doubt::NotForHere {
            package: name.clone(),
            version: locked.version.clone(),
            platform: platform.to_owned(),
        }));
    }
    found
}

fn unmet_rules(project: &LoadedProject, lockfile: &Lockfile) -> Vec<Doubt> {
    let manifest = project.manifest();
    let swapped: BTreeSet<&PackageName> =
        lockfile.chosen.iter().flat_map(|(_, locked)| &locked.stands_in_for).collect();
    let there: BTreeSet<&PackageName> = lockfile.chosen.keys().chain(swapped.iter().copied()).collect();
    // A swap that is one of several in a row is met when the row is.
    let leads_on: BTreeSet<&PackageName> = manifest.swap.values().map(|swap| &swap.by).collect();
    let unmet = |table, package: &PackageName| {
        let near = nearest(package.as_str(), there.iter().map(|name| name.as_str()));
        let near = near.and_then(|near| PackageName::parse(near).ok());
        Doubt::UnmetRule { table, package: package.clone(), near }
    };
    let is_there = |package: &&PackageName| lockfile.chosen.contains_key(package);
    let agreed = manifest.agreed.keys().filter(|package| !is_there(package)).map(|package| unmet("agreed", package));
    let forced = manifest.force.keys().filter(|package| !is_there(package)).map(|package| unmet("force", package));
    let admitted = manifest.admit.keys().filter(|package| !is_there(package)).map(|package| unmet("admit", package));
    let swaps = manifest.swap.iter().filter(|(package, swap)| {
        let met = swapped.contains(package) || leads_on.contains(package);
        !(met || swap.is_of_place(package) && is_there(package))
    });
    agreed.chain(forced).chain(admitted).chain(swaps.map(|(package, _)| unmet("swap", package))).collect()
}

/// Finds purposes of one need that are nearly those of others, or nearly a usual one.
fn lonely_purposes(requirements: &[Requirement]) -> Vec<Doubt> {
    let mut needs: BTreeMap<&Purpose, usize> = BTreeMap::new();
    for requirement in requirements {
        *needs.entry(&requirement.purpose).or_default() += 1;
    }
    let usual = ["run", "build", "test"];
    let lonely = needs.iter().filter(|(purpose, count)| **count == 1 && !usual.contains(&purpose.as_str()));
    let near = |purpose: &Purpose| {
        let others = needs.iter().filter(|(other, count)| **other != purpose && **count > 1);
        let others = others.map(|(other, _)| other.as_str()).chain(usual);
        nearest(purpose.as_str(), others).and_then(|near| Purpose::parse(near).ok())
    };
    lonely
        .filter_map(|(purpose, _)| Some(Doubt::LonelyPurpose { purpose: (*purpose).clone(), near: near(purpose)? }))
        .collect()
}
