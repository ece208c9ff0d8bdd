//! The lockfile: a resolution on disk, with digests and who asked. Carries out docs/formats.md §3.
//!
//! It holds enough to install without resolving, and to tell without any source whether it still fits the manifests.

mod claims;
mod read;
mod stale;
mod write;

use std::collections::{BTreeMap, BTreeSet};

pub use claims::{Claims, Dispute, Disputed};
pub use read::LockfileError;
pub use stale::Difference;

use crate::chosen::{AtVersion, Chosen, Numbered};
use crate::declared::Declared;
use crate::digest::{ContentDigest, RecordDigest, Seal, TreeDigest};
use crate::name::run_purpose;
use crate::name::{PackageName, Purpose, SourceName};
use crate::origin::Origin;
use crate::release::{Artifact, artifact_for};
use crate::requirement::{Asker, Requirement};
use yostel_versions::{ConstraintText, Numbering, Version};

/// The format number this version writes and reads.
pub const LOCKFILE_FORMAT: u32 = 1;

/// A lockfile's content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lockfile {
    /// Digest of what the manifests declared when it was written.
    pub declarations: Seal,
    /// The chosen releases.
    pub chosen: Chosen<LockedPackage>,
}

/// One chosen release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockedPackage {
    /// Its version.
    pub version: Version,
    /// How its package numbers.
    pub numbering: Numbering,
    /// Where it comes from.
    pub from: Origin,
    /// Digest of its record; none of what no registry tells of.
    pub record: Option<RecordDigest>,
    /// For which purposes of a project it is there; never empty.
    pub purposes: BTreeSet<Purpose>,
    /// Who asked for it; never empty.
    pub asked_by: BTreeSet<AskedBy>,
    /// Its files by platform, sorted; none when it is a local package.
    pub artifacts: Vec<Artifact>,
    /// How it is changed locally, when it is.
    pub altered: Option<Alteration>,
    /// Whether its version is forced.
    pub forced: bool,
    /// The packages that were asked for and for which it stands in.
    pub stands_in_for: BTreeSet<PackageName>,
}

/// Local changes to a locked package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alteration {
    /// Digest of the patch's text.
    pub patch: ContentDigest,
    /// Digest of the tree that it makes of each artifact, in their order.
    pub trees: Vec<TreeDigest>,
}

impl LockedPackage {
    /// Returns the artifact that fits a platform and, when it is changed locally, the digest of what that makes of it.
    pub fn fitting(&self, platform: &str) -> Option<(&Artifact, Option<TreeDigest>)> {
        let artifact = artifact_for(&self.artifacts, platform)?;
        let at = self.artifacts.iter().position(|other| std::ptr::eq(other, artifact))?;
        Some((artifact, self.altered.as_ref().and_then(|altered| altered.trees.get(at).copied())))
    }
}

impl AtVersion for LockedPackage {
    fn version(&self) -> &Version {
        &self.version
    }
}

impl Numbered for LockedPackage {
    fn numbering(&self) -> &Numbering {
        &self.numbering
    }

    fn serves(&self, platform: &str) -> bool {
        self.from.local_folder().is_some() || artifact_for(&self.artifacts, platform).is_some()
    }
}

/// What is reached of a lockfile, and for which purposes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reached(BTreeMap<PackageName, BTreeMap<Version, BTreeSet<Purpose>>>);

impl Reached {
    /// Tells whether a package is reached, at any version.
    pub fn has(&self, package: &PackageName) -> bool {
        self.0.contains_key(package)
    }

    /// Returns the purposes for which a package is reached at a version; none when it is not.
    pub fn purposes(&self, package: &PackageName, version: &Version) -> Option<&BTreeSet<Purpose>> {
        self.0.get(package)?.get(version)
    }

    /// Lists what is reached, by name and version.
    pub fn iter(&self) -> impl Iterator<Item = (&PackageName, &Version)> {
        self.0.iter().flat_map(|(name, versions)| versions.keys().map(move |version| (name, version)))
    }
}

/// One who asked.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct AskedBy {
    /// Who.
    pub who: Asker,
    /// For which purpose; a release asks for `run` only.
    pub purpose: Purpose,
    /// Which versions will do.
    pub accept: ConstraintText,
}

/// What a look at a lockfile tells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockfileHeader {
    /// Its seal, which fits its content.
    pub seal: Seal,
    /// The digest of what was declared when it was written.
    pub declarations: Seal,
    /// How many packages it locks.
    pub packages: usize,
    /// The sources that they come from.
    pub sources: BTreeSet<SourceName>,
}

