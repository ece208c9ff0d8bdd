//! The naive twin of the resolver: tries every set, judges each by the rules of docs/resolution.md §1 in its own words, and
//! picks the best by the definition in §2. Knows neither clauses nor the order of search, nor the judge that ships.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Origin, PackageName, Release, Requirement, Take, Word};
use yostel_resolve::{Choice, Problem, Resolution, requirements_of};
use yostel_versions::Version;

use crate::World;

/// Returns the best of all sets that are right, or nothing when none is. For worlds of a few packages only.
///
/// # Panics
/// Never for worlds made by [`World::parse`].
pub fn brute_force(world: &World, problem: &Problem) -> Option<Resolution> {
    // Sets that break the second rule are left out at once: there are far more of them.
    let beside = |name: &PackageName, one: &Choice, other: &Choice| {
        let numbering = &world.documents[name].numbering;
        problem.rules.coexist.contains(name) && !numbering.is_same_line(&one.release.version, &other.release.version)
    };
    let anyway = problem.reach.keys().cloned().collect();
    let right = sets(world, beside).into_iter().filter(|set| is_right_with(problem, set, &anyway));
    // A version to keep was left where its package is there at another of the same line.
    let is_left = |set: &Resolution, (name, version): &(PackageName, Version)| {
        let same_line = |choice: &Choice| {
            !problem.rules.coexist.contains(name) || choice.numbering.is_same_line(&choice.release.version, version)
        };
        let is_known = world.documents.get(name).is_some_and(|document| document.release(version).is_some());
        let others = set.chosen.all(name).iter().filter(|choice| choice.release.version != *version);
        is_known && others.filter(|choice| same_line(choice)).count() > 0
    };
    // What cannot be kept does not count.
    let counts = |(name, version): &&(PackageName, Version)| {
        world.documents.get(name).is_some_and(|document| document.release(version).is_some())
    };
    let right = right.filter(|set| {
        problem.not_all_moved.iter().all(|group| group.iter().filter(counts).any(|version| !is_left(set, version)))
    });
    let best = right.max_by(|a, b| {
        let reached = |set| reached(world, problem, set);
        reached(a).cmp(&reached(b)).then_with(|| better(world, problem, a, b))
    })?;
    // What was only there to be reached, and nobody needs, is not in the set.
    let needed = needed(problem, &best, &BTreeSet::new())?;
    let mut set = Resolution::default();
    for (name, choice) in best.chosen.iter().filter(|(name, choice)| needed.contains(&(*name, &choice.release.version)))
    {
        set.chosen.insert(name.clone(), choice.clone());
    }
    Some(set)
}

/// Tells how far a set gets with what is to be reached, package by package: the greater is the better.
fn reached(world: &World, problem: &Problem, set: &Resolution) -> Vec<Option<usize>> {
    let mut all = Vec::new();
    for (name, there) in &problem.reach {
        let Some(document) = world.documents.get(name) else { continue };
        let same_line =
            |a: &Version, b: &Version| !problem.rules.coexist.contains(name) || document.numbering.is_same_line(a, b);
        let mut releases: Vec<&Version> = Vec::new();
        for release in document.releases.iter().filter(|release| problem.bar(name, release).is_none()) {
            releases.push(&release.version);
        }
        if problem.rules.take == Take::Newest {
            releases.reverse();
        }
        let mut lines: Vec<Vec<&Version>> = Vec::new();
        for version in releases {
            match lines.iter_mut().find(|line| same_line(line[0], version)) {
                Some(line) => line.push(version),
                None => lines.push(vec![version]),
            }
        }
        let is_at = |line: &Vec<&Version>| there.iter().any(|there| same_line(there, line[0]));
        let several = lines.len() > 1;
        for line in lines.iter().filter(|line| !several || is_at(line)) {
            let at = line.iter().position(|v| set.chosen.at(name, v).is_some());
            all.push(at.map(|at| line.len() - at));
        }
    }
    all
}

/// Lists every set of releases there is, right or wrong, some of which have a package at several versions.
///
/// # Panics
/// Never for worlds made by [`World::parse`].
pub fn every_set(world: &World) -> Vec<Resolution> {
    sets(world, |_, _, _| true)
}

