//! What a search goes by: the manifest's policy, and what of a lockfile is to be kept.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{Declared, Lockfile, PackageName, Take};
use yostel_resolve::Rules;
use yostel_versions::Version;

use crate::context::Settings;
use crate::project::LoadedProject;

/// What to keep of an earlier lockfile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keep {
    /// Every version that can stay.
    Locked,
    /// Nothing: everything as new as can be.
    Nothing,
}

/// Joins the manifest's policy with what was asked for.
pub(crate) fn rules_of(
    project: &LoadedProject,
    as_of: Option<Timestamp>,
    take: Option<Take>,
    settings: &Settings,
) -> Rules {
    let policy = &project.manifest().policy;
    let old_enough = policy.minimum_age_days.and_then(|days| {
        let seconds = i64::from(days) * 86_400;
        Timestamp::from_second(settings.now.as_second() - seconds).ok()
    });
    let published_by = [as_of, old_enough].into_iter().flatten().min();
    let platforms = project.manifest().project.platforms.clone();
    let shared_roles = policy.share_roles.clone();
    let overrides = project.overrides();
    let coexist = policy.coexist.clone();
    let take = take.or(policy.take).unwrap_or_default();
    Rules { published_by, take, platforms, shared_roles, coexist, overrides }
}

/// Versions to keep, by package.
pub(crate) type KeptVersions = BTreeMap<PackageName, BTreeSet<Version>>;

/// Reads a lockfile's versions as versions to keep: all but those that were forced and are not any more, since nobody
/// chose them.
pub(crate) fn kept_versions(lockfile: &Lockfile, declared: &Declared) -> KeptVersions {
    let mut keep = versions_of(lockfile);
    keep.retain(|name, _| !lockfile.chosen[name].forced || declared.overrides.forced.contains_key(name));
    keep
}

/// Reads a lockfile's versions as versions to keep.
pub(crate) fn versions_of(lockfile: &Lockfile) -> KeptVersions {
    let mut kept = KeptVersions::new();
    for (name, locked) in lockfile.chosen.iter() {
        kept.entry(name.clone()).or_default().insert(locked.version.clone());
    }
    kept
}
