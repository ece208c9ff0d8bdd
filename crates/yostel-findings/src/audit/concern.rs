//! What may go wrong one day with what a project needs: nothing bounds it, nothing mentions it, nobody else can have it.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use yostel_documents::{GitPlace, Lockfile, Origin, PackageDocument, PackageName, Purpose, Requirement};
use yostel_resolve::Resolution;
use yostel_versions::{ConstraintText, Version};

use crate::spot::Spot;

/// Something about what a project needs that may go wrong one day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Concern {
    /// The package.
    pub package: PackageName,
    /// Its locked version, where it is about that.
    pub version: Option<Version>,
    /// The need, where it is about one.
    pub need: Option<Requirement>,
    /// Where that is written.
    pub place: Option<Spot>,
    /// What it is.
    pub about: ConcernKind,
}

/// What may go wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ConcernKind {
    /// The need accepts whatever is published later.
    Unbounded {
        /// A constraint that accepts what is locked, and ends where something may break.
        bounded: Option<ConstraintText>,
    },
    /// The need accepts a release that no set has, so nobody ever tried it.
    LowerBound {
        /// The oldest release that it accepts.
        accepts: Version,
        /// The one in the oldest set that there is.
        oldest: Version,
        /// The constraint without what no set has.
        raised: Option<ConstraintText>,
    },
    /// It comes from a place that only this machine has.
    OnlyHere {
        /// The place.
        place: String,
    },
    /// No file of the project mentions it.
    Unused {
        /// The texts that one of them should have.
        texts: Vec<String>,
    },
    /// A file that mentions it does not say what is locked.
    StrayMention {
        /// The file, relative to the root.
        file: String,
        /// What it says, each in its line; nothing where it does not mention it.
        says: Vec<(usize, String)>,
        /// What it should say; nothing where one cannot tell.
        should: Option<String>,
    },
    /// Its release does not say which commit it was made from.
    NoProvenance,
    /// It is younger than what is newly chosen may be.
    TooYoung {
        /// How many days ago it was published.
        days: i64,
        /// How many it should be.
        least: u32,
    },
}

impl ConcernKind {
    /// All words, in the order of the variants.
    pub const WORDS: [&str; 7] =
        ["unbounded", "lower-bound", "only-here", "unused", "no-provenance", "too-young", "stray-mention"];

    /// Returns the file that it is about, where it is about one.
    pub fn file(&self) -> Option<&str> {
        match self {
            Self::StrayMention { file, .. } => Some(file),
            _ => None,
        }
    }

    /// Returns its word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Unbounded { .. } => Self::WORDS[0],
            Self::LowerBound { .. } => Self::WORDS[1],
            Self::OnlyHere { .. } => Self::WORDS[2],
            Self::Unused { .. } => Self::WORDS[3],
            Self::NoProvenance => Self::WORDS[4],
            Self::TooYoung { .. } => Self::WORDS[5],
            Self::StrayMention { .. } => Self::WORDS[6],
        }
    }
}

/// Where the needs of projects are written: by project, purpose and package.
pub type Places = BTreeMap<(PackageName, Purpose, PackageName), Spot>;

fn place_of(need: &Requirement, places: &Places) -> Option<Spot> {
    places.get(&(need.asker.name().clone(), need.purpose.clone(), need.package.clone())).cloned()
}

/// Lists needs of projects that nothing bounds from above, of packages that come from a source.
pub fn unbounded(needs: &[Requirement], lockfile: &Lockfile, places: &Places) -> Vec<Concern> {
    let concern = |need: &Requirement| {
        let locked = lockfile.chosen.get(&need.package)?;
        locked.from.source()?;
        let bound = need.accept.bind(&locked.numbering).ok()?;
        let on_its_line = ConstraintText::parse(&format!("^{}", locked.version)).ok();
        // As short as can be, but nothing that is ruled out now.
        let all = on_its_line.into_iter().flat_map(|text| [text.clone(), need.accept.everywhere().and(&text)]);
        let mut all = all.filter_map(|text| Some((text.bind(&locked.numbering).ok()?, text)));
        // A numbering in which nothing ever breaks has no line to end at.
        let bounded = all.find(|(set, _)| set.is_bounded_above() && set.intersection(&bound) == *set);
        let about = ConcernKind::Unbounded { bounded: bounded.map(|(_, text)| text.where_counts(&need.accept)) };
        let (version, place) = (Some(locked.version.clone()), place_of(need, places));
        let (package, need) = (need.package.clone(), Some(need.clone()));
        (!bound.is_bounded_above()).then_some(Concern { package, version, need, place, about })
    };
    needs.iter().filter_map(concern).collect()
}

