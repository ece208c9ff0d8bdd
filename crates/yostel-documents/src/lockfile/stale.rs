//! Staleness by meaning: what of the needs a lockfile no longer meets.

use std::collections::BTreeSet;
use std::fmt;

use yostel_versions::{BindError, ConstraintText, Version};

use super::{AskedBy, LockedPackage, Lockfile};
use crate::chosen::Numbered;
use crate::declared::Declared;
use crate::name::{PackageName, Purpose};
use crate::origin::{Elsewhere, Origin};
use crate::requirement::{Asker, Requirement};

/// One way in which a lockfile does not fit the manifests.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Difference {
    /// A package is wanted and not locked.
    Missing(Requirement),
    /// The locked version is not one that will do.
    NotAccepted {
        /// Who wants what.
        requirement: Requirement,
        /// The version that is locked.
        locked: Version,
    },
    /// The constraint does not fit the package's numbering.
    Unreadable {
        /// Who wants what.
        requirement: Requirement,
        /// Why it does not fit.
        cause: BindError,
    },
    /// A package is locked and nobody needs it any more.
    Unneeded(PackageName, Version),
    /// A package is needed for other purposes than it is locked for.
    Purposes {
        /// The package.
        package: PackageName,
        /// Locked for these.
        locked: BTreeSet<Purpose>,
        /// Needed for these.
        needed: BTreeSet<Purpose>,
    },
    /// A package has nothing for a platform that is to be served.
    Platform {
        /// The package.
        package: PackageName,
        /// The version that is locked.
        locked: Version,
        /// The platform.
        platform: String,
    },
    /// A package is locked at two versions that may not be there together.
    IncompatibleVersions {
        /// The package.
        package: PackageName,
        /// The one version.
        one: Version,
        /// The other.
        other: Version,
    },
    /// A package is not forced as is declared.
    Forced {
        /// The package.
        package: PackageName,
        /// The version that is locked.
        locked: Version,
        /// What it should be forced to; nothing when it should not.
        to: Option<ConstraintText>,
    },
    /// A package is locked at a version that is not what is agreed.
    Agreed {
        /// The package.
        package: PackageName,
        /// The version that is locked.
        locked: Version,
        /// What is agreed.
        accept: ConstraintText,
    },
    /// A package should stand in for another and does not, or does and should not.
    Swapped {
        /// The package that is asked for.
        package: PackageName,
        /// The package that stands in for it, or did.
        by: PackageName,
        /// Whether it should.
        wanted: bool,
    },
    /// A package does not come from where the manifests say, or is not there as it was.
    Origin {
        /// The package.
        package: PackageName,
        /// Where it is locked to come from, and at which version.
        locked: String,
        /// Where it comes from now.
        wanted: String,
    },
    /// A package is not changed locally as is declared.
    Altered {
        /// The package.
        package: PackageName,
        /// Whether it should be changed at all.
        wanted: bool,
        /// Whether it is.
        locked: bool,
    },
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list =
            |purposes: &BTreeSet<Purpose>| purposes.iter().map(Purpose::as_str).collect::<Vec<_>>().join(" and ");
        match self {
            Self::Missing(requirement) => {
                write!(f, "{} is not locked, but {} needs it", requirement.package, requirement.asker)
            }
            Self::NotAccepted { requirement, locked } => {
                write!(
                    f,
                    "{} is locked at {locked}, but {} needs {}",
                    requirement.package, requirement.asker, requirement.accept
                )
            }
            Self::Unreadable { requirement, cause } => write!(f, "{requirement}: {cause}"),
            Self::Unneeded(package, version) => {
                write!(f, "{package} {version} is locked, but nothing needs it any more")
            }
            Self::Purposes { package, locked, needed } => {
                write!(f, "{package} is locked for {}, but needed for {}", list(locked), list(needed))
            }
            Self::Platform { package, locked, platform } => {
                write!(f, "{package} {locked} is not locked for {platform}, which [project] lists")
            }
            Self::IncompatibleVersions { package, one, other } => {
                write!(f, "{package} is locked at {one} and at {other}, which `coexist` in [policy] does not permit")
            }
            Self::Forced { package, locked, to: Some(to) } => {
                write!(f, "{package} is locked at {locked}, but [force] wants {to}")
            }
            Self::Forced { package, locked, to: None } => {
                write!(f, "{package} is locked at {locked} because it was forced, and [force] does not name it")
            }
            Self::Agreed { package, locked, accept } => {
                write!(f, "{package} is locked at {locked}, but [agreed] asks for {accept}")
            }
            Self::Swapped { package, by, wanted: true } => {
                write!(f, "{package} is locked, but [swap] has {by} stand in for it")
            }
            Self::Swapped { package, by, wanted: false } => {
                write!(f, "{by} is locked in place of {package}, which [swap] does not say")
            }
            Self::Origin { package, locked, wanted } => {
                write!(f, "{package} is locked as {locked}; the manifest now says {wanted}")
            }
            Self::Altered { package, wanted: true, locked: true } => {
                write!(f, "{package} is locked with another patch than the one that is there now")
            }
            Self::Altered { package, wanted: true, locked: false } => {
                write!(f, "{package} is locked without the patch that [alter] names")
            }
            Self::Altered { package, wanted: false, .. } => {
                write!(f, "{package} is locked with a patch that [alter] does not name")
            }
        }
    }
}

