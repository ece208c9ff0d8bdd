//! The naive twin of the resolver: tries every set, judges each by the rules, and picks the best by the definition in
//! docs/resolution.md §2. Knows neither clauses nor the order of search.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use yostel_core::{
    Choice, Origin, PackageName, Prefer, Problem, Resolution, Version, Word, requirements_of, satisfies,
};

use crate::World;

/// Returns the best of all sets that are right, or nothing when none is. For worlds of a few packages only.
///
/// # Panics
/// Never for worlds made by [`World::parse`].
pub fn brute_force(world: &World, problem: &Problem) -> Option<Resolution> {
    let mut sets = vec![Resolution::default()];
    for (name, document) in &world.documents {
        let mut more = Vec::new();
        for set in &sets {
            for release in &document.releases {
                let mut with = set.clone();
                let choice = Choice {
                    release: release.clone(),
                    numbering: document.numbering,
                    origin: Origin::Source(Word::parse("depot").unwrap()),
                };
                with.chosen.insert(name.clone(), choice);
                more.push(with);
            }
        }
        sets.extend(more);
    }
    sets.retain(|set| satisfies(problem, set).is_empty());
    sets.into_iter().max_by(|a, b| better(world, problem, a, b))
}

/// Orders two right sets: the greater is the better.
fn better(world: &World, problem: &Problem, a: &Resolution, b: &Resolution) -> Ordering {
    let kept = |set: &Resolution, name: &PackageName| match set.chosen.get(name) {
        None => true,
        Some(choice) => choice.release.version == problem.keep[name],
    };
    // A version that no longer exists cannot be kept by anyone.
    let exists = |(name, version): &(&PackageName, &Version)| {
        world.documents.get(*name).and_then(|document| document.release(version)).is_some()
    };
    let kept_of = |set| problem.keep.iter().filter(exists).map(|(name, _)| kept(set, name)).collect::<Vec<bool>>();
    let (kept_a, kept_b) = (kept_of(a), kept_of(b));
    let count = |kept: &[bool]| kept.iter().filter(|kept| **kept).count();
    let order = count(&kept_a).cmp(&count(&kept_b)).then_with(|| kept_a.cmp(&kept_b));
    if order.is_ne() {
        return order;
    }
    let bound = |wish: &yostel_core::Requirement| problem.rules.overrides.bound(wish).package;
    let mut layer: BTreeSet<PackageName> = problem.wishes.iter().map(bound).collect();
    let mut done: BTreeMap<PackageName, ()> = BTreeMap::new();
    while !layer.is_empty() {
        let mut next = BTreeSet::new();
        for name in &layer {
            let (in_a, in_b) = (&a.chosen[name].release, &b.chosen[name].release);
            let newer = in_a.version.cmp(&in_b.version);
            let order = if problem.rules.prefer == Prefer::Newest { newer } else { newer.reverse() };
            if order.is_ne() {
                return order;
            }
            next.extend(requirements_of(name, in_a).iter().map(bound));
            done.insert(name.clone(), ());
        }
        next.retain(|name| !done.contains_key(name));
        layer = next;
    }
    Ordering::Equal
}
