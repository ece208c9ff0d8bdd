//! Hard problems dressed as packages, with a general solver as judge.
//! The accident this prevents: a search that is right on small worlds and wrong, or lost, on hard ones.

use std::sync::atomic::Ordering;

use proptest::prelude::*;
use yostel_documents::Requirement;
use yostel_resolve::{EditRules, Minimality, Outcome, Phase, Resolver, Step};
use yostel_testkit::{
    LargeWorld, TightWorld, World, best_by_general_solver, colouring, dress, pigeonhole, three_sat, trap, versions_of,
};
use yostel_versions::ConstraintText;

const EXPECTED_COUNTS: [&str; 6] =
    ["7 1025 45803 973", "32 102 426 0", "5 38 1271 0", "10 476 14115 8", "9 166 4787 0", "6 320 4842 16"];

/// Resolves; the resolver itself has every resolution judged, so a verdict is all there is to compare.
fn can_be_met(world: &World) -> bool {
    matches!(world.resolve(&[]).unwrap(), Outcome::Resolved(_))
}

fn by_general_solver(clauses: &[Vec<i64>]) -> bool {
    let mut general = varisat::Solver::new();
    for clause in clauses {
        let clause: Vec<varisat::Lit> = clause.iter().map(|&l| varisat::Lit::from_dimacs(l as isize)).collect();
        varisat::ExtendFormula::add_clause(&mut general, &clause);
    }
    general.solve().unwrap()
}

fn formula(variables: i64, clauses: std::ops::Range<usize>) -> impl Strategy<Value = Vec<Vec<i64>>> {
    let literal = (1..=variables, any::<bool>()).prop_map(|(v, sign)| if sign { v } else { -v });
    let clause = prop::collection::vec(literal, 3).prop_map(|mut clause| {
        clause.sort_unstable();
        clause.dedup();
        clause
    });
    prop::collection::vec(clause, clauses)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn three_sat_near_the_threshold_gets_the_verdict_of_a_general_solver(clauses in formula(20, 80..96)) {
        prop_assert_eq!(can_be_met(&dress(20, &clauses)), by_general_solver(&clauses));
    }
}

#[test]
fn more_pigeons_than_holes_collide_and_all_are_needed_for_that() {
    for pigeons in 2..=6 {
        let Outcome::Collision(collision) = pigeonhole(pigeons).resolve(&[]).unwrap() else { panic!("{pigeons} fit") };
        assert_eq!((collision.requirements.len(), collision.others.len()), (pigeons, 0));
    }
}

#[test]
fn graphs_are_coloured_with_as_many_colours_as_they_need() {
    let odd_ring: Vec<(usize, usize)> = (0..9).map(|i| (i, (i + 1) % 9)).collect();
    assert!(!can_be_met(&colouring(9, &odd_ring, 2)) && can_be_met(&colouring(9, &odd_ring, 3)));
    let complete: Vec<(usize, usize)> = (0..5).flat_map(|a| (0..a).map(move |b| (a, b))).collect();
    assert!(!can_be_met(&colouring(5, &complete, 4)) && can_be_met(&colouring(5, &complete, 5)));
}

#[test]
fn traps_take_far_less_work_than_the_square_of_their_depth() {
    let work = |depth: usize| {
        let world = trap(depth);
        let mut resolver = Resolver::new(world.problem(&[]));
        let Ok(Outcome::Resolved(resolution)) = world.drive(&mut resolver, |answers| answers) else {
            panic!("the first releases fit");
        };
        assert!(resolution.chosen.values().all(|choice| choice.release.version.as_str() == "1.0.0"));
        resolver.stats().propagations
    };
    let (small, large) = (work(10), work(200));
    assert!(large < small * 100, "{small} forced literals at depth 10, {large} at 200");
}