/// Lists the sets in which each two releases of a package may be beside each other.
fn sets(world: &World, beside: impl Fn(&PackageName, &Choice, &Choice) -> bool) -> Vec<Resolution> {
    let mut sets = vec![Resolution::default()];
    for (name, document) in &world.documents {
        for release in document.releases.iter() {
            let choice = Choice {
                release: release.whole().clone(),
                numbering: document.numbering.clone(),
                origin: Origin::Source(Word::parse("station").unwrap()),
            };
            let with = |set: &Resolution| {
                let mut with = set.clone();
                with.chosen.insert(name.clone(), choice.clone());
                with
            };
            let fits = |set: &&Resolution| set.chosen.all(name).iter().all(|other| beside(name, &choice, other));
            let more: Vec<Resolution> = sets.iter().filter(fits).map(with).collect();
            sets.extend(more);
        }
    }
    sets
}

/// Tells whether a set keeps every rule. As plain as can be: everything that is needed is found by looking again and
/// again, until nothing new is.
pub fn is_right(problem: &Problem, set: &Resolution) -> bool {
    is_right_with(problem, set, &BTreeSet::new())
}

/// Like [`is_right`], where some packages may be there without being needed.
fn is_right_with(problem: &Problem, set: &Resolution, anyway: &BTreeSet<PackageName>) -> bool {
    let Some(needed) = needed(problem, set, anyway) else { return false };
    let rules = &problem.rules;
    let all: Vec<(&PackageName, &Choice)> = set.chosen.iter().collect();
    let may_be_there = |(name, choice): &(&PackageName, &Choice)| {
        let version = &choice.release.version;
        let was_locked = problem.keep.get(*name).is_some_and(|kept| kept.contains(version));
        let published = choice.release.published;
        let admitted = rules.admitted.get(*name).is_some_and(|admitted| admitted == version.as_str());
        let young = rules
            .minimum_age
            .is_some_and(|age| age.now.duration_since(published).as_secs() < i64::from(age.days) * 86_400);
        let too_new = rules.published_by.is_some_and(|by| published > by);
        let barred = too_new || !admitted && (young || choice.release.withdrawn.is_some());
        let others = all.iter().filter(|(other, beside)| other == name && beside.release.version != *version);
        let mut beside = others.map(|(_, other)| &other.release.version);
        let alone = beside.all(|other| rules.coexist.contains(*name) && !choice.numbering.is_same_line(other, version));
        needed.contains(&(*name, version)) && (was_locked || !barred) && alone
    };
    let has = |choice: &Choice, role: &Word| choice.release.offers.roles.contains(role);
    let roles_apart = |(name, choice): &(&PackageName, &Choice)| {
        let roles = choice.release.offers.roles.iter().filter(|role| !rules.shared_roles.contains(*role));
        roles.into_iter().all(|role| !all.iter().any(|(other, beside)| other != name && has(beside, role)))
    };
    all.iter().all(may_be_there) && all.iter().all(roles_apart)
}

/// Lists what a set needs of what it holds, these packages anyway; nothing when a need is not met.
fn needed<'s>(
    problem: &Problem,
    set: &'s Resolution,
    anyway: &BTreeSet<PackageName>,
) -> Option<BTreeSet<(&'s PackageName, &'s Version)>> {
    let rules = &problem.rules;
    let all: Vec<(&PackageName, &Choice)> = set.chosen.iter().collect();
    let offers = |release: &Release, platform: &str| {
        release.artifacts.is_empty() || release.artifacts.iter().any(|a| a.platform == platform || a.platform == "any")
    };
    // Which release in the set meets a need: `None` when it counts nowhere, `Some(None)` when none does.
    let met = |need: &Requirement, asker: Option<&Release>| -> Option<Option<(&PackageName, &Choice)>> {
        let mut on: Vec<&str> = Vec::new();
        for platform in &rules.platforms {
            if need.accept.covers(platform) && asker.is_none_or(|asker| offers(asker, platform)) {
                on.push(platform);
            }
        }
        if on.is_empty() && !rules.platforms.is_empty() {
            return None;
        }
        let mut best: Option<(&PackageName, &Choice)> = None;
        for (name, choice) in &all {
            let accepted = **name == need.package
                && need.accept.bind(&choice.numbering).is_ok_and(|c| c.accepts(&choice.release.version));
            let newer = best.is_none_or(|(_, other)| choice.release.version > other.release.version);
            if accepted && newer && on.iter().all(|platform| offers(&choice.release, platform)) {
                best = Some((name, choice));
            }
        }
        Some(best)
    };
    let mut needed: BTreeSet<(&PackageName, &Version)> = BTreeSet::new();
    for (name, choice) in all.iter().filter(|(name, _)| anyway.contains(*name)) {
        needed.insert((name, &choice.release.version));
    }
    loop {
        let mut needs: Vec<(Requirement, Option<&Release>)> = Vec::new();
        for need in rules.overrides.bound_all(&problem.requirements, &rules.coexist) {
            needs.push((need, None));
        }
        for (name, choice) in all.iter().filter(|(name, choice)| needed.contains(&(*name, &choice.release.version))) {
            for need in rules.overrides.bound_all(&requirements_of(name, &choice.release), &rules.coexist) {
                needs.push((need, Some(&*choice.release)));
            }
        }
        let before = needed.len();
        for (need, asker) in &needs {
            match met(need, *asker) {
                None => {}
                Some(None) => return None,
                Some(Some((name, choice))) => drop(needed.insert((name, &choice.release.version))),
            }
        }
        if needed.len() == before {
            return Some(needed);
        }
    }
}

