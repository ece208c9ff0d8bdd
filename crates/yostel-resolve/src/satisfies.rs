//! Is this set right? Written straight from the rules of docs/resolution.md §1; shares nothing with the encoding, so
//! that each judges the other.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use yostel_documents::{ANY_PLATFORM, Artifact, PackageName, Release, Requirement, Word};
use yostel_versions::{Bindings, Version};

use crate::problem::{MinimumAge, Problem, requirements_of};
use crate::resolution::{Choice, Resolution};

/// A rule that a set breaks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Violation {
    /// A requirement's package is not in the set.
    Missing(Requirement),
    /// A requirement does not accept the version in the set.
    NotAccepted(Requirement, Version),
    /// Nothing needs the package.
    Unneeded(PackageName),
    /// The release is withdrawn and was not there before.
    Withdrawn(PackageName, Version),
    /// The release was published after the date allowed, or is too young, and was not there before.
    TooNew(PackageName, Version),
    /// The package is there at an earlier version too, and may not be.
    Twice(PackageName, Version),
    /// Two packages fill one role.
    RoleTwice(Word, PackageName, PackageName),
    /// The release offers nothing for a platform that is to be served.
    Unserved(PackageName, Version, String),
}

impl fmt::Display for Violation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing(requirement) => write!(f, "{requirement}, which is missing"),
            Self::NotAccepted(requirement, version) => write!(f, "{requirement}, not {version}"),
            Self::Unneeded(package) => write!(f, "nothing needs {package}"),
            Self::Withdrawn(package, version) => write!(f, "{package} {version} is withdrawn"),
            Self::TooNew(package, version) => write!(f, "{package} {version} is too new"),
            Self::Twice(package, version) => write!(f, "{package} {version} is not the only one of its kind"),
            Self::RoleTwice(role, one, other) => write!(f, "{one} and {other} both fill the role {role}"),
            Self::Unserved(package, version, platform) => {
                write!(f, "{package} {version} offers nothing for {platform}")
            }
        }
    }
}

/// Lists the rules that the set breaks; empty when it is right.
pub fn satisfies(problem: &Problem, resolution: &Resolution) -> Vec<Violation> {
    // Long: the rules are in the order of docs/resolution.md §1, to be compared with it line by line.
    let mut violations = Vec::new();
    let mut bindings = Bindings::default();
    // Judges one requirement and returns what fills it.
    let overrides = &problem.rules.overrides;
    let platforms = &problem.rules.platforms;
    let serves = |release: &Release, platform: &String| {
        let fits = |artifact: &Artifact| artifact.platform == *platform || artifact.platform == ANY_PLATFORM;
        // Without any, it is a local package.
        release.artifacts.is_empty() || release.artifacts.iter().any(fits)
    };
    let mut judge = |bound: &Requirement, asker: Option<&Release>| {
        let Requirement { package, accept, .. } = bound;
        let requirement = || bound.clone();
        let counts = |p: &&String| accept.covers(p) && asker.is_none_or(|asker| serves(asker, p));
        let on: Vec<&String> = platforms.iter().filter(counts).collect();
        if on.is_empty() && !platforms.is_empty() {
            // It counts nowhere.
            return None;
        }
        let there = resolution.chosen.entry(package);
        let Some((name, there, newest)) = there.and_then(|(name, there)| Some((name, there, there.last()?))) else {
            violations.push(Violation::Missing(requirement()));
            return None;
        };
        let mut accepts = |choice: &&Choice| {
            let constraint = bindings.bind(accept, &choice.numbering);
            constraint.is_some_and(|constraint| constraint.accepts(&choice.release.version))
        };
        let accepted: Vec<&Choice> = there.iter().filter(|choice| accepts(choice)).collect();
        let met = accepted.iter().rfind(|choice| on.iter().all(|platform| serves(&choice.release, platform))).copied();
        match (met, accepted.last()) {
            (Some(_), _) => {}
            (None, None) => violations.push(Violation::NotAccepted(requirement(), newest.release.version.clone())),
            (None, Some(choice)) => {
                let without = on.iter().filter(|platform| !serves(&choice.release, platform));
                let told = |platform: &&String| {
                    Violation::Unserved(package.clone(), choice.release.version.clone(), (*platform).clone())
                };
                violations.extend(without.map(told));
            }
        }
        Some((name, met.unwrap_or(newest)))
    };
    let bound = |requirements: &[Requirement]| overrides.bound_all(requirements, &problem.rules.coexist);
    let mut open: Vec<(&PackageName, &Choice)> =
        bound(&problem.requirements).iter().filter_map(|requirement| judge(requirement, None)).collect();
    let mut needed: BTreeSet<(&PackageName, &Version)> = BTreeSet::new();
    while let Some((name, choice)) = open.pop() {
        if !needed.insert((name, &choice.release.version)) {
            continue;
        }
        for need in bound(&requirements_of(name, &choice.release)) {
            open.extend(judge(&need, Some(&choice.release)));
        }
    }
    for (name, choice) in resolution.chosen.iter() {
        let release = &choice.release;
        let kept = problem.keep.get(name).is_some_and(|versions| versions.contains(&release.version));
        if !needed.contains(&(name, &release.version)) {
            violations.push(Violation::Unneeded(name.clone()));
        }
        let admitted = problem.rules.admitted.get(name).is_some_and(|version| *version == release.version.to_string());
        if release.withdrawn.is_some() && !kept && !admitted {
            violations.push(Violation::Withdrawn(name.clone(), release.version.clone()));
        }
        let young =
            |age: MinimumAge| age.now.as_second() - release.published.as_second() < i64::from(age.days) * 86_400;
        let too_new = problem.rules.published_by.is_some_and(|by| release.published > by)
            || (!admitted && problem.rules.minimum_age.is_some_and(young));
        if !kept && too_new {
            violations.push(Violation::TooNew(name.clone(), release.version.clone()));
        }
        let same_line = |other: &Choice| {
            let apart = problem.rules.coexist.contains(name)
                && !choice.numbering.is_same_line(&other.release.version, &release.version);
            other.release.version < release.version && !apart
        };
        if resolution.chosen.all(name).iter().any(same_line) {
            violations.push(Violation::Twice(name.clone(), release.version.clone()));
        }
    }
    let mut filled: BTreeMap<&Word, &PackageName> = BTreeMap::new();
    for (name, choice) in resolution.chosen.iter() {
        let roles: BTreeSet<&Word> = choice.release.offers.roles.iter().collect();
        for role in roles.into_iter().filter(|role| !problem.rules.shared_roles.contains(*role)) {
            if let Some(other) = filled.insert(role, name).filter(|other| *other != name) {
                violations.push(Violation::RoleTwice(role.clone(), other.clone(), name.clone()));
            }
        }
    }
    violations
}