pub(super) fn differences(lockfile: &Lockfile, declared: &Declared) -> Vec<Difference> {
    // Long: what makes a lockfile stale, in the order of docs/formats.md §3.
    let requirements = &declared.bound_requirements();
    let mut differences = Vec::new();
    let of_local: Vec<Requirement> = lockfile.chosen.keys().flat_map(|name| declared.needs_of_local(name)).collect();
    let counts = |requirement: &&Requirement| declared.counts(&requirement.accept, None);
    for requirement in requirements.iter().chain(&of_local).filter(counts) {
        let met = lockfile.met_by(requirement, declared).map(|(_, locked)| locked);
        let Some(locked) = met.or_else(|| lockfile.chosen.get(&requirement.package)) else {
            differences.push(Difference::Missing(requirement.clone()));
            continue;
        };
        match requirement.accept.bind(&locked.numbering) {
            Ok(constraint) if constraint.accepts(&locked.version) => {
                for platform in declared.platforms_of(&requirement.accept).filter(|platform| !locked.serves(platform)) {
                    let (package, locked, platform) =
                        (requirement.package.clone(), locked.version.clone(), platform.clone());
                    differences.push(Difference::Platform { package, locked, platform });
                }
            }
            Ok(_) => differences
                .push(Difference::NotAccepted { requirement: requirement.clone(), locked: locked.version.clone() }),
            Err(cause) => differences.push(Difference::Unreadable { requirement: requirement.clone(), cause }),
        }
    }
    for (name, locked) in lockfile.chosen.iter() {
        differences.extend(other_origin(name, locked, declared));
        let release = |asked: &&AskedBy| !asked.who.is_project() && !declared.local.contains_key(asked.who.name());
        for asked in locked.asked_by.iter().filter(release) {
            if !asked.accept.bind(&locked.numbering).is_ok_and(|constraint| constraint.accepts(&locked.version)) {
                let (asker, accept, purpose) = (asked.who.clone(), asked.accept.clone(), asked.purpose.clone());
                let requirement = Requirement { asker, package: name.clone(), accept, purpose };
                differences.push(Difference::NotAccepted { requirement, locked: locked.version.clone() });
            }
        }
    }
    let reached = lockfile.reached(requirements, declared, None);
    for (name, locked) in lockfile.chosen.iter() {
        match reached.purposes(name, &locked.version) {
            None => differences.push(Difference::Unneeded(name.clone(), locked.version.clone())),
            Some(needed) if *needed != locked.purposes => differences.push(Difference::Purposes {
                package: name.clone(),
                locked: locked.purposes.clone(),
                needed: needed.clone(),
            }),
            Some(_) => {}
        }
        let same_line = |other: &LockedPackage| {
            let apart =
                declared.coexist.contains(name) && !locked.numbering.is_same_line(&other.version, &locked.version);
            other.version < locked.version && !apart
        };
        if let Some(other) = lockfile.chosen.all(name).iter().find(|other| same_line(other)) {
            let (package, one, other) = (name.clone(), other.version.clone(), locked.version.clone());
            differences.push(Difference::IncompatibleVersions { package, one, other });
        }
        // A release's needs must be there where it is.
        let needed = |platform: &String| {
            locked.asked_by.iter().any(|asked| match &asked.who {
                Asker::Release(asker, version) => {
                    let there = lockfile.chosen.at(asker, version);
                    asked.accept.covers(platform) && there.is_some_and(|there| there.serves(platform))
                }
                // Those are looked at above, as they are now.
                Asker::Project(_) => false,
            })
        };
        for platform in declared.platforms.iter().filter(|platform| needed(platform) && !locked.serves(platform)) {
            let (package, locked, platform) = (name.clone(), locked.version.clone(), platform.clone());
            let difference = Difference::Platform { package, locked, platform };
            if !differences.contains(&difference) {
                differences.push(difference);
            }
        }
        let to = declared.overrides.forced.get(name);
        let fits = |to: &ConstraintText| {
            to.bind(&locked.numbering).is_ok_and(|constraint| constraint.accepts(&locked.version))
        };
        if to.is_some() != locked.forced || !to.is_none_or(fits) {
            let (package, locked, to) = (name.clone(), locked.version.clone(), to.cloned());
            differences.push(Difference::Forced { package, locked, to });
        }
        if let Some(accept) = declared.overrides.agreed.get(name).filter(|_| to.is_none())
            && !fits(accept)
        {
            let (package, locked, accept) = (name.clone(), locked.version.clone(), accept.clone());
            differences.push(Difference::Agreed { package, locked, accept });
        }
        if let Some((by, _)) = declared.overrides.swapped.get(name).filter(|(by, _)| by != name) {
            differences.push(Difference::Swapped { package: name.clone(), by: by.clone(), wanted: true });
        }
        let stands_in = |other: &&PackageName| {
            let anything = ConstraintText::parse("*").expect("`*` is a constraint");
            declared.overrides.bind(other, &anything).is_some_and(|(package, _)| package == *name)
        };
        for other in locked.stands_in_for.iter().filter(|other| !stands_in(other)) {
            differences.push(Difference::Swapped { package: other.clone(), by: name.clone(), wanted: false });
        }
        let (wanted, there) = (declared.alterations.get(name), locked.altered.as_ref().map(|altered| &altered.patch));
        if wanted != there {
            let (wanted, locked) = (wanted.is_some(), there.is_some());
            differences.push(Difference::Altered { package: name.clone(), wanted, locked });
        }
    }
    differences
}