impl Lockfile {
    /// Returns what meets a need, as it binds, of a project or of a locked release.
    pub fn met_by(&self, need: &Requirement, declared: &Declared) -> Option<(&PackageName, &LockedPackage)> {
        let asker = match &need.asker {
            Asker::Release(name, version) => self.chosen.at(name, version),
            Asker::Project(_) => None,
        };
        let on = declared.platforms_of(&need.accept).filter(|p| asker.is_none_or(|asker| asker.serves(p)));
        self.chosen.met_by(&need.package, &need.accept, &on.collect::<Vec<_>>())
    }

    /// Lists, for each package reached from these needs, as they bind, the purposes it is reached for. The way goes along
    /// who asked for whom; from a package in a folder, along what it needs by now, and from a project, along what that
    /// needs to run. Only what counts on the platform is followed, or on any of those listed when none is given.
    pub fn reached(&self, requirements: &[Requirement], declared: &Declared, platform: Option<&str>) -> Reached {
        type Id<'l> = (&'l PackageName, &'l Version);
        let run = run_purpose();
        let mut needed_by: BTreeMap<(&PackageName, Option<&Version>), BTreeSet<Id<'_>>> = BTreeMap::new();
        for (name, locked) in self.chosen.iter() {
            for asked in &locked.asked_by {
                if let Asker::Release(asker, version) = &asked.who
                    && !declared.local.contains_key(asker)
                    && declared.counts(&asked.accept, platform)
                {
                    needed_by.entry((asker, Some(version))).or_default().insert((name, &locked.version));
                }
            }
        }
        let met_by = |need: &Requirement| {
            let newest = || Some((self.chosen.entry(&need.package)?.0, self.chosen.get(&need.package)?));
            // One that is locked and not accepted is told as that; it is reached all the same. So of a package that is
            // locked once, nobody has to ask whether it is accepted, which takes long for thousands of needs.
            let only = self.chosen.is_single(&need.package).then(newest).flatten();
            let met = only.or_else(|| self.met_by(need, declared)).or_else(newest);
            let met = met.map(|(name, locked)| (name, &locked.version));
            met.filter(|_| declared.counts(&need.accept, platform))
        };
        let bound = declared.bound_requirements();
        let of_local: Vec<Requirement> = declared.local.keys().flat_map(|name| declared.needs_of_local(name)).collect();
        let runs = bound.iter().filter(|requirement| requirement.purpose == run).chain(&of_local);
        for need in runs {
            if let Some(met) = met_by(need) {
                needed_by.entry((need.asker.name(), None)).or_default().insert(met);
            }
        }
        let mut reached: BTreeMap<Id<'_>, BTreeSet<Purpose>> = BTreeMap::new();
        let mut open: Vec<(Id<'_>, &Purpose)> =
            requirements.iter().filter_map(|requirement| Some((met_by(requirement)?, &requirement.purpose))).collect();
        while let Some((id, purpose)) = open.pop() {
            if reached.entry(id).or_default().insert(purpose.clone()) {
                let (name, version) = id;
                let from = if declared.local.contains_key(name) { (name, None) } else { (name, Some(version)) };
                open.extend(needed_by.get(&from).into_iter().flatten().map(|needed| (*needed, purpose)));
            }
        }
        let mut owned = Reached::default();
        for ((name, version), purposes) in reached {
            owned.0.entry(name.clone()).or_default().insert(version.clone(), purposes);
        }
        owned
    }

    /// Writes the canonical text, and returns its seal with it.
    pub fn sealed(&self) -> (String, Seal) {
        write::sealed(self)
    }

    /// Writes the canonical text.
    pub fn write(&self) -> String {
        self.sealed().0
    }

    /// Computes the seal, which takes writing all of it.
    pub fn seal(&self) -> Seal {
        self.sealed().1
    }

    /// Reads a lockfile.
    ///
    /// # Errors
    /// [`LockfileError`]; a text whose seal does not fit is refused, never guessed at.
    pub fn parse(text: &str) -> Result<Self, LockfileError> {
        read::read(text)
    }

    /// Looks at what a lockfile's text tells without reading all of it: far cheaper, and enough to see that what is
    /// declared did not change. Its seal is checked. Nothing when the text must be read in full to say what it is.
    pub fn header(text: &str) -> Option<LockfileHeader> {
        read::header(text)
    }

    /// Lists why this lockfile no longer fits what the projects declare; empty when it does.
    ///
    /// It fits when every need is met, nothing is locked that nobody needs, every package is there for just the purposes
    /// that the needs give it, has something for each platform, and is changed just as declared. An edit that leaves this so makes no lockfile stale.
    pub fn differences(&self, declared: &Declared) -> Vec<Difference> {
        stale::differences(self, declared)
    }

    /// Tells whether somebody in a project asks for the package.
    pub fn is_direct(&self, name: &PackageName) -> bool {
        self.chosen.all(name).iter().any(|locked| locked.asked_by.iter().any(|asked| asked.who.is_project()))
    }
}
