//! What is to be reached: as new as can be, and then the fewest others move.

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_documents::{Overrides, PackageName};
use yostel_resolve::{Outcome, Phase, Problem, Resolution, Resolver, Step};
use yostel_testkit::any::{any_coexist, any_keep, any_overrides, any_world};
use yostel_testkit::{World, brute_force};

fn reaching(world: &World, keep: &[&str], reach: &[&str]) -> Problem {
    let mut problem = world.problem(keep);
    for name in reach {
        let name = PackageName::parse(name).unwrap();
        // What is to be reached is not kept.
        let there = problem.keep.remove(&name).unwrap_or_default();
        problem.reach.insert(name, there);
    }
    problem
}

/// The same, under these rules.
fn ruled(mut problem: Problem, overrides: Overrides, coexist: BTreeSet<PackageName>) -> Problem {
    problem.rules.overrides = overrides;
    problem.rules.coexist = coexist;
    problem
}

fn told(set: &Resolution) -> Vec<String> {
    set.chosen.iter().map(|(name, choice)| format!("{name} {}", choice.release.version)).collect()
}

fn found(text: &str, keep: &[&str], reach: &[&str]) -> Vec<String> {
    let world = World::parse(text);
    match world.resolve_with(reaching(&world, keep, reach), |answers| answers) {
        Ok(Outcome::Resolved(set)) => told(&set),
        other => panic!("{other:?}"),
    }
}

#[test]
fn one_package_moves_and_of_the_others_only_what_must() {
    let text = "console: a *, b *, c *\na 1.0.0: b *\na 2.0.0: b ^2\nb 1.0.0\nb 2.0.0\nb 3.0.0\nc 1.0.0\nc 2.0.0";
    let keep = ["a 1.0.0", "b 1.0.0", "c 1.0.0"];
    assert_eq!(found(text, &keep, &[]), ["a 1.0.0", "b 1.0.0", "c 1.0.0"]);
    assert_eq!(found(text, &keep, &["a"]), ["a 2.0.0", "b 2.0.0", "c 1.0.0"]);
    assert_eq!(found(text, &keep, &["b"]), ["a 1.0.0", "b 3.0.0", "c 1.0.0"]);
    assert_eq!(found(text, &keep, &["a", "c"]), ["a 2.0.0", "b 2.0.0", "c 2.0.0"]);
}

#[test]
fn who_is_in_the_way_moves_too() {
    let text = "console: a *\na 1.0.0: b <2\na 1.1.0: b *\na 2.0.0: c *\nb 1.0.0\nb 2.0.0\nc 1.0.0";
    // Either release of a would do; the newer one does not need b any more.
    assert_eq!(found(text, &["a 1.0.0", "b 1.0.0"], &["b"]), ["a 2.0.0", "c 1.0.0"]);
    let text = "console: a <2\na 1.0.0: b <2\na 1.1.0: b *\nb 1.0.0\nb 2.0.0";
    assert_eq!(found(text, &["a 1.0.0", "b 1.0.0"], &["b"]), ["a 1.1.0", "b 2.0.0"]);
}

#[test]
fn what_is_in_no_set_is_passed_over() {
    let text = "console: a ^1\na 1.0.0\nb 1.0.0: a ^2";
    assert_eq!(found(text, &["a 1.0.0"], &["b", "z"]), ["a 1.0.0"]);
}

#[test]
fn of_several_lines_each_moves_along_its_own() {
    let text = "console: a ^1, b *\na 1.0.0\na 1.1.0: c *\na 2.0.0\na 2.1.0: c *\nb 1.0.0: a ^2\nc 1.0.0\nc 2.0.0";
    let world = World::parse(text);
    let keep = ["a 1.0.0", "a 2.0.0", "b 1.0.0"];
    let mut problem = reaching(&world, &keep, &["a"]);
    problem.rules.coexist.insert(PackageName::parse("a").unwrap());
    let Ok(Outcome::Resolved(set)) = world.resolve_with(problem, |answers| answers) else { panic!() };
    assert_eq!(told(&set), ["a 1.1.0", "a 2.1.0", "b 1.0.0", "c 2.0.0"]);
}

/// Resolves what asks for another set; nothing when there is none.
fn another(world: &World, problem: Problem) -> Option<Resolution> {
    let mut resolver = Resolver::new(problem);
    let mut arrived = Vec::new();
    loop {
        match resolver.step(arrived).unwrap() {
            Step::Need(packages) => arrived = world.answer(&packages),
            Step::Going(Phase::Explaining) => return None,
            Step::Going(_) => arrived = Vec::new(),
            Step::Done(Outcome::Resolved(set)) => return Some(set),
            Step::Done(other) => panic!("{other:?}"),
        }
    }
}

#[test]
fn another_set_leaves_something_in_its_place_that_the_one_before_moved() {
    let text = "console: a *, b *, c *\na 1.0.0\na 2.0.0: d ^1\nb 1.0.0: d ^2\nb 2.0.0: c ^2\nb 3.0.0: c ^1\n\
                c 1.0.0\nc 2.0.0\nd 1.0.0\nd 2.0.0";
    let world = World::parse(text);
    let mut problem = reaching(&world, &["a 1.0.0", "b 1.0.0", "c 1.0.0", "d 2.0.0"], &["a"]);
    let Ok(Outcome::Resolved(best)) = world.resolve_with(problem.clone(), |answers| answers) else { panic!() };
    assert_eq!(told(&best), ["a 2.0.0", "b 3.0.0", "c 1.0.0", "d 1.0.0"]);
    // Without moving both, a does not come as far.
    problem.not_all_moved.push(best.moved_versions(&problem));
    let second = another(&world, problem.clone()).unwrap();
    assert_eq!(told(&second), ["a 1.0.0", "b 1.0.0", "c 1.0.0", "d 2.0.0"]);
    // Nothing moves, so there is nothing to leave in its place.
    problem.not_all_moved.push(second.moved_versions(&problem));
    assert_eq!(another(&world, problem), None);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3_000))]

    #[test]
    fn other_sets_are_those_of_trying_everything(
        text in any_world(),
        keep in any_keep(),
        reach in prop::sample::subsequence(vec!["a", "b"], 1..=2),
        overrides in any_overrides(),
        coexist in any_coexist(),
    ) {
        let world = World::parse(&text);
        let mut problem = ruled(reaching(&world, &keep, &reach), overrides, coexist);
        let Ok(Outcome::Resolved(best)) = world.resolve_with(problem.clone(), |answers| answers) else { return Ok(()) };
        problem.not_all_moved.push(best.moved_versions(&problem));
        for _ in 0..3 {
            let other = another(&world, problem.clone());
            prop_assert_eq!(other.as_ref().map(told), brute_force(&world, &problem).as_ref().map(told));
            let Some(other) = other else { break };
            problem.not_all_moved.push(other.moved_versions(&problem));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6_000))]

    #[test]
    fn what_is_reached_and_what_moves_for_it_are_those_of_trying_everything(
        text in any_world(),
        keep in any_keep(),
        reach in prop::sample::subsequence(vec!["a", "b", "c", "d"], 1..=3),
        overrides in any_overrides(),
        coexist in any_coexist(),
    ) {
        let world = World::parse(&text);
        let problem = ruled(reaching(&world, &keep, &reach), overrides, coexist);
        if let Ok(Outcome::Resolved(set)) = world.resolve_with(problem.clone(), |answers| answers) {
            prop_assert_eq!(Some(told(&set)), brute_force(&world, &problem).as_ref().map(told));
        }
    }
}