/// Says where a locked package comes from now, when that is not what is locked.
fn other_origin(name: &PackageName, locked: &LockedPackage, declared: &Declared) -> Option<Difference> {
    let differs = |locked: String, wanted: String| Some(Difference::Origin { package: name.clone(), locked, wanted });
    if let Some(local) = declared.local.get(name) {
        let same = local.origin == locked.from
            && local.numbering == locked.numbering
            && local.version.as_str() == locked.version.as_str();
        let told = |version: &Version, from: &Origin| format!("{version} ({from})");
        return (!same)
            .then(|| differs(told(&locked.version, &locked.from), told(&local.version, &local.origin)))
            .flatten();
    }
    let fits = match (declared.elsewhere.get(name), &locked.from) {
        (None, from) => from.source().is_some(),
        (Some(Elsewhere::Git(wanted)), Origin::Git { place, .. }) => wanted == place,
        (Some(Elsewhere::Archive { address, digest }), Origin::Archive { address: there }) => {
            address == there && locked.artifacts.iter().all(|artifact| artifact.digest == *digest)
        }
        (Some(_), _) => false,
    };
    let wanted = declared.elsewhere.get(name).map_or_else(|| "a source".to_owned(), ToString::to_string);
    let from = match &locked.from {
        Origin::Git { place, .. } => place.to_string(),
        other => other.to_string(),
    };
    (!fits).then(|| differs(from, wanted)).flatten()
}
