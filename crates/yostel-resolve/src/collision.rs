//! What collides, as it is told: needs, what releases say, and what that leaves.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{Asker, Origin, PackageName, Requirement, Word, run_purpose};
use yostel_versions::{ConstraintText, Version};

use crate::known::Known;
use crate::problem::{Barred, Problem};

/// Needs that no resolution meets together; without any one of them there is one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Collision {
    /// The needs, sorted.
    pub requirements: Vec<Requirement>,
    /// What releases say that makes them collide, in the order in which a reader meets the packages.
    pub facts: Vec<Fact>,
    /// Roles that two of the packages would fill.
    pub roles: Vec<RoleClash>,
    /// Packages that the story asks for on different compatible lines.
    pub lines: Vec<LinesApart>,
    /// What the constraints in the story accept.
    pub reach: Vec<WithinReach>,
    /// Other collisions, each with needs of which none can go: ending this one leaves them. First those that share no need
    /// with it or with each other.
    pub others: Vec<Collision>,
    /// Whether there may be more than these.
    pub more: bool,
    /// How far it was shown that nothing of it can go.
    pub minimal: Minimality,
}

/// How far it was shown that nothing of a collision can go: of a hard one, that can take too long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Minimality {
    /// Without any one of the needs there is a set, and without any one of the facts they would not collide.
    Shown,
    /// Without any one of the needs or facts, the others tell of no collision. Fewer of the needs may collide because of
    /// something else.
    AsTold,
    /// Some of it may be beside the point.
    Unknown,
}

/// Releases of one package that all need the same thing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Fact {
    /// The package whose releases ask.
    pub asker: PackageName,
    /// Those releases, rising.
    pub versions: Vec<Version>,
    /// How many releases there are from the first of those to the last.
    pub in_range: usize,
    /// The package they need.
    pub package: PackageName,
    /// Which of its versions will do for them.
    pub accept: ConstraintText,
    /// What they ask for, where what is said about packages wherever they turn up made the need what it is.
    pub asked: Vec<(PackageName, ConstraintText)>,
}

/// Which releases a constraint of the story accepts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WithinReach {
    /// The package.
    pub package: PackageName,
    /// The constraint.
    pub accept: ConstraintText,
    /// The releases it accepts that may be chosen, rising.
    pub versions: Vec<Version>,
    /// Releases that it accepts and that may not be chosen, rising.
    pub barred: Vec<(Version, Timestamp, Barred)>,
    /// Releases that it accepts and that offer nothing for a platform to be served, rising, and for which none of these
    /// does.
    pub unserved: (Vec<Version>, BTreeSet<String>),
    /// Whether any source has the package.
    pub known: bool,
    /// All releases there are, rising, where it accepts none.
    pub there: Vec<Version>,
    /// The one version there is and where it is, of a package that no source tells of.
    pub elsewhere: Option<(Version, Origin)>,
}

/// Two packages that fill one role, which no set may hold both.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct RoleClash {
    /// The role.
    pub role: Word,
    /// One package.
    pub one: PackageName,
    /// The other, later by name.
    pub other: PackageName,
}

/// A package that is asked for on different compatible lines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinesApart {
    /// The package.
    pub package: PackageName,
    /// The lines, like `2.x`, rising.
    pub lines: Vec<String>,
    /// The position, from 1, whose change starts a new line of the first.
    pub breaks_at: usize,
}

/// What a switch of an explanation stands for.
pub(crate) enum Switched {
    Need(Requirement),
    Role(RoleClash),
}

