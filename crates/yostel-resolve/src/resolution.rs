//! A consistent set: the chosen releases.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use yostel_documents::{Asker, AtVersion, Chosen, Numbered, Origin, PackageName, Release, Requirement};
use yostel_versions::{Numbering, Version};

use crate::problem::{Problem, requirements_of};

/// The chosen releases that meet all requirements.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Resolution {
    /// Exactly what is needed.
    pub chosen: Chosen<Choice>,
}

/// One chosen release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// The release.
    pub release: Arc<Release>,
    /// How its package numbers.
    pub numbering: Numbering,
    /// Where it comes from.
    pub origin: Origin,
}

impl AtVersion for Choice {
    fn version(&self) -> &Version {
        &self.release.version
    }
}

impl Numbered for Choice {
    fn numbering(&self) -> &Numbering {
        &self.numbering
    }

    fn serves(&self, platform: &str) -> bool {
        self.release.serves(platform)
    }
}

impl Resolution {
    /// Returns what meets a need, as it binds, of a project or of a release in the set.
    pub fn met_by(&self, need: &Requirement, platforms: &BTreeSet<String>) -> Option<(&PackageName, &Choice)> {
        let asker = match &need.asker {
            Asker::Release(name, version) => self.chosen.at(name, version),
            Asker::Project(_) => None,
        };
        let counts = |p: &&String| need.accept.covers(p) && asker.is_none_or(|asker| asker.release.serves(p));
        let on: Vec<&String> = platforms.iter().filter(counts).collect();
        let counts = platforms.is_empty() || !on.is_empty();
        counts.then(|| self.chosen.met_by(&need.package, &need.accept, &on)).flatten()
    }

    /// Counts the versions to keep whose package is in the set at another version.
    pub fn moved_from(&self, keep: &BTreeMap<PackageName, BTreeSet<Version>>) -> usize {
        let kept = keep.iter().flat_map(|(name, all)| all.iter().map(move |version| (name, version)));
        kept.filter(|(name, version)| self.chosen.contains_key(name) && self.chosen.at(name, version).is_none()).count()
    }

    /// Lists the versions to keep whose package is in the set at another one; of a package that may coexist, at another of the
    /// same line.
    pub fn moved_versions(&self, problem: &Problem) -> BTreeSet<(PackageName, Version)> {
        let kept = problem.keep.iter().flat_map(|(name, all)| all.iter().map(move |version| (name, version)));
        let is_left = |(name, version): &(&PackageName, &Version)| {
            let is_apart = |choice: &Choice| {
                let coexists = problem.rules.coexist.contains(*name);
                coexists && !choice.numbering.is_same_line(&choice.release.version, version)
            };
            let others = self.chosen.all(name).iter().filter(|choice| choice.release.version != **version);
            others.filter(|choice| !is_apart(choice)).count() > 0
        };
        kept.filter(is_left).map(|(name, version)| (name.clone(), version.clone())).collect()
    }

    /// Lists what the chosen releases need.
    pub fn requirements(&self) -> Vec<Requirement> {
        self.chosen.iter().flat_map(|(name, choice)| requirements_of(name, &choice.release)).collect()
    }
}