/// When most of what is locked must move, finding out how few is the work.
#[test]
fn nearly_everything_can_move_at_once() {
    let mut world = LargeWorld { direct: 20, packages: 200, releases: 12, needs: 4, seed: 5 }.make();
    let Ok(Outcome::Resolved(locked)) = world.resolve(&[]) else { panic!("it resolves") };
    let new =
        |requirement: &Requirement| locked.chosen.get(&requirement.package).unwrap().release.version.as_str() > "2";
    let old = world.requirements.iter_mut().rfind(|requirement| new(requirement)).unwrap();
    old.accept = ConstraintText::parse("^1.0.0").unwrap();
    let keep: Vec<String> =
        locked.chosen.iter().map(|(name, choice)| format!("{name} {}", choice.release.version)).collect();
    let keep: Vec<&str> = keep.iter().map(String::as_str).collect();
    let mut resolver = Resolver::new(world.problem(&keep));
    let Ok(Outcome::Resolved(resolution)) = world.drive(&mut resolver, |answers| answers) else {
        panic!("it resolves")
    };
    let moved = resolution.moved_from(&world.problem(&keep).keep);
    assert!(moved * 2 > locked.chosen.len(), "{moved} of {} moved", locked.chosen.len());
    assert!(resolver.stats().propagations < 100_000, "{:?}", resolver.stats());
}

/// How the search goes decides how long it takes and nothing else, so only its counts tell when it is made worse by
/// accident. Whoever changes it on purpose measures, and writes the new counts here.
#[test]
fn the_search_takes_the_steps_that_it_took_before() {
    let counts = |world: &World, keep: &[&str]| {
        let mut resolver = Resolver::new(world.problem(keep));
        world.drive(&mut resolver, |answers| answers).unwrap();
        let stats = resolver.stats();
        format!("{} {} {} {}", stats.questions, stats.decisions, stats.propagations, stats.conflicts)
    };
    let large = |packages, seed| LargeWorld { direct: 8, packages, releases: 12, needs: 5, seed }.make();
    let bites = TightWorld {
        direct: 10,
        packages: 100,
        releases: 12,
        needs: 3,
        stale: 20,
        bounded: 80,
        planted: true,
        seed: 1,
    };
    let all: Vec<String> = [
        (pigeonhole(7), &[][..]),
        (trap(30), &[]),
        (large(60, 1), &[]),
        (large(200, 2), &["p9 1.0.0", "p30 1.0.0"]),
        (large(200, 3), &[]),
        (bites.make(), &[]),
    ]
    .iter()
    .map(|(world, keep)| counts(world, keep))
    .collect();
    assert_eq!(all, EXPECTED_COUNTS, "questions, decisions, forced literals, conflicts");
}

/// Worlds too large to try every set of, in which the newest of all does not fit together.
#[test]
fn the_best_set_of_worlds_whose_bounds_bite_is_that_of_a_general_solver() {
    for seed in 1..=6 {
        let (stale, bounded) = [(20, 80), (3, 50), (0, 30)][seed as usize % 3];
        let world =
            TightWorld { direct: 10, packages: 80, releases: 10, needs: 3, stale, bounded, planted: true, seed }.make();
        let ours = [200, 3, 0].map(|attempt| {
            let mut resolver = Resolver::new(world.problem(&[]));
            resolver.begin_attempts_with(attempt);
            match world.drive(&mut resolver, |answers| answers).unwrap() {
                Outcome::Resolved(ours) => Some(versions_of(&ours)),
                _ => None,
            }
        });
        let mut whole = Resolver::with_edits(world.problem(&[]));
        world.drive(&mut whole, |answers| answers).unwrap();
        let best = best_by_general_solver(&world, &whole.formula()).best;
        assert!(best.is_some(), "a set was planted, seed {seed}");
        assert!(ours.iter().all(|ours| *ours == best), "seed {seed}");
    }
}

/// A collision planted at the bottom of a diamond among packages that have no part in it.
#[test]
fn a_planted_collision_is_told_without_the_bystanders() {
    let mut text = String::from("console: left ^1, right ^1, ");
    text.push_str(&(0..30).map(|i| format!("other{i} *")).collect::<Vec<_>>().join(", "));
    text.push_str("\nleft 1.0.0: base ^1\nright 1.0.0: middle ^1\nmiddle 1.0.0: base ^2\nbase 1.0.0\nbase 2.0.0\n");
    (0..30).for_each(|i| {
        text.push_str(&format!("other{i} 1.0.0: base *, other{} *\nother{i} 1.1.0: base *\n", (i * 7 + 1) % 30))
    });
    assert_eq!(World::parse(&text).outcome(&[]), "collision: left ^1; right ^1");
}