/// Joins needs of several releases into facts and orders them as a reader follows them from the needs.
pub(crate) fn tell(requirements: Vec<Requirement>, kept: Vec<Switched>, problem: &Problem, known: &Known) -> Collision {
    let (mut needs, mut roles) = (Vec::new(), Vec::new());
    for fact in kept {
        match fact {
            Switched::Need(need) => needs.push(need),
            Switched::Role(clash) => roles.push(clash),
        }
    }
    roles.sort();
    let mut joined: BTreeMap<(PackageName, PackageName, ConstraintText), Vec<Version>> = BTreeMap::new();
    for need in needs {
        if let Asker::Release(asker, version) = need.asker {
            joined.entry((asker, need.package, need.accept)).or_default().push(version);
        }
    }
    let facts: Vec<Fact> = joined
        .into_iter()
        .map(|((asker, package, accept), mut versions)| {
            versions.sort();
            let asked = asked(&asker, &versions[0], (&package, &accept), problem, known);
            let in_range = in_range(&asker, &versions, known);
            Fact { asker, versions, in_range, package, accept, asked }
        })
        .collect();
    let facts = as_met(&requirements, facts);
    let (mut reach, mut told): (Vec<WithinReach>, BTreeSet<(&PackageName, &ConstraintText)>) = Default::default();
    let said =
        requirements.iter().map(|w| (&w.package, &w.accept)).chain(facts.iter().map(|f| (&f.package, &f.accept)));
    for (package, accept) in said {
        if !told.insert((package, accept)) {
            continue;
        }
        let constraint = known.bind(package, accept);
        let releases = known.document(package).map_or(&[][..], |document| &document.releases);
        let accepted = releases.iter().filter(|r| constraint.as_ref().is_some_and(|c| c.accepts(&r.version)));
        let (unserved, served): (Vec<_>, Vec<_>) =
            accepted.partition(|release| problem.unserved(accept, release).next().is_some());
        let (open, barred): (Vec<_>, Vec<_>) =
            served.into_iter().partition(|release| problem.bar(package, release).is_none());
        let barred = barred
            .into_iter()
            .filter_map(|release| Some((release.version.clone(), release.published, problem.bar(package, release)?)));
        let nothing = open.is_empty() && unserved.is_empty();
        let platforms = unserved.iter().flat_map(|release| problem.unserved(accept, release)).cloned().collect();
        reach.push(WithinReach {
            package: package.clone(),
            accept: accept.clone(),
            versions: open.iter().map(|release| release.version.clone()).collect(),
            barred: barred.collect(),
            unserved: (unserved.iter().map(|release| release.version.clone()).collect(), platforms),
            known: known.document(package).is_some(),
            there: releases.iter().filter(|_| nothing).map(|release| release.version.clone()).collect(),
            elsewhere: known.elsewhere(package),
        });
    }
    let lines = lines_apart(&reach, &requirements, &facts, known);
    Collision {
        requirements,
        facts,
        roles,
        lines,
        reach,
        others: Vec::new(),
        more: false,
        minimal: Minimality::Unknown,
    }
}

/// Puts facts in the order in which a reader meets the packages that ask: of those whose package was met the first that is
/// listed, of others only where there is none.
fn as_met(requirements: &[Requirement], facts: Vec<Fact>) -> Vec<Fact> {
    let mut unmet: BTreeMap<PackageName, BTreeSet<usize>> = BTreeMap::new();
    for (at, fact) in facts.iter().enumerate() {
        unmet.entry(fact.asker.clone()).or_default().insert(at);
    }
    let mut next: BTreeSet<usize> = BTreeSet::new();
    for requirement in requirements {
        next.extend(unmet.remove(&requirement.package).unwrap_or_default());
    }
    let mut facts: Vec<Option<Fact>> = facts.into_iter().map(Some).collect();
    let (mut ordered, mut first) = (Vec::new(), 0);
    while ordered.len() < facts.len() {
        let at = next.pop_first().unwrap_or(first);
        // One that was taken before its package was met is met again with it.
        if let Some(fact) = facts[at].take() {
            next.extend(unmet.remove(&fact.package).unwrap_or_default());
            ordered.push(fact);
        }
        while facts.get(first).is_some_and(Option::is_none) {
            first += 1;
        }
    }
    ordered
}

