//! What a search goes by: the manifest's policy, and what of a lockfile is to be kept.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{Declared, Lockfile, PackageName, Take};
use yostel_resolve::{MinimumAge, Resolution, Rules};
use yostel_versions::Version;

use crate::context::Settings;
use crate::project::LoadedProject;

/// What to keep of an earlier lockfile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keep {
    /// Every version that can stay.
    Locked,
    /// Like `Locked`, but for these packages: they may move as if they were new.
    But(BTreeSet<PackageName>),
    /// Nothing: everything as new as can be.
    Nothing,
}

impl Keep {
    /// Tells whether a package is to be kept where it is.
    pub fn keeps(&self, package: &PackageName) -> bool {
        match self {
            Self::Locked => true,
            Self::But(free) => !free.contains(package),
            Self::Nothing => false,
        }
    }
}

/// Joins the manifest's policy with what was asked for.
pub(crate) fn rules_of(
    project: &LoadedProject,
    as_of: Option<Timestamp>,
    take: Option<Take>,
    settings: &Settings,
) -> Rules {
    let policy = &project.manifest().policy;
    let minimum_age = policy.minimum_age_days.map(|days| MinimumAge { days, now: settings.now });
    let admit = &project.manifest().admit;
    let admitted = admit.iter().map(|(package, admit)| (package.clone(), admit.version.clone())).collect();
    let platforms = project.manifest().project.platforms.clone();
    let shared_roles = policy.share_roles.clone();
    let overrides = project.overrides();
    let coexist = policy.coexist.clone();
    let take = take.or(policy.take).unwrap_or_default();
    Rules { published_by: as_of, minimum_age, admitted, take, platforms, shared_roles, coexist, overrides }
}

/// Versions to keep, by package.
pub(crate) type KeptVersions = BTreeMap<PackageName, BTreeSet<Version>>;

/// Reads a lockfile's versions as versions to keep: all that may be kept but those that were forced and are not any more,
/// since nobody chose them.
pub(crate) fn kept_versions(lockfile: &Lockfile, declared: &Declared, keep: &Keep) -> KeptVersions {
    let mut kept = versions_of(lockfile);
    let was_chosen = |name: &PackageName| !lockfile.chosen[name].forced || declared.overrides.forced.contains_key(name);
    kept.retain(|name, _| keep.keeps(name) && was_chosen(name));
    kept
}

/// Reads a lockfile's versions as versions to keep.
pub(crate) fn versions_of(lockfile: &Lockfile) -> KeptVersions {
    let mut kept = KeptVersions::new();
    for (name, locked) in lockfile.chosen.iter() {
        kept.entry(name.clone()).or_default().insert(locked.version.clone());
    }
    kept
}

/// Reads the versions of a set as versions to keep.
pub(crate) fn versions_in(resolution: &Resolution) -> KeptVersions {
    let mut versions = KeptVersions::new();
    for (name, choice) in resolution.chosen.iter() {
        versions.entry(name.clone()).or_default().insert(choice.release.version.clone());
    }
    versions
}
