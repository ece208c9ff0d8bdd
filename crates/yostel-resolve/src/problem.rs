//! What is to be resolved: needs, versions to keep, and the rules.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{
    Asker, ListedRelease, Overrides, PackageName, Release, Requirement, Take, Withdrawal, Word, run_purpose,
};
use yostel_versions::{ConstraintText, Version};

/// What is to be resolved.
#[derive(Debug, Clone, Default)]
pub struct Problem {
    /// What the projects need; order does not matter.
    pub requirements: Vec<Requirement>,
    /// Packages that are to be as new as can be, the first by name first, whatever else must move for that; with the versions
    /// that they are at, of which each moves along its compatible line where several may be there. Default: none.
    pub reach: BTreeMap<PackageName, BTreeSet<Version>>,
    /// Versions to keep where possible, as a lockfile has them. A withdrawn release may be kept, never newly chosen.
    pub keep: BTreeMap<PackageName, BTreeSet<Version>>,
    /// Versions to keep, in groups of which each is to have one at least whose package did not move from it: so that another
    /// set can be asked for than those that moved all of a group. That there is none is known with
    /// [`Phase::Explaining`](crate::Phase); why is not told. Default: none.
    pub not_all_moved: Vec<BTreeSet<(PackageName, Version)>>,
    /// Which releases may be chosen at all, and which are the better.
    pub rules: Rules,
}

/// Which releases may be chosen, and which are the better.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rules {
    /// Only releases published by then; versions to keep are exempt. Default: no limit.
    pub published_by: Option<Timestamp>,
    /// Only releases that are so old; versions to keep and what is admitted are exempt. Default: no limit.
    pub minimum_age: Option<MinimumAge>,
    /// By package, the version that may be chosen although it is withdrawn or too young. Default: none.
    pub admitted: BTreeMap<PackageName, String>,
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

/// How old a release must be before it is chosen anew.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MinimumAge {
    /// In days of 86,400 seconds.
    pub days: u32,
    /// The time that it is now.
    pub now: Timestamp,
}

impl MinimumAge {
    /// Returns when a release is old enough; nothing when that is beyond all time.
    pub fn counts_from(&self, published: Timestamp) -> Option<Timestamp> {
        Timestamp::from_second(published.as_second().checked_add(i64::from(self.days) * 86_400)?).ok()
    }

    fn is_too_young(&self, release: &ListedRelease) -> bool {
        self.counts_from(release.published).is_none_or(|from| from > self.now)
    }
}

/// Why a release may not be chosen, whatever is asked.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Barred {
    /// It is withdrawn.
    Withdrawn(Withdrawal),
    /// It was published after the time that was asked for.
    PublishedLater,
    /// It is too young; with the time from which it counts, if ever.
    TooYoung(Option<Timestamp>),
}

impl Rules {
    /// Tells why a release may not be newly chosen; nothing when it may.
    pub fn bar(&self, package: &PackageName, release: &ListedRelease) -> Option<Barred> {
        if self.published_by.is_some_and(|by| release.published > by) {
            return Some(Barred::PublishedLater);
        }
        if self.admitted.get(package).is_some_and(|version| version == release.version.as_str()) {
            return None;
        }
        if let Some(withdrawal) = release.withdrawn() {
            return Some(Barred::Withdrawn(withdrawal.clone()));
        }
        let age = self.minimum_age.filter(|age| age.is_too_young(release))?;
        Some(Barred::TooYoung(age.counts_from(release.published)))
    }
}

impl Problem {
    /// Lists the platforms to be served, of those on which a need counts, for which a release offers nothing.
    pub fn unserved<'a>(
        &'a self,
        accept: &'a ConstraintText,
        release: &'a ListedRelease,
    ) -> impl Iterator<Item = &'a String> {
        self.rules.platforms.iter().filter(|platform| accept.covers(platform) && !release.serves(platform))
    }

    /// Tells why a release may not be chosen; nothing when it may, as what is to be kept always may.
    pub fn bar(&self, package: &PackageName, release: &ListedRelease) -> Option<Barred> {
        let kept = self.keep.get(package).is_some_and(|versions| versions.contains(&release.version));
        if kept { None } else { self.rules.bar(package, release) }
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
