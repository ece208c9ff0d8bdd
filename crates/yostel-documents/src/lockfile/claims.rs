//! What a lockfile says of releases, against what those say of themselves. A seal tells only that a lockfile was not
//! changed by accident; whoever forges one computes it anew.

use std::collections::{BTreeMap, BTreeSet};

use yostel_versions::{ConstraintText, Version};

use super::{LockedPackage, Lockfile};
use crate::chosen::Numbered;
use crate::declared::Declared;
use crate::manifest::Identity;
use crate::name::PackageName;
use crate::name::run_purpose;
use crate::release::{Artifact, PackageDocument};
use crate::requirement::{Asker, Requirement};

/// Something that a lockfile says of a release, and that is not so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Dispute {
    /// The package.
    pub package: PackageName,
    /// The version that is locked.
    pub version: Version,
    /// What is not so.
    pub about: Disputed,
}

/// What a lockfile says that is not so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Disputed {
    /// No source has the package.
    Package,
    /// The source has the package, and not this release.
    Release,
    /// The release has no such archive, or one with other content.
    Content {
        /// As it is locked.
        locked: Box<Artifact>,
        /// What the source has for that platform.
        offered: Option<Box<Artifact>>,
    },
    /// The release needs something else.
    Needs {
        /// What it needs, and the lockfile does not say; a constraint that only its author's workspace knows is left out.
        missing: Vec<(PackageName, Option<ConstraintText>)>,
        /// What the lockfile says, and it does not need.
        extra: Vec<(PackageName, ConstraintText)>,
    },
    /// The record of the release is another than the one that was locked, though its needs and archives are the same.
    Record,
    /// The archive holds another package, or another version of it.
    Inside {
        /// The name inside.
        name: PackageName,
        /// The version inside, as it is written there.
        version: Option<String>,
    },
    /// The archive does not say what it holds.
    Nameless,
}

impl Disputed {
    /// Returns its word; whatever is wrong inside an archive has one.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Package => "package",
            Self::Release => "release",
            Self::Content { .. } => "content",
            Self::Needs { .. } => "needs",
            Self::Record => "record",
            Self::Inside { .. } | Self::Nameless => "inside",
        }
    }
}

/// What a lockfile says that its releases need.
#[derive(Debug)]
pub struct Claims<'l> {
    declared: &'l Declared,
    needs: BTreeMap<(&'l PackageName, &'l Version), BTreeSet<(&'l PackageName, &'l ConstraintText)>>,
}

impl<'l> Claims<'l> {
    /// Collects what a lockfile says.
    pub fn of(lockfile: &'l Lockfile, declared: &'l Declared) -> Self {
        let mut needs: BTreeMap<_, BTreeSet<_>> = BTreeMap::new();
        for (name, locked) in lockfile.chosen.iter() {
            for asked in &locked.asked_by {
                if let Asker::Release(asker, version) = &asked.who {
                    needs.entry((asker, version)).or_default().insert((name, &asked.accept));
                }
            }
        }
        Self { declared, needs }
    }

    /// Compares what is locked of a release with its record in its source.
    pub fn against_document(
        &self,
        name: &PackageName,
        locked: &LockedPackage,
        document: Option<&PackageDocument>,
    ) -> Option<Disputed> {
        let Some(document) = document else { return Some(Disputed::Package) };
        let Some(release) = document.release(&locked.version) else { return Some(Disputed::Release) };
        let differs = locked.artifacts.iter().find(|artifact| !release.artifacts.contains(artifact));
        if let Some(artifact) = differs {
            let offered = release.artifacts.iter().find(|offered| offered.platform == artifact.platform);
            return Some(Disputed::Content {
                locked: Box::new(artifact.clone()),
                offered: offered.cloned().map(Box::new),
            });
        }
        let needs = release.needs.get(&run_purpose()).into_iter().flatten();
        let needs = needs.map(|(package, accept)| (package.clone(), Some(accept.clone()))).collect();
        self.against_needs(name, locked, &needs)
            .or_else(|| (locked.record != release.record()).then_some(Disputed::Record))
    }

    /// Compares what is locked of a release with what the manifest inside its archive says.
    pub fn against_identity(
        &self,
        name: &PackageName,
        locked: &LockedPackage,
        identity: &Identity,
    ) -> Option<Disputed> {
        let version = identity.version.as_deref();
        let same_version = match version {
            Some(text) => locked.numbering.parse_version(text).is_ok_and(|version| version == locked.version),
            // What no registry has may say none.
            None => locked.from.source().is_none() && locked.version.as_str() == "0.0.0",
        };
        if identity.name != *name || !same_version {
            return Some(Disputed::Inside { name: identity.name.clone(), version: identity.version.clone() });
        }
        self.against_needs(name, locked, &identity.needs)
    }

    /// Compares what is locked of a release with what it needs to run. A constraint that is not known is not compared.
    fn against_needs(
        &self,
        name: &PackageName,
        locked: &LockedPackage,
        needs: &BTreeMap<PackageName, Option<ConstraintText>>,
    ) -> Option<Disputed> {
        let anything = ConstraintText::anything();
        let asked = |(package, accept): (&PackageName, &Option<ConstraintText>)| Requirement {
            asker: Asker::Release(name.clone(), locked.version.clone()),
            package: package.clone(),
            accept: accept.as_ref().unwrap_or(&anything).clone(),
            purpose: run_purpose(),
        };
        let all: Vec<Requirement> = needs.iter().map(asked).collect();
        let joined = self.declared.overrides.bound_all(&all, &self.declared.coexist);
        let single = all.iter().map(|need| self.declared.overrides.bound(need));
        let bound: Vec<Requirement> = joined.into_iter().chain(single).collect();
        let unknown: BTreeSet<PackageName> = all
            .iter()
            .filter(|need| needs.get(&need.package).is_some_and(Option::is_none))
            .map(|need| self.declared.overrides.bound(need).package)
            .collect();
        let none = BTreeSet::new();
        let said = self.needs.get(&(name, &locked.version)).unwrap_or(&none);
        let says = |need: &Requirement| {
            said.contains(&(&need.package, &need.accept))
                || unknown.contains(&need.package) && said.iter().any(|(package, _)| **package == need.package)
        };
        // A need on platforms that nobody listed, or that the release does not serve, is met by chance or not at all.
        let counts = |need: &Requirement| {
            let mut on = self.declared.platforms_of(&need.accept).filter(|platform| locked.serves(platform));
            self.declared.platforms.is_empty() || on.next().is_some()
        };
        let is_joined = |need: &Requirement| {
            self.declared.coexist.contains(&need.package) && said.iter().any(|(package, _)| **package == need.package)
        };
        let missing: Vec<_> = bound
            .iter()
            .filter(|need| counts(need) && !says(need) && !is_joined(need))
            .map(|need| (need.package.clone(), (!unknown.contains(&need.package)).then(|| need.accept.clone())))
            .collect();
        let is_needed = |package: &PackageName, accept: &ConstraintText| {
            unknown.contains(package) || bound.iter().any(|need| (&need.package, &need.accept) == (package, accept))
        };
        let extra = said.iter().filter(|(package, accept)| !is_needed(package, accept));
        let extra: Vec<_> = extra.map(|(package, accept)| ((*package).clone(), (*accept).clone())).collect();
        let unmet = missing.into_iter().collect::<BTreeSet<_>>().into_iter().collect::<Vec<_>>();
        (!unmet.is_empty() || !extra.is_empty()).then_some(Disputed::Needs { missing: unmet, extra })
    }
}