/// Counts the releases of a package from the first of these to the last.
fn in_range(package: &PackageName, versions: &[Version], known: &Known) -> usize {
    let (Some(first), Some(last)) = (versions.first(), versions.last()) else { return 0 };
    let releases = known.document(package).map_or(&[][..], |document| &document.releases);
    releases.iter().filter(|release| (first..=last).contains(&&release.version)).count()
}

/// Lists what a release asks for that came to this need and is not the need itself.
fn asked(
    asker: &PackageName,
    version: &Version,
    (package, accept): (&PackageName, &ConstraintText),
    problem: &Problem,
    known: &Known,
) -> Vec<(PackageName, ConstraintText)> {
    let release = known.document(asker).and_then(|document| document.release(version));
    let needs = release.and_then(|release| release.needs.get(&run_purpose())).into_iter().flatten();
    let bound = |(named, text): (&PackageName, &ConstraintText)| match problem.rules.overrides.bind(named, text) {
        Some(bound) => bound,
        None => (named.clone(), text.clone()),
    };
    let of_package = needs.map(|need| (need, bound(need))).filter(|(_, (bound, _))| bound == package);
    let all: Vec<_> = of_package.collect();
    let exact = all.iter().any(|(_, (_, text))| text == accept);
    // Where it is none of them by itself, all of them were joined.
    let came_of_it = all.iter().filter(|(_, (_, text))| !exact || text == accept);
    let asked: Vec<(PackageName, ConstraintText)> =
        came_of_it.map(|((named, text), _)| ((*named).clone(), (*text).clone())).collect();
    let as_it_is = asked.iter().any(|(named, text)| named == package && text == accept);
    if as_it_is { Vec::new() } else { asked }
}

/// Finds packages of which two askers want releases of no line in common.
fn lines_apart(reach: &[WithinReach], requirements: &[Requirement], facts: &[Fact], known: &Known) -> Vec<LinesApart> {
    // What releases of one package need are its author's changes of mind, and rule nothing out.
    let mut by_need: BTreeMap<_, BTreeSet<&PackageName>> = BTreeMap::new();
    for fact in facts {
        by_need.entry((&fact.package, &fact.accept)).or_default().insert(&fact.asker);
    }
    let direct: BTreeSet<_> = requirements.iter().map(|w| (&w.package, &w.accept)).collect();
    let is_direct = |reach: &WithinReach| direct.contains(&(&reach.package, &reach.accept));
    let mut by_package: BTreeMap<&PackageName, Vec<(usize, &WithinReach)>> = BTreeMap::new();
    for (at, one) in reach.iter().enumerate() {
        by_package.entry(&one.package).or_default().push((at, one));
    }
    let apart = |one: &WithinReach, other: &WithinReach| {
        let numbering = known.document(&one.package).map(|document| &document.numbering)?;
        let (here, there) = (one.versions.last()?, other.versions.last()?);
        let shares = |a: &Version| other.versions.iter().any(|b| numbering.is_same_line(a, b));
        let askers = by_need.get(&(&one.package, &one.accept));
        let is_one = askers.is_some_and(|askers| askers.len() == 1);
        let is_same = askers == by_need.get(&(&other.package, &other.accept));
        let by_one = is_one && is_same && !is_direct(one) && !is_direct(other);
        if by_one || one.versions.iter().any(shares) {
            return None;
        }
        let (lower, upper) = if here < there { (here, there) } else { (there, here) };
        let lines = vec![numbering.line_name(lower), numbering.line_name(upper)];
        Some(LinesApart { package: one.package.clone(), lines, breaks_at: numbering.line_positions(lower) })
    };
    let first_of = |same: &Vec<(usize, &WithinReach)>| {
        let mut pairs =
            same.iter().enumerate().flat_map(|(at, one)| same[at + 1..].iter().map(move |other| (one, other)));
        pairs.find_map(|((at, one), (_, other))| Some((*at, apart(one, other)?)))
    };
    let mut found: Vec<(usize, LinesApart)> = by_package.values().filter_map(first_of).collect();
    found.sort_by_key(|(at, _)| *at);
    found.into_iter().map(|(_, apart)| apart).collect()
}
