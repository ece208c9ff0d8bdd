//! Is this set right? Written straight from the rules of docs/resolution.md §1; shares nothing with the encoding, so
//! that each judges the other.

use std::collections::BTreeSet;
use std::fmt;

use crate::name::PackageName;
use crate::requirement::Requirement;
use crate::resolve::{Problem, Resolution, requirements_of};
use crate::version::Version;

/// A rule that a set breaks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Violation {
    /// A requirement's package is not in the set.
    Missing(Requirement),
    /// A requirement does not admit the version in the set.
    NotAdmitted(Requirement, Version),
    /// Nothing needs the package.
    Unneeded(PackageName),
    /// The release is withdrawn and was not there before.
    Withdrawn(PackageName, Version),
    /// The release was published later than may be, and was not there before.
    TooNew(PackageName, Version),
}

impl fmt::Display for Violation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing(requirement) => write!(f, "{requirement}, which is missing"),
            Self::NotAdmitted(requirement, version) => write!(f, "{requirement}, not {version}"),
            Self::Unneeded(package) => write!(f, "nothing needs {package}"),
            Self::Withdrawn(package, version) => write!(f, "{package} {version} is withdrawn"),
            Self::TooNew(package, version) => write!(f, "{package} {version} was published too late"),
        }
    }
}

/// Lists the rules that the set breaks; empty when it is right.
pub fn satisfies(problem: &Problem, resolution: &Resolution) -> Vec<Violation> {
    let mut violations = Vec::new();
    let mut needed: BTreeSet<&PackageName> = BTreeSet::new();
    let of_releases = resolution.requirements();
    for requirement in problem.wishes.iter().chain(&of_releases) {
        match resolution.chosen.get(&requirement.package) {
            None => violations.push(Violation::Missing(requirement.clone())),
            Some(choice) => {
                let version = &choice.release.version;
                if !requirement.accept.bind(choice.numbering).is_ok_and(|constraint| constraint.admits(version)) {
                    violations.push(Violation::NotAdmitted(requirement.clone(), version.clone()));
                }
            }
        }
    }
    let mut open: Vec<&PackageName> = problem.wishes.iter().map(|wish| &wish.package).collect();
    while let Some(name) = open.pop() {
        if let Some((name, choice)) = resolution.chosen.get_key_value(name)
            && needed.insert(name)
        {
            let onward: Vec<PackageName> =
                requirements_of(name, &choice.release).into_iter().map(|r| r.package).collect();
            open.extend(onward.iter().filter_map(|n| resolution.chosen.get_key_value(n).map(|(name, _)| name)));
        }
    }
    for (name, choice) in &resolution.chosen {
        if !needed.contains(name) {
            violations.push(Violation::Unneeded(name.clone()));
        }
        let (release, kept) = (&choice.release, problem.keep.get(name) == Some(&choice.release.version));
        if release.withdrawn.is_some() && !kept {
            violations.push(Violation::Withdrawn(name.clone(), release.version.clone()));
        }
        if !kept && problem.rules.published_by.is_some_and(|by| release.published > by) {
            violations.push(Violation::TooNew(name.clone(), release.version.clone()));
        }
    }
    violations
}
