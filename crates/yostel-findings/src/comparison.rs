//! What a change of a lockfile means: what moved, what caused it, and what it brings along.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{AskedBy, Asker, LockedPackage, Lockfile, PackageDocument, PackageName, Purpose, artifact_for};
use yostel_versions::{ConstraintText, Version};

use crate::audit::{Advisories, Threat, threats};
use crate::compare::{Move, MoveKind, compare};

/// What a change of a lockfile means.
#[derive(Debug, Clone)]
pub struct Comparison {
    /// How many packages were locked.
    pub packages_before: usize,
    /// How many are.
    pub packages: usize,
    /// What moved, by package.
    pub moves: Vec<Compared>,
    /// Licences, as SPDX expressions, that nothing had that was locked, and who has them now.
    pub new_licences: BTreeMap<String, Vec<PackageName>>,
    /// Advisories that affect what is locked and did not affect what was, the worst first.
    pub advisories_in: Vec<Threat>,
    /// Advisories that do not affect what is locked any more.
    pub advisories_out: Vec<Threat>,
    /// How many more bytes are to be fetched for a platform than before; less than nothing when it is less.
    pub bytes: i64,
}

/// A move, and all that is known of it.
#[derive(Debug, Clone)]
pub struct Compared {
    /// The move.
    pub moved: Move,
    /// What caused it.
    pub cause: Cause,
    /// The need at the root of it, where a release that came along caused it.
    pub root: Option<NeedChange>,
    /// The licences before and now, when they are not the same; nothing where none is told.
    pub licences: Option<(Option<String>, Option<String>)>,
    /// When the release was published that is there now, where that is told.
    pub published: Option<Timestamp>,
}

/// A need of a project that is not as it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NeedChange {
    /// The project.
    pub project: PackageName,
    /// What it needs.
    pub package: PackageName,
    /// What for.
    pub purpose: Purpose,
    /// The constraint before; nothing when there was no such need.
    pub before: Option<ConstraintText>,
    /// The constraint now; nothing when there is none any more.
    pub after: Option<ConstraintText>,
}

/// What caused a move.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cause {
    /// A need of a project, which changed.
    Need(NeedChange),
    /// A release that came, or that went and asked for it no longer.
    Release {
        /// The release.
        package: PackageName,
        /// Its version.
        version: Version,
        /// Whether it is there now.
        is_there: bool,
        /// What it asks for, or asked for.
        accept: ConstraintText,
    },
    /// The manifest forces the version, or did and does no longer.
    Force {
        /// Whether it does now.
        is_there: bool,
    },
    /// Its release before did not accept what moved, and so made way for it.
    MadeWay {
        /// What moved.
        package: PackageName,
        /// The version that it has now.
        version: Version,
        /// What the release before accepted of it.
        accept: ConstraintText,
    },
    /// Nothing that asks for it changed: another release was taken.
    Unprovoked,
}

/// Compares two lockfiles. `documents` and `advisories` are what the sources tell; without them, licences and advisories are
/// not told. Sizes are those for `platform`.
pub fn comparison(
    old: &Lockfile,
    new: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    advisories: &Advisories,
    platform: &str,
) -> Comparison {
    let mut roots = Roots::new();
    let moves = compare(Some(old), new).into_iter().map(|moved| {
        let cause = cause_of(&moved, old, new);
        let root = root_of(&cause, old, new, &mut roots);
        let (licences, published) = (licences_of(&moved, documents), published(&moved, documents));
        Compared { moved, cause, root, licences, published }
    });
    let (before, now) = (threats(old, documents, advisories), threats(new, documents, advisories));
    let key = |threat: &Threat| (threat.id.clone(), threat.package.clone());
    let without = |all: &[Threat], others: &[Threat]| {
        let others: BTreeSet<_> = others.iter().map(key).collect();
        all.iter().filter(|threat| !others.contains(&key(threat))).cloned().collect()
    };
    let bytes = |lockfile: &Lockfile| -> i64 {
        let sizes = lockfile.chosen.iter().filter_map(|(_, locked)| artifact_for(&locked.artifacts, platform));
        sizes.map(|artifact| i64::try_from(artifact.size).unwrap_or(i64::MAX)).fold(0, i64::saturating_add)
    };
    Comparison {
        new_licences: new_licences(old, new, documents),
        packages_before: old.chosen.len(),
        packages: new.chosen.len(),
        moves: moves.collect(),
        advisories_in: without(&now, &before),
        advisories_out: without(&before, &now),
        bytes: bytes(new).saturating_sub(bytes(old)),
    }
}

/// Who asks for a package, at whatever version.
fn asked<'l>(lockfile: &'l Lockfile, package: &PackageName) -> impl Iterator<Item = &'l AskedBy> {
    lockfile.chosen.all(package).iter().flat_map(|locked| &locked.asked_by)
}

