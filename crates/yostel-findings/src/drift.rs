//! How far behind a lockfile is at a time: in years, releases, compatible lines and advisories, each summed over what is
//! locked. docs/auditing.md, "How far behind, over time", defines them.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{LockedPackage, Lockfile, PackageDocument, PackageName, SourceName};
use yostel_versions::Version;

use crate::audit::{Advisories, Affectable, identities_of};

/// How far behind a lockfile is at a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drift {
    /// How many releases are locked of which a source tells.
    pub packages: usize,
    /// How many more are locked of which none tells: they do not count.
    pub unknown: usize,
    /// All of them together.
    pub total: Lag,
    /// Each that is behind or affected, by name and version.
    pub each: Vec<(PackageName, Version, Lag)>,
}

/// A locked release of a source: all of a lockfile that counts here, so that many can be looked at together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockedRelease {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// Where it comes from.
    pub source: SourceName,
}

impl LockedRelease {
    /// Lists those of a lockfile.
    pub fn all(lockfile: &Lockfile) -> Vec<Self> {
        let of_source = |(package, locked): (&PackageName, &LockedPackage)| {
            let source = locked.from.source()?.clone();
            Some(Self { package: package.clone(), version: locked.version.clone(), source })
        };
        lockfile.chosen.iter().filter_map(of_source).collect()
    }
}

/// How far behind something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Lag {
    /// Seconds from the locked release to the newest one, by when they were published; none when the newest is older.
    pub seconds: u64,
    /// Releases above the locked one.
    pub releases: usize,
    /// Compatible lines above the locked one's.
    pub lines: usize,
    /// Advisories that affect it.
    pub advisories: usize,
}

/// Seconds of a year: the mean one of the Julian calendar, 365.25 days.
const YEAR: f64 = 31_557_600.0;

/// Returns how many years so many seconds are, to the thousandth.
pub fn years(seconds: u64) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "thousandths of years")]
    let years = seconds as f64 / YEAR;
    (years * 1000.0).round() / 1000.0
}

impl Lag {
    /// Tells whether it is nothing.
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    fn add(&mut self, other: Self) {
        self.seconds = self.seconds.saturating_add(other.seconds);
        self.releases += other.releases;
        self.lines += other.lines;
        self.advisories += other.advisories;
    }
}

/// What the sources tell, ready to be asked about many lockfiles.
#[derive(Debug)]
pub struct Told<'t> {
    documents: &'t BTreeMap<PackageName, PackageDocument>,
    advisories: &'t Advisories,
}

impl<'t> Told<'t> {
    /// Joins what is told.
    pub fn new(documents: &'t BTreeMap<PackageName, PackageDocument>, advisories: &'t Advisories) -> Self {
        Self { documents, advisories }
    }

    /// Says how far behind what is locked is at a time: of releases and advisories those count that were published by then and
    /// not withdrawn. Pre-releases do not count as newer.
    pub fn drift(&self, locked: &[LockedRelease], at: Timestamp) -> Drift {
        let mut drift = Drift { packages: 0, unknown: 0, total: Lag::default(), each: Vec::new() };
        for locked in locked {
            let LockedRelease { package, source, .. } = locked;
            let Some(document) = self.documents.get(package) else {
                drift.unknown += 1;
                continue;
            };
            let Some(own) = document.release(&locked.version) else {
                drift.unknown += 1;
                continue;
            };
            drift.packages += 1;
            let newer = document.releases.iter().filter(|release| {
                release.version > locked.version
                    && !release.version.is_pre_release()
                    && release.published <= at
                    && release.withdrawn().is_none_or(|withdrawn| withdrawn.on > at)
            });
            let newer: Vec<_> = newer.collect();
            let versions: Vec<&Version> =
                std::iter::once(&locked.version).chain(newer.iter().map(|release| &release.version)).collect();
            let seconds = newer.last().map_or(0, |newest| newest.published.as_second() - own.published.as_second());
            let subject = Affectable {
                package,
                version: &locked.version,
                numbering: &document.numbering,
                source: Some(source),
                commit: None,
                identities: identities_of(&own.identities),
            };
            // An advisory may speak of a package in several parts.
            let affecting = self.advisories.on(&subject);
            let affecting = affecting.iter().filter(|(advisory, _)| {
                advisory.published.unwrap_or(advisory.modified) <= at && advisory.withdrawn.is_none_or(|on| on > at)
            });
            let affecting: BTreeSet<&str> = affecting.map(|(advisory, _)| advisory.id.as_str()).collect();
            let lag = Lag {
                seconds: u64::try_from(seconds).unwrap_or(0),
                releases: newer.len(),
                // They rise, so each line is together.
                lines: versions.windows(2).filter(|two| !document.numbering.is_same_line(two[0], two[1])).count(),
                advisories: affecting.len(),
            };
            drift.total.add(lag);
            if !lag.is_none() {
                drift.each.push((package.clone(), locked.version.clone(), lag));
            }
        }
        drift
    }
}
