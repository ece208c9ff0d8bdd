//! The naive twin of the resolver: tries every set, judges each by the rules, and picks the best by the definition in
//! docs/resolution.md §2. Knows neither clauses nor the order of search.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Origin, PackageName, Take, Word};
use yostel_resolve::{Choice, Problem, Resolution, requirements_of, satisfies};
use yostel_versions::Version;

use crate::World;

/// Returns the best of all sets that are right, or nothing when none is. For worlds of a few packages only.
///
/// # Panics
/// Never for worlds made by [`World::parse`].
pub fn brute_force(world: &World, problem: &Problem) -> Option<Resolution> {
    let mut sets = vec![Resolution::default()];
    for (name, document) in &world.documents {
        for release in &document.releases {
            // One a package, or one a line.
            let beside = |other: &Choice| {
                problem.rules.coexist.contains(name)
                    && !document.numbering.is_same_line(&other.release.version, &release.version)
            };
            let choice = Choice {
                release: release.clone(),
                numbering: document.numbering.clone(),
                origin: Origin::Source(Word::parse("station").unwrap()),
            };
            let more = sets.iter().filter(|set| set.chosen.all(name).iter().all(beside)).map(|set| {
                let mut with = set.clone();
                with.chosen.insert(name.clone(), choice.clone());
                with
            });
            let more: Vec<Resolution> = more.collect();
            sets.extend(more);
        }
    }
    sets.retain(|set| satisfies(problem, set).is_empty());
    sets.into_iter().max_by(|a, b| better(world, problem, a, b))
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
    let bound = |wish: &yostel_documents::Requirement| problem.rules.overrides.bound(wish).package;
    // What counts on none of the listed platforms is no need.
    let counts = |need: &yostel_documents::Requirement, asker: Option<&yostel_documents::Release>| {
        let platforms = &problem.rules.platforms;
        let on = |p: &String| need.accept.covers(p) && asker.is_none_or(|asker| asker.serves(p));
        platforms.is_empty() || platforms.iter().any(on)
    };
    let mut layer: BTreeSet<PackageName> = problem.wishes.iter().filter(|wish| counts(wish, None)).map(bound).collect();
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