/// Whether one of the needs alone can be met is a hard question of its own; what is told is small all the same.
#[test]
fn of_needs_that_are_hard_to_tell_apart_what_is_told_has_nothing_to_spare() {
    let hard = dress(150, &three_sat(150, 639, 2));
    let needs: Vec<String> = hard.requirements.iter().map(|r| format!("{} {}", r.package, r.accept)).collect();
    let mut world = World::parse(&format!(
        "console: left ^1, right ^1\nleft 1.0.0: base ^1, {}\nright 1.0.0: base ^2\nbase 1.0.0\nbase 2.0.0",
        needs.join(", ")
    ));
    world.documents.extend(hard.documents);
    let mut resolver = Resolver::new(world.problem(&[]));
    let Ok(Outcome::Collision(collision)) = world.drive(&mut resolver, |answers| answers) else {
        panic!("no collision")
    };
    assert_eq!((collision.requirements.len(), collision.facts.len()), (2, 2), "{collision:?}");
    assert_eq!(collision.minimal, Minimality::AsTold);
}

#[test]
fn a_search_that_is_told_to_stop_gives_what_it_found_and_says_what_that_is_worth() {
    let stopped = |problem| {
        let resolver = Resolver::new(problem);
        resolver.stop_flag().store(true, Ordering::Relaxed);
        resolver
    };
    let hard = pigeonhole(6);
    let mut resolver = stopped(hard.problem(&[]));
    let Ok(Outcome::Stopped(unfinished)) = hard.drive(&mut resolver, |answers| answers) else { panic!("not stopped") };
    assert_eq!((unfinished.found, unfinished.fewest_moves), (None, false));
    // Here a set is found before any conflict, and the best only after one.
    let world =
        World::parse("console: a *, b *\na 1.0.0\na 2.0.0: c ^2\nb 1.0.0: c ^1\nb 1.1.0: c ^1\nc 1.0.0\nc 2.0.0");
    let kept = ["a 1.0.0", "b 1.0.0"];
    let mut resolver = stopped(world.problem(&kept));
    let Ok(Outcome::Resolved(_)) = world.drive(&mut resolver, |answers| answers) else { panic!("nothing to stop for") };
    let large = three_sat(60, 200, 5);
    let world = dress(60, &large);
    let mut resolver = Resolver::new(world.problem(&[]));
    let flag = resolver.stop_flag();
    let mut arrived = Vec::new();
    loop {
        match resolver.step(std::mem::take(&mut arrived)).unwrap() {
            Step::Need(wanted) => arrived = world.answer(&wanted),
            // From the first set on there is no time left.
            Step::Going(_) => flag.store(true, Ordering::Relaxed),
            Step::Done(outcome) => {
                let Outcome::Stopped(unfinished) = outcome else { panic!("{outcome:?}") };
                let found = unfinished.found.expect("one was found");
                assert_eq!(yostel_resolve::satisfies(&world.problem(&[]), &found), []);
                assert!(unfinished.fewest_moves, "nothing was locked, so nothing moves");
                break;
            }
        }
    }
}

/// Whoever stops waits for no explanation, no edits and no proof either; what is told by then is true.
#[test]
fn a_collision_is_told_as_far_as_it_is_understood_when_it_is_told_to_stop() {
    let world = pigeonhole(5);
    let mut resolver = Resolver::with_edits(world.problem(&[]));
    let flag = resolver.stop_flag();
    let mut arrived = Vec::new();
    let collision = loop {
        match resolver.step(std::mem::take(&mut arrived)).unwrap() {
            Step::Need(wanted) => arrived = world.answer(&wanted),
            Step::Going(Phase::Explaining) => flag.store(true, Ordering::Relaxed),
            Step::Going(_) => {}
            Step::Done(Outcome::Collision(collision)) => break collision,
            Step::Done(other) => panic!("{other:?}"),
        }
    };
    assert_eq!((collision.requirements.len(), collision.minimal, collision.others.len()), (5, Minimality::Unknown, 0));
    assert!(collision.facts.is_empty(), "nothing is claimed that was not shown: {:?}", collision.facts);
    assert_eq!((resolver.edit_sets(&EditRules::any(8)).len(), resolver.certificate().is_none()), (0, true));
    flag.store(false, Ordering::Relaxed);
    assert!(
        !resolver.edit_sets(&EditRules::any(8)).is_empty() && resolver.certificate().is_some(),
        "it goes on when it may"
    );
}

#[test]
fn a_collision_too_hard_to_make_small_is_still_told() {
    let world = dress(60, &three_sat(60, 330, 3));
    let Outcome::Collision(collision) = world.resolve(&[]).unwrap() else { panic!("it can be met") };
    assert!(!collision.requirements.is_empty() && !collision.facts.is_empty());
}