/// Lists the needs that projects have of a package otherwise than before.
fn changed_needs(package: &PackageName, old: &Lockfile, new: &Lockfile) -> Vec<NeedChange> {
    let of_projects = |lockfile: &Lockfile| -> BTreeMap<(PackageName, Purpose), ConstraintText> {
        let needs = asked(lockfile, package).filter(|asked| asked.who.is_project());
        needs.map(|asked| ((asked.who.name().clone(), asked.purpose.clone()), asked.accept.clone())).collect()
    };
    let (before, now) = (of_projects(old), of_projects(new));
    let keys: BTreeSet<_> = before.keys().chain(now.keys()).collect();
    let change = |key: &(PackageName, Purpose)| {
        let (before, after) = (before.get(key).cloned(), now.get(key).cloned());
        let (project, purpose) = key.clone();
        (before != after).then(|| NeedChange { project, package: package.clone(), purpose, before, after })
    };
    keys.into_iter().filter_map(change).collect()
}

fn accepts(accept: &ConstraintText, locked: Option<&LockedPackage>, version: &Version) -> bool {
    locked.is_some_and(|locked| accept.bind(&locked.numbering).is_ok_and(|bound| bound.accepts(version)))
}

fn cause_of(moved: &Move, old: &Lockfile, new: &Lockfile) -> Cause {
    let package = &moved.package;
    let (from, to) = match &moved.kind {
        MoveKind::Added { to } => (None, Some(to)),
        MoveKind::Dropped { from } => (Some(from), None),
        MoveKind::Moved { from, to, .. } => (Some(from), Some(to)),
        _ => return Cause::Unprovoked,
    };
    let is_forced = |lockfile: &Lockfile| lockfile.chosen.all(package).iter().any(|locked| locked.forced);
    if from.is_some() && to.is_some() && (is_forced(old) || is_forced(new)) {
        return Cause::Force { is_there: is_forced(new) };
    }
    let locked = old.chosen.all(package).first().or(new.chosen.all(package).first());
    // Of what asks otherwise than before, that which the version before, or the one now, would not do for.
    let rejects = |accept: &ConstraintText, version: Option<&Version>| {
        version.is_some_and(|version| !accepts(accept, locked, version))
    };
    let needs = changed_needs(package, old, new);
    let came: Vec<&AskedBy> = asked_only_in((new, to), old, package).collect();
    let went: Vec<&AskedBy> = asked_only_in((old, from), new, package).collect();
    let release = |asked: &AskedBy, is_there: bool| match &asked.who {
        Asker::Release(package, version) => Some(Cause::Release {
            package: package.clone(),
            version: version.clone(),
            is_there,
            accept: asked.accept.clone(),
        }),
        Asker::Project(_) => None,
    };
    let pushing = came.iter().find(|asked| rejects(&asked.accept, from)).and_then(|asked| release(asked, true));
    let holding = went.iter().find(|asked| rejects(&asked.accept, to)).and_then(|asked| release(asked, false));
    // What pushed it comes before what only let it go.
    let pushes = |need: &&NeedChange| need.after.as_ref().is_some_and(|after| rejects(after, from));
    let held = |need: &&NeedChange| need.before.as_ref().is_some_and(|before| rejects(before, to));
    let need = |is: &dyn Fn(&&NeedChange) -> bool| needs.iter().find(is).cloned().map(Cause::Need);
    if let Some(cause) = need(&pushes).or(pushing).or_else(|| need(&held)).or(holding) {
        return cause;
    }
    // What came or went as a whole did so with whoever asks; what moved although everybody would have kept it, for nobody.
    let whole = match (from, to) {
        (None, _) => need(&|_| true).or_else(|| came.first().and_then(|asked| release(asked, true))),
        (_, None) => need(&|_| true).or_else(|| went.first().and_then(|asked| release(asked, false))),
        _ => None,
    };
    whole.or_else(|| made_way(package, from?, old, new)).unwrap_or(Cause::Unprovoked)
}

/// Finds what moved to a version that a release which is gone did not accept.
fn made_way(gone: &PackageName, from: &Version, old: &Lockfile, new: &Lockfile) -> Option<Cause> {
    let is_gone = |who: &Asker| matches!(who, Asker::Release(name, version) if name == gone && version == from);
    old.chosen.iter().find_map(|(package, locked)| {
        let asked = locked.asked_by.iter().find(|asked| is_gone(&asked.who))?;
        let now = new.chosen.all(package);
        let version = now.first().map(|now| &now.version).filter(|_| now.len() == 1)?;
        (!accepts(&asked.accept, Some(locked), version)).then(|| Cause::MadeWay {
            package: package.clone(),
            version: version.clone(),
            accept: asked.accept.clone(),
        })
    })
}

