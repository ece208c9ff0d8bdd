//! Why a package is here, why at this version, and who holds it back: read off a lockfile and the sources' documents.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{
    AskedBy, Asker, ListedRelease, LockedPackage, Lockfile, PackageDocument, PackageName, Withdrawal,
};
use yostel_versions::Version;

use crate::problem::{Barred, Rules};

/// Why a locked package is as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Why {
    /// The package.
    pub package: PackageName,
    /// Its locked version; the newest where it is locked at several.
    pub locked: Version,
    /// Older versions that are beside it, each with who asks for it.
    pub beside: Vec<(Version, BTreeSet<AskedBy>)>,
    /// Shortest ways from a project to it, one for each direct need that leads here, shortest first: who asks whom.
    pub ways: Vec<Vec<(Asker, PackageName)>>,
    /// Who asks for it.
    pub asked_by: BTreeSet<AskedBy>,
    /// Releases above the locked one, newest first, each with what keeps it out.
    pub newer: Vec<NotTaken>,
}

/// A newer release that is not the locked one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotTaken {
    /// Its version.
    pub version: Version,
    /// What keeps it out.
    pub reason: Reason,
}

/// What keeps a release out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// These do not accept it; never empty.
    NotAccepted(Vec<AskedBy>),
    /// It was withdrawn.
    Withdrawn(Withdrawal),
    /// It was published then, after the time that was asked for.
    PublishedLater(Timestamp),
    /// It was published then and is too young; with the time from which it counts, if ever.
    TooYoung(Timestamp, Option<Timestamp>),
    /// It offers nothing for this platform, which is to be served.
    Unserved(String),
    /// It needs something that no source has, or no release of which is what it needs.
    NeverMet(PackageName),
    /// Everyone who asks accepts it: it was kept where it is, or something further away keeps it out.
    Accepted,
}

/// Explains a locked package; nothing when it is not locked.
pub fn why(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    package: &PackageName,
    rules: &Rules,
) -> Option<Why> {
    let locked = lockfile.chosen.get(package)?;
    let mut newer = Vec::new();
    if let Some(document) = documents.get(package) {
        for release in document.releases.iter().rev().filter(|release| release.version > locked.version) {
            let reason = reason(release, document, &locked.asked_by, documents, rules);
            newer.push(NotTaken { version: release.version.clone(), reason });
        }
    }
    let older = lockfile.chosen.all(package).iter().filter(|other| other.version < locked.version);
    let beside = older.map(|other| (other.version.clone(), other.asked_by.clone())).collect();
    Some(Why {
        package: package.clone(),
        beside,
        locked: locked.version.clone(),
        ways: ways(lockfile, package, locked),
        asked_by: locked.asked_by.clone(),
        newer,
    })
}

fn reason(
    release: &ListedRelease,
    document: &PackageDocument,
    asked_by: &BTreeSet<AskedBy>,
    documents: &BTreeMap<PackageName, PackageDocument>,
    rules: &Rules,
) -> Reason {
    match rules.bar(&document.name, release) {
        Some(Barred::Withdrawn(withdrawal)) => return Reason::Withdrawn(withdrawal),
        Some(Barred::PublishedLater) => return Reason::PublishedLater(release.published),
        Some(Barred::TooYoung(from)) => return Reason::TooYoung(release.published, from),
        None => {}
    }
    let asked_on = |p: &&String| asked_by.iter().any(|asked| asked.accept.covers(p));
    if let Some(platform) = rules.platforms.iter().filter(asked_on).find(|p| !release.serves(p)) {
        return Reason::Unserved(platform.clone());
    }
    let refuses = |asked: &&AskedBy| {
        asked.accept.bind(&document.numbering).is_ok_and(|constraint| !constraint.accepts(&release.version))
    };
    let holders: Vec<AskedBy> = asked_by.iter().filter(refuses).cloned().collect();
    if !holders.is_empty() {
        return Reason::NotAccepted(holders);
    }
    let needs = release.needs(&yostel_documents::run_purpose());
    let unmet = needs.iter().find(|(needed, accept)| {
        // A document that was not asked for says nothing either way.
        documents.get(needed).is_some_and(|document| {
            accept
                .bind(&document.numbering)
                .is_ok_and(|constraint| !document.releases.iter().any(|release| constraint.accepts(&release.version)))
        })
    });
    unmet.map_or(Reason::Accepted, |(needed, _)| Reason::NeverMet(needed.clone()))
}

/// Most steps of a way that are told.
const MOST_OF_A_WAY: usize = 100;

/// Most ways that are told.
const MOST_WAYS: usize = 1000;

/// Walks back from the package to the projects, breadth first, so that each way found is a shortest one. What was met
/// points to where it was met from, and a way is written down only once a project is found; of one that is longer than
/// 100, its first steps are told and its last.
fn ways(lockfile: &Lockfile, package: &PackageName, locked: &LockedPackage) -> Vec<Vec<(Asker, PackageName)>> {
    type Met<'l> = (&'l PackageName, &'l LockedPackage, Option<usize>);
    let mut ways = Vec::new();
    let mut seen: BTreeSet<(&PackageName, &Version)> = BTreeSet::from([(package, &locked.version)]);
    let mut met: Vec<Met<'_>> = vec![(package, locked, None)];
    let mut next = 0;
    while next < met.len() && ways.len() < MOST_WAYS {
        let (at, locked, _) = met[next];
        let mut told: BTreeSet<&Asker> = BTreeSet::new();
        for asked in &locked.asked_by {
            if !told.insert(&asked.who) {
                continue;
            }
            match &asked.who {
                Asker::Project(_) => {
                    let mut way = vec![(asked.who.clone(), at.clone())];
                    let mut from = next;
                    while let (here, there, Some(before)) = met[from] {
                        let asker = Asker::Release(here.clone(), there.version.clone());
                        let step = (asker, met[before].0.clone());
                        if way.len() < MOST_OF_A_WAY {
                            way.push(step);
                        } else {
                            way[MOST_OF_A_WAY - 1] = step;
                        }
                        from = before;
                    }
                    ways.push(way);
                }
                Asker::Release(asker, version) => {
                    if let Some((asker, there)) = lockfile
                        .chosen
                        .entry(asker)
                        .and_then(|(asker, _)| Some((asker, lockfile.chosen.at(asker, version)?)))
                        && seen.insert((asker, &there.version))
                    {
                        met.push((asker, there, Some(next)));
                    }
                }
            }
        }
        next += 1;
    }
    ways
}