/// Lists needs of projects whose oldest release is not in the oldest set: of packages that come from a source, and are there
/// at one version. Neither pre-releases nor what was withdrawn counts.
pub fn lower_bounds(
    needs: &[Requirement],
    oldest: &Resolution,
    documents: &BTreeMap<PackageName, PackageDocument>,
    places: &Places,
) -> Vec<Concern> {
    let concern = |need: &Requirement| {
        let document = documents.get(&need.package)?;
        let [chosen] = oldest.chosen.all(&need.package) else { return None };
        let bound = need.accept.bind(&document.numbering).ok()?;
        let first = document.releases.iter().find(|release| {
            release.withdrawn().is_none() && !release.version.is_pre_release() && bound.accepts(&release.version)
        })?;
        let has = &chosen.release.version;
        let least = ConstraintText::parse(&format!(">={has}")).ok();
        let raised = least.map(|least| need.accept.everywhere().and(&least)).filter(|text| {
            text.bind(&document.numbering).is_ok_and(|set| set.accepts(has) && !set.accepts(&first.version))
        });
        let about = ConcernKind::LowerBound {
            accepts: first.version.clone(),
            oldest: has.clone(),
            raised: raised.map(|text| text.where_counts(&need.accept)),
        };
        let place = place_of(need, places);
        let (package, need) = (need.package.clone(), Some(need.clone()));
        (first.version < *has).then_some(Concern { package, version: None, need, place, about })
    };
    needs.iter().filter_map(concern).collect()
}

/// Lists what is locked and comes from a place that only this machine has.
pub fn only_here(lockfile: &Lockfile) -> Vec<Concern> {
    let is_of_here = |address: &str| ["/", "../", "file:"].iter().any(|start| address.starts_with(start));
    let place = |origin: &Origin| match origin {
        Origin::Path { folder } => Some(folder.clone()),
        Origin::Git { place: GitPlace { address, .. }, .. } | Origin::Archive { address } => {
            Some(address.clone()).filter(|address| is_of_here(address))
        }
        Origin::Source(_) | Origin::Project { .. } => None,
    };
    let all = lockfile.chosen.iter().filter_map(|(package, locked)| {
        let about = ConcernKind::OnlyHere { place: place(&locked.from)? };
        let version = Some(locked.version.clone());
        Some(Concern { package: package.clone(), version, need: None, place: None, about })
    });
    all.collect()
}

/// Lists what is locked, comes from a source, and does not say which commit it was made from.
pub fn no_provenance(lockfile: &Lockfile, documents: &BTreeMap<PackageName, PackageDocument>) -> Vec<Concern> {
    let all = lockfile.chosen.iter().filter_map(|(package, locked)| {
        locked.from.source()?;
        let release = documents.get(package)?.release(&locked.version)?;
        let is_told = release.made_from.as_ref().is_some_and(|made_from| made_from.commit.is_some());
        let (package, version) = (package.clone(), Some(locked.version.clone()));
        (!is_told).then_some(Concern { package, version, need: None, place: None, about: ConcernKind::NoProvenance })
    });
    all.collect()
}

/// Lists what is locked and was published later than so many days ago, other than what is admitted.
pub fn too_young(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    least: u32,
    now: Timestamp,
    is_admitted: impl Fn(&PackageName, &Version) -> bool,
) -> Vec<Concern> {
    let all = lockfile.chosen.iter().filter_map(|(package, locked)| {
        let release = documents.get(package)?.release(&locked.version)?;
        let days = now.duration_since(release.published).as_hours() / 24;
        let is_young = now.duration_since(release.published) < SignedDuration::from_hours(i64::from(least) * 24);
        let about = ConcernKind::TooYoung { days: days.max(0), least };
        let version = Some(locked.version.clone());
        (is_young && !is_admitted(package, &locked.version)).then(|| Concern {
            package: package.clone(),
            version,
            need: None,
            place: None,
            about,
        })
    });
    all.collect()
}