/// Lists the releases that ask for a package at a version in one lockfile, and do not, or otherwise, in another.
fn asked_only_in<'l>(
    (one, version): (&'l Lockfile, Option<&'l Version>),
    other: &'l Lockfile,
    package: &'l PackageName,
) -> impl Iterator<Item = &'l AskedBy> {
    let same = |asked: &AskedBy, there: &AskedBy| asked.who == there.who && asked.accept == there.accept;
    let is_new = move |asked: &&AskedBy| !self::asked(other, package).any(|there| same(asked, there));
    let locked = version.and_then(|version| one.chosen.at(package, version));
    let all = locked.into_iter().flat_map(|locked| &locked.asked_by);
    all.filter(|asked| !asked.who.is_project()).filter(is_new)
}

/// The needs behind releases that came or went: by package, version, and whether it is there now.
type Roots = BTreeMap<(PackageName, Version, bool), Option<NeedChange>>;

/// Follows a release that came or went to the need of a project that changed. Ways may be thousands long and have their end
/// in common, so what was found on one is kept.
fn root_of(cause: &Cause, old: &Lockfile, new: &Lockfile, known: &mut Roots) -> Option<NeedChange> {
    let (mut way, mut seen) = (Vec::new(), BTreeSet::new());
    let mut at = cause.clone();
    let root = loop {
        let (package, version, is_there) = match at {
            Cause::Release { package, version, is_there, .. } => (package, version, is_there),
            Cause::Need(need) if !way.is_empty() => break Some(need),
            _ => break None,
        };
        let key = (package, version, is_there);
        if let Some(root) = known.get(&key) {
            break root.clone();
        }
        // Those that ask for each other may have come together.
        if !seen.insert(key.clone()) {
            break None;
        }
        let (one, other) = if is_there { (new, old) } else { (old, new) };
        let was_there = other.chosen.at(&key.0, &key.1).is_some();
        let moved = compare_one(&key.0, &key.1, is_there, was_there, one, other);
        way.push(key);
        match moved {
            Some(moved) => at = cause_of(&moved, old, new),
            None => break None,
        }
    };
    known.extend(way.into_iter().map(|key| (key, root.clone())));
    root
}

/// Tells how the release of a package moved that asks; nothing when it did not.
fn compare_one(
    package: &PackageName,
    version: &Version,
    is_there: bool,
    was_there: bool,
    one: &Lockfile,
    other: &Lockfile,
) -> Option<Move> {
    if was_there {
        return None;
    }
    let locked = one.chosen.at(package, version)?;
    let before = other.chosen.get(package).map(|locked| locked.version.clone());
    let kind = match (is_there, before) {
        (true, None) => MoveKind::Added { to: version.clone() },
        (false, None) => MoveKind::Dropped { from: version.clone() },
        (true, Some(from)) => MoveKind::Moved { from, to: version.clone(), crosses_line: false },
        (false, Some(to)) => MoveKind::Moved { from: version.clone(), to, crosses_line: false },
    };
    Some(Move { package: package.clone(), kind, asked_by: locked.asked_by.clone(), pulled_by: Vec::new() })
}

/// Says how the licence of a package changed; nothing when it did not, or nobody tells.
fn licences_of(
    moved: &Move,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Option<(Option<String>, Option<String>)> {
    let document = documents.get(&moved.package)?;
    let licence = |version: &Version| document.release(version).map(|release| release.licence.clone());
    match &moved.kind {
        MoveKind::Moved { from, to, .. } => {
            let (before, now) = (licence(from)?, licence(to)?);
            (before != now).then_some((before, now))
        }
        _ => None,
    }
}

/// Tells when the release was published that is there now; nothing where nobody tells.
fn published(moved: &Move, documents: &BTreeMap<PackageName, PackageDocument>) -> Option<Timestamp> {
    match &moved.kind {
        MoveKind::Added { to } | MoveKind::Moved { to, .. } => {
            Some(documents.get(&moved.package)?.release(to)?.published)
        }
        _ => None,
    }
}

/// Lists the licences that only what is locked now has.
fn new_licences(
    old: &Lockfile,
    new: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> BTreeMap<String, Vec<PackageName>> {
    let of = |lockfile: &Lockfile| -> BTreeSet<(String, PackageName)> {
        let licensed = lockfile.chosen.iter().filter_map(|(name, locked)| {
            let licence = documents.get(name)?.release(&locked.version)?.licence.clone()?;
            Some((licence, name.clone()))
        });
        licensed.collect()
    };
    let (before, now) = (of(old), of(new));
    let known: BTreeSet<&str> = before.iter().map(|(licence, _)| licence.as_str()).collect();
    let mut new: BTreeMap<String, Vec<PackageName>> = BTreeMap::new();
    for (licence, package) in now.iter().filter(|(licence, _)| !known.contains(licence.as_str())) {
        new.entry(licence.clone()).or_default().push(package.clone());
    }
    new
}