/// Orders two right sets: the greater is the better.
fn better(world: &World, problem: &Problem, a: &Resolution, b: &Resolution) -> Ordering {
    let same_line =
        |name: &PackageName, one: &Version, other: &Version| world.documents[name].numbering.is_same_line(one, other);
    let apart = |name: &PackageName| problem.rules.coexist.contains(name);
    let kept = |set: &Resolution, name: &PackageName, version: &Version| {
        let in_place = |choice: &Choice| {
            choice.release.version != *version && (!apart(name) || same_line(name, &choice.release.version, version))
        };
        !set.chosen.all(name).iter().any(in_place)
    };
    let kept_of = |set| {
        let all = problem.keep.iter().flat_map(|(name, all)| all.iter().map(move |version| (name, version)));
        // A version that no longer exists cannot be kept by anyone.
        let exists = |(name, version): &(&PackageName, &Version)| {
            world.documents.get(*name).and_then(|document| document.release(version)).is_some()
        };
        all.filter(exists).map(|(name, version)| kept(set, name, version)).collect::<Vec<bool>>()
    };
    let (kept_a, kept_b) = (kept_of(a), kept_of(b));
    let count = |kept: &[bool]| kept.iter().filter(|kept| **kept).count();
    let order = count(&kept_a).cmp(&count(&kept_b)).then_with(|| kept_a.cmp(&kept_b));
    if order.is_ne() {
        return order;
    }
    let bound = |requirement: &Requirement| problem.rules.overrides.bound(requirement).package;
    // What counts on none of the listed platforms is no need.
    let counts = |need: &Requirement, asker: Option<&Release>| {
        let platforms = &problem.rules.platforms;
        let on = |p: &String| need.accept.covers(p) && asker.is_none_or(|asker| asker.serves(p));
        platforms.is_empty() || platforms.iter().any(on)
    };
    let mut layer: BTreeSet<PackageName> =
        problem.requirements.iter().filter(|requirement| counts(requirement, None)).map(bound).collect();
    let mut done: BTreeMap<PackageName, ()> = BTreeMap::new();
    while !layer.is_empty() {
        let mut next = BTreeSet::new();
        for name in &layer {
            let (in_a, in_b) = (a.chosen.all(name), b.chosen.all(name));
            // Lines that are given up, the oldest first; then the newest of each, the newest line first.
            let mut lines: Vec<&Version> = Vec::new();
            for release in world.documents[name].releases.iter().filter(|_| apart(name)) {
                if !lines.iter().any(|line| same_line(name, line, &release.version)) {
                    lines.push(&release.version);
                }
            }
            let without = |chosen: &[Choice]| -> Vec<bool> {
                lines.iter().map(|l| !chosen.iter().any(|c| same_line(name, l, &c.release.version))).collect()
            };
            let mut order = without(in_a).cmp(&without(in_b));
            for (one, other) in in_a.iter().rev().zip(in_b.iter().rev()) {
                let newer = one.release.version.cmp(&other.release.version);
                order = order.then(if problem.rules.take == Take::Newest { newer } else { newer.reverse() });
            }
            if order.is_ne() {
                return order;
            }
            for choice in in_a {
                let needs = requirements_of(name, &choice.release);
                next.extend(needs.iter().filter(|need| counts(need, Some(&choice.release))).map(bound));
            }
            done.insert(name.clone(), ());
        }
        next.retain(|name| !done.contains_key(name));
        layer = next;
    }
    Ordering::Equal
}
