//! What is to be resolved: needs, versions to keep, and the rules.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{Asker, Overrides, PackageName, Release, Requirement, Take, Word, run_purpose};
use yostel_versions::{ConstraintText, Version};

/// What is to be resolved.
#[derive(Debug, Clone, Default)]
pub struct Problem {
    /// What the projects need; order does not matter.
    pub requirements: Vec<Requirement>,
    /// Versions to keep where possible, as a lockfile has them. A withdrawn release may be kept, never newly chosen.
    pub keep: BTreeMap<PackageName, BTreeSet<Version>>,
    /// Which releases may be chosen at all, and which are the better.
    pub rules: Rules,
}

/// Which releases may be chosen, and which are the better.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rules {
    /// Only releases published by then; versions to keep are exempt. Default: no limit.
    pub published_by: Option<Timestamp>,
    /// Which of the releases that fit to take. Default: the newest.
    pub take: Take,
    /// Only releases that offer something for each of these platforms, versions to keep included. Default: none.
    pub platforms: BTreeSet<String>,
    /// Roles that several packages may fill. Default: none, so each role is filled by one package at most.
    pub shared_roles: BTreeSet<Word>,
    /// Packages of which there may be one release per compatible line. Default: none, so one per package.
    pub coexist: BTreeSet<PackageName>,
    /// What is said about packages wherever they turn up. Default: nothing.
    pub overrides: Overrides,
}

impl Problem {
    /// Lists the platforms to be served, of those on which a need counts, for which a release offers nothing.
    pub fn unserved<'a>(
        &'a self,
        accept: &'a ConstraintText,
        release: &'a Release,
    ) -> impl Iterator<Item = &'a String> {
        self.rules.platforms.iter().filter(|platform| accept.covers(platform) && !release.serves(platform))
    }

    /// Tells whether a release may be chosen: neither withdrawn nor published too late, or to be kept.
    pub fn may_choose(&self, package: &PackageName, release: &Release) -> bool {
        let kept = self.keep.get(package).is_some_and(|versions| versions.contains(&release.version));
        let early = self.rules.published_by.is_none_or(|by| release.published <= by);
        kept || (release.withdrawn.is_none() && early)
    }
}

/// Lists what a release needs of others: its `run` needs; those of other purposes are its author's own affair.
pub fn requirements_of(name: &PackageName, release: &Release) -> Vec<Requirement> {
    let purpose = run_purpose();
    let needs = release.needs.get(&purpose).into_iter().flatten();
    needs
        .map(|(package, accept)| Requirement {
            asker: Asker::Release(name.clone(), release.version.clone()),
            package: package.clone(),
            accept: accept.clone(),
            purpose: purpose.clone(),
        })
        .collect()
}
