//! Advisories that affect what is locked: the evaluation of the OSV schema (section "Evaluation"), under each package's own
//! numbering.

use std::cell::OnceCell;
use std::collections::BTreeMap;

use cvss::Cvss;
use yostel_documents::{
    Advisory, Affected, AffectedRange, Lockfile, PackageDocument, PackageName, RangeEvent, RangeKind, SourceName,
};
use yostel_versions::{Numbering, Version};

/// An advisory, and where it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Published {
    /// The source.
    pub source: SourceName,
    /// The name of its registry: the ecosystem of its packages.
    pub registry: String,
    /// The advisory.
    pub advisory: Advisory,
}

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rating {
    /// Not bad at all.
    None,
    /// A little.
    Low,
    /// Some.
    Medium,
    /// Much.
    High,
    /// As much as can be.
    Critical,
}

impl Rating {
    /// All of them, rising.
    pub const ALL: [Self; 5] = [Self::None, Self::Low, Self::Medium, Self::High, Self::Critical];

    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }
}

/// An advisory that affects a locked release.
#[derive(Debug, Clone, PartialEq)]
pub struct Threat {
    /// The advisory's name.
    pub id: String,
    /// The same matter by other names.
    pub aliases: Vec<String>,
    /// What it is about, in a line.
    pub summary: Option<String>,
    /// How bad it is, and the score that this comes from; nothing when nobody says.
    pub severity: Option<(Rating, f64)>,
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// The lowest newer release that no advisory affects and that may be chosen anew.
    pub fixed: Option<Version>,
}

/// Lists what advisories of a source say of one of its packages.
fn about<'p>(
    advisories: &'p [Published],
    source: &SourceName,
    package: &PackageName,
) -> impl Iterator<Item = (&'p Advisory, &'p Affected)> {
    let holds = move |one: &&Published| one.source == *source && one.advisory.withdrawn.is_none();
    let parts = |one: &'p Published| one.advisory.affected.iter().map(move |affected| (one, affected));
    let is_of = move |(one, affected): &(&Published, &Affected)| {
        let of = affected.package.as_ref();
        of.is_some_and(|of| of.ecosystem == one.registry && of.name == package.as_str())
    };
    advisories.iter().filter(holds).flat_map(parts).filter(is_of).map(|(one, affected)| (&one.advisory, affected))
}

/// Tells whether some advisory of its source affects a version of a package.
pub fn affects(
    advisories: &[Published],
    source: &SourceName,
    package: &PackageName,
    numbering: &Numbering,
    version: &Version,
) -> bool {
    about(advisories, source, package).any(|(_, affected)| is_affected(affected, numbering, version))
}

/// Lists the advisories that affect locked releases: the worst first, then by package and name.
pub fn threats(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    advisories: &[Published],
) -> Vec<Threat> {
    let mut all = Vec::new();
    for (package, locked) in lockfile.chosen.iter() {
        let Some(source) = locked.from.source() else { continue };
        let numbering = &locked.numbering;
        let about: Vec<(&Advisory, &Affected)> = about(advisories, source, package).collect();
        let is_free = |version: &Version| !about.iter().any(|(_, affected)| is_affected(affected, numbering, version));
        // The same for all of them, of which there may be thousands.
        let newer = OnceCell::new();
        let newer = || {
            newer.get_or_init(|| {
                documents.get(package).into_iter().flat_map(|document| &document.releases).find(|release| {
                    release.version > locked.version
                        && release.withdrawn.is_none()
                        && !release.version.is_pre_release()
                        && is_free(&release.version)
                })
            })
        };
        for (advisory, affected) in &about {
            if !is_affected(affected, numbering, &locked.version) {
                continue;
            }
            all.push(Threat {
                id: advisory.id.clone(),
                aliases: advisory.aliases.clone(),
                summary: advisory.summary.clone(),
                severity: severity_of(&affected.severity).or_else(|| severity_of(&advisory.severity)),
                package: package.clone(),
                version: locked.version.clone(),
                fixed: newer().map(|release| release.version.clone()),
            });
        }
    }
    // One advisory may speak of one package in several parts.
    all.sort_by(|a, b| {
        let worst = |threat: &Threat| threat.severity.map_or(-1.0, |(_, score)| score);
        let order = worst(b).total_cmp(&worst(a));
        order.then_with(|| (&a.package, &a.version, &a.id).cmp(&(&b.package, &b.version, &b.id)))
    });
    all.dedup_by(|a, b| (&a.package, &a.version, &a.id) == (&b.package, &b.version, &b.id));
    all
}

/// Tells whether a version is affected: it is named, or in one of the ranges. A version of a range that the package could
/// not have counts as absent.
pub fn is_affected(affected: &Affected, numbering: &Numbering, version: &Version) -> bool {
    let is = |text: &String| numbering.parse_version(text).is_ok_and(|named| named == *version);
    let kinds = [RangeKind::Semver, RangeKind::Ecosystem];
    affected.versions.iter().any(is)
        || affected
            .ranges
            .iter()
            .filter(|range| kinds.contains(&range.kind))
            .any(|range| holds(range, numbering, version))
}

/// Tells whether a version is in a range: the last event at or below it, in the order of versions, is that it was introduced.
fn holds(range: &AffectedRange, numbering: &Numbering, version: &Version) -> bool {
    let parse = |text: &str| numbering.parse_version(text).ok();
    let mut limits = range.events.iter().filter_map(|event| match event {
        RangeEvent::Limit(limit) => Some(limit),
        _ => None,
    });
    let mut is_within = limits.clone().next().is_none();
    is_within |= limits.any(|limit| limit == "*" || parse(limit).is_some_and(|limit| *version < limit));
    if !is_within {
        return false;
    }
    // At which version, nothing being below all, and whether versions are affected from there on.
    let at = |event: &RangeEvent| match event {
        RangeEvent::Introduced(from) if from == "0" => Some((None, true)),
        RangeEvent::Introduced(from) => Some((Some(parse(from)?), true)).filter(|(at, _)| at.as_ref() <= Some(version)),
        RangeEvent::Fixed(from) => Some((Some(parse(from)?), false)).filter(|(at, _)| at.as_ref() <= Some(version)),
        RangeEvent::LastAffected(to) => Some((Some(parse(to)?), false)).filter(|(at, _)| at.as_ref() < Some(version)),
        RangeEvent::Limit(_) => None,
    };
    // Of several at one version, the one that is written last counts.
    let last = range.events.iter().filter_map(at).max_by(|(one, _), (other, _)| one.cmp(other));
    last.is_some_and(|(_, is_affected)| is_affected)
}

/// Returns the worst of what is said, as a word and as a score from 0 to 10, as far as the methods are known.
pub fn severity_of(all: &[yostel_documents::Severity]) -> Option<(Rating, f64)> {
    let score = |one: &yostel_documents::Severity| one.score.parse::<Cvss>().ok().map(|vector| vector.score());
    let score = all.iter().filter_map(score).max_by(f64::total_cmp)?;
    // The bands of CVSS v3.1 section 5 and v4.0 section 6; version 2 has no others of its own.
    let rating = match score {
        score if score < 0.05 => Rating::None,
        score if score < 3.95 => Rating::Low,
        score if score < 6.95 => Rating::Medium,
        score if score < 8.95 => Rating::High,
        _ => Rating::Critical,
    };
    Some((rating, score))
}
