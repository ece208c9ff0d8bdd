//! The resolver against every set tried by hand, and against itself with answers in another order.
//! The accidents this prevents: "no set exists" where one does; a set that depends on the order of answers.

use std::collections::BTreeSet;
use std::sync::Arc;

use proptest::prelude::*;
use yostel_documents::{Declared, Lockfile, Overrides, Take};
use yostel_resolve::{Minimality, Outcome, ResolveError, Resolver};
use yostel_testkit::any::{any_coexist, any_keep, any_overrides, any_world};
use yostel_testkit::{Random, World, brute_force};

use crate::edits::{edit_sets_of, told};

#[test]
fn the_newest_that_fits_is_chosen() {
    let world = World::parse(
        "console: gust ^2, cable *
         gust 2.0.0: unit ^1
         gust 2.1.0: unit ^2
         gust 3.0.0
         cable 1.0.0: unit ^1
         unit 1.0.0
         unit 2.0.0",
    );
    // Direct needs first, by name: cable takes 1.0.0, so unit stays on 1, so gust must take 2.0.0.
    assert_eq!(world.outcome(&[]), "cable 1.0.0, gust 2.0.0, unit 1.0.0");
}

#[test]
fn the_newer_one_is_back_as_soon_as_the_obstacle_is_gone() {
    let text = "console: gust ^2, cable *\ngust 2.0.0: unit ^1\ngust 2.1.0: unit ^2\nunit 1.0.0\nunit 2.0.0\n";
    let held = World::parse(&format!("{text}cable 1.0.0: unit ^1"));
    let free = World::parse(&format!("{text}cable 1.0.0: unit *"));
    assert!(held.outcome(&[]).contains("gust 2.0.0"));
    assert_eq!(free.outcome(&[]), "cable 1.0.0, gust 2.1.0, unit 2.0.0");
}

#[test]
fn cycles_and_self_needs_are_fine() {
    let world = World::parse("console: a *\na 1.0.0: b *\nb 1.0.0: a ^1, b ^1\nb 2.0.0: a ^2");
    assert_eq!(world.outcome(&[]), "a 1.0.0, b 1.0.0");
}

#[test]
fn a_release_with_an_unknown_need_is_passed_over() {
    let world = World::parse("console: a *\na 1.0.0\na 2.0.0: nowhere ^1");
    assert_eq!(world.outcome(&[]), "a 1.0.0");
}

#[test]
fn a_withdrawn_release_is_kept_but_never_newly_chosen() {
    let world = World::parse("console: a *\na 1.0.0\na 2.0.0 withdrawn");
    assert_eq!(world.outcome(&[]), "a 1.0.0");
    assert_eq!(world.outcome(&["a 2.0.0"]), "a 2.0.0");
}

#[test]
fn what_is_kept_moves_only_where_it_must() {
    let text = "a 1.0.0: c *\na 2.0.0: c *\nb 1.0.0: c *\nb 2.0.0: c *\nc 1.0.0\nc 1.5.0\nc 2.0.0";
    let world = World::parse(&format!("console: a *, b *\n{text}"));
    assert_eq!(world.outcome(&["a 1.0.0", "b 1.0.0", "c 1.0.0"]), "a 1.0.0, b 1.0.0, c 1.0.0");
    let world = World::parse(&format!("console: a ^2, b *\n{text}"));
    assert_eq!(world.outcome(&["a 1.0.0", "b 1.0.0", "c 1.0.0"]), "a 2.0.0, b 1.0.0, c 1.0.0");
    // A version that is gone cannot be kept and hinders nothing.
    assert_eq!(world.outcome(&["b 9.0.0"]), "a 2.0.0, b 2.0.0, c 2.0.0");
}

#[test]
fn a_collision_names_the_requirements_and_the_facts_and_nothing_else() {
    let world = World::parse(
        "console: gust ^2, cable ^3, clock *, bell *
         gust 2.0.0: unit ^1
         gust 2.1.0: unit ^1
         cable 3.0.0: frame ^1
         frame 1.0.0: unit ^2
         clock 1.0.0: unit *
         bell 1.0.0
         unit 1.0.0
         unit 2.0.0",
    );
    let Outcome::Collision(collision) = world.resolve(&[]).unwrap() else { panic!("this cannot be met") };
    let requirements: Vec<String> = collision.requirements.iter().map(ToString::to_string).collect();
    assert_eq!(requirements, ["console needs cable ^3", "console needs gust ^2"]);
    let facts: Vec<String> = collision
        .facts
        .iter()
        .map(|f| format!("{} {:?} needs {} {}", f.asker, f.versions, f.package, f.accept))
        .collect();
    assert_eq!(
        facts,
        ["cable [3.0.0] needs frame ^1", "frame [1.0.0] needs unit ^2", "gust [2.0.0, 2.1.0] needs unit ^1"]
    );
    let reach = collision.reach.iter().find(|r| r.package.as_str() == "unit" && r.accept.as_str() == "^2").unwrap();
    assert_eq!(reach.versions.len(), 1);
}

#[test]
fn facts_are_told_in_the_order_in_which_one_meets_the_packages() {
    // By name they come in another order, and the last of the chain leads back into it.
    let chain: String = (0..120).map(|at| format!("c{at} 1.0.0: c{} ^1\n", at + 1)).collect();
    let world = format!("console: c0 *, unit ^1\n{chain}c120 1.0.0: c60 ^1, unit ^2\nunit 1.0.0\nunit 2.0.0");
    let Outcome::Collision(collision) = World::parse(&world).resolve(&[]).unwrap() else {
        panic!("this cannot be met")
    };
    let told: Vec<String> = collision.facts.iter().map(|fact| format!("{} {}", fact.asker, fact.package)).collect();
    let ways = (0..120).map(|at| format!("c{at} c{}", at + 1));
    assert_eq!(told, ways.chain(["c120 unit".to_owned()]).collect::<Vec<_>>());
    let [apart] = &collision.lines[..] else { panic!("one package is apart: {:?}", collision.lines) };
    assert_eq!((apart.package.as_str(), &apart.lines[..]), ("unit", &["1.x".to_owned(), "2.x".to_owned()][..]));
}

#[test]
fn two_collisions_are_told_as_two() {
    let world = World::parse(
        "console: gust ^1, cable ^1, clock ^1, bell ^1, far ^7
         gust 1.0.0: unit ^1
         cable 1.0.0: unit ^2
         clock 1.0.0: frame ^1
         bell 1.0.0: frame ^2
         unit 1.0.0
         unit 2.0.0
         frame 1.0.0
         frame 2.0.0
         far 1.0.0",
    );
    let Outcome::Collision(collision) = world.resolve(&[]).unwrap() else { panic!("this cannot be met") };
    let mut told: Vec<String> = std::iter::once(&*collision)
        .chain(&collision.others)
        .map(|c| c.requirements.iter().map(|requirement| requirement.package.as_str()).collect::<Vec<_>>().join(" "))
        .collect();
    told.sort();
    assert_eq!(told, ["bell clock", "cable gust", "far"]);
}

#[test]
fn a_requirement_that_nothing_meets_collides_alone() {
    let world = World::parse("console: a ^2, b *\na 1.0.0\nb 1.0.0");
    assert_eq!(world.outcome(&[]), "collision: a ^2");
}

#[test]
fn a_requirement_for_an_unknown_package_is_an_error_that_names_it() {
    let world = World::parse("console: a ^2");
    assert!(
        matches!(world.resolve(&[]), Err(ResolveError::UnknownPackage(requirement)) if requirement.package.as_str() == "a")
    );
    let world = World::parse("console: a =2\na 2.0.0");
    assert!(matches!(world.resolve(&[]), Err(ResolveError::Unreadable { .. })));
}

#[test]
fn only_what_is_in_reach_is_asked_for() {
    let world = World::parse("console: a ^1\na 1.0.0: b *\na 2.0.0: c *\nb 1.0.0\nc 1.0.0: d *\nd 1.0.0");
    let mut asked = Vec::new();
    world
        .resolve_with(world.problem(&[]), |answers| {
            asked.extend(answers.iter().map(|answer| answer.package.to_string()));
            answers
        })
        .unwrap();
    assert_eq!(asked, ["a", "b"]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20_000))]

    #[test]
    fn verdict_and_set_are_those_of_trying_everything(
        text in any_world(),
        keep in any_keep(),
        serve in any::<bool>(),
        overrides in any_overrides(),
        coexist in any_coexist(),
        attempt in prop::sample::select(vec![200, 1, 0]),
    ) {
        let world = World::parse(&text);
        let problem_of = |world: &World| {
            let mut problem = world.problem(&keep);
            problem.rules.overrides = overrides.clone();
            problem.rules.coexist = coexist.clone();
            if serve {
                problem.rules.platforms = ["linux/amd64".to_owned(), "linux/arm64".to_owned()].into();
            }
            problem
        };
        let problem = problem_of(&world);
        let mut resolver = Resolver::new(problem.clone());
        resolver.begin_attempts_with(attempt);
        match world.drive(&mut resolver, |answers| answers) {
            Ok(Outcome::Resolved(found)) => prop_assert_eq!(Some(found), brute_force(&world, &problem)),
            Ok(Outcome::Collision(collision)) => {
                prop_assert_eq!(brute_force(&world, &problem), None);
                // Minimal: the needs alone collide, and without any one of them they do not.
                let mut reduced = world.clone();
                reduced.requirements = collision.requirements.clone();
                prop_assert_eq!(brute_force(&reduced, &problem_of(&reduced)), None);
                for i in 0..collision.requirements.len() {
                    let mut without = collision.requirements.clone();
                    without.remove(i);
                    reduced.requirements = without;
                    prop_assert!(brute_force(&reduced, &problem_of(&reduced)).is_some());
                }
            }
            Err(ResolveError::UnknownPackage(requirement)) => prop_assert!(!world.documents.contains_key(&requirement.package)),
            other => prop_assert!(false, "{other:?}"),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_facts_alone_make_the_collision(text in any_world()) {
        let world = World::parse(&text);
        if let Ok(Outcome::Collision(collision)) = world.resolve(&[]) {
            let mut bare = world.clone();
            bare.requirements = collision.requirements.clone();
            for (name, document) in &mut bare.documents {
                for listed in Arc::make_mut(&mut document.releases) {
                    let version = listed.version.clone();
                    listed.change(|release| for needs in release.needs.values_mut() {
                        needs.retain(|package, accept| collision.facts.iter().any(|fact| {
                            fact.asker == *name && fact.package == *package && fact.accept == *accept
                                && fact.versions.contains(&version)
                        }));
                    });
                }
            }
            prop_assert_eq!(brute_force(&bare, &bare.problem(&[])), None);
        }
    }

    #[test]
    fn the_order_of_declarations_and_answers_does_not_matter(text in any_world(), seed in any::<u64>()) {
        let world = World::parse(&text);
        let expected = format!("{:?}", world.resolve(&[]));
        let mut random = seed;
        let mut next = move || { random = random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407); (random >> 33) as usize };
        let mut problem = world.problem(&[]);
        for i in (1..problem.requirements.len()).rev() {
            let j = next() % (i + 1);
            problem.requirements.swap(i, j);
        }
        // One answer at a time, a random one; the others are asked for again.
        let shuffled = world.resolve_with(problem, |mut answers| { let i = next() % answers.len(); vec![answers.swap_remove(i)] });
        prop_assert_eq!(format!("{:?}", shuffled), expected);
    }
}

#[test]
fn the_fewest_move_even_where_the_first_by_name_would_stay() {
    // `new` must come in. Either `a` moves alone, or `a` stays and `b` and `c` must move.
    let world = World::parse(
        "console: a *, b *, c *, new *
         new 1.0.0: either *
         either 1.0.0: a ^2
         either 2.0.0: b ^2, c ^2
         a 1.0.0
         a 2.0.0
         b 1.0.0
         b 2.0.0
         c 1.0.0
         c 2.0.0",
    );
    let kept = ["a 1.0.0", "b 1.0.0", "c 1.0.0"];
    assert_eq!(world.outcome(&kept), "a 2.0.0, b 1.0.0, c 1.0.0, either 1.0.0, new 1.0.0");
}

#[test]
fn only_what_was_published_by_then_is_chosen_and_what_is_kept_is_exempt() {
    let world = World::parse("console: a *\na 1.0.0 @10\na 1.1.0 @20\na 1.2.0 @30");
    let by_day = |day: i64, keep: &[&str]| {
        let mut problem = world.problem(keep);
        problem.rules.published_by = Some(jiff::Timestamp::from_second(day * 86_400).unwrap());
        match world.resolve_with(problem, |answers| answers).unwrap() {
            Outcome::Resolved(resolution) => resolution.chosen.values().next().unwrap().release.version.to_string(),
            _ => "none".into(),
        }
    };
    assert_eq!(
        [by_day(30, &[]), by_day(29, &[]), by_day(10, &[]), by_day(9, &[])],
        ["1.2.0", "1.1.0", "1.0.0", "none"]
    );
    assert_eq!(by_day(10, &["a 1.2.0"]), "1.2.0");
}

#[test]
fn the_oldest_that_fits_proves_the_lower_bounds() {
    let world = World::parse("console: a >=1.1\na 1.0.0\na 1.1.0: b >=2\na 1.2.0\nb 1.0.0\nb 2.0.0\nb 3.0.0");
    let mut problem = world.problem(&[]);
    problem.rules.take = Take::Oldest;
    let Outcome::Resolved(resolution) = world.resolve_with(problem, |answers| answers).unwrap() else { panic!() };
    let chosen: Vec<String> = resolution.chosen.values().map(|choice| choice.release.version.to_string()).collect();
    assert_eq!(chosen, ["1.1.0", "2.0.0"]);
}

#[test]
fn a_pre_release_is_admitted_only_where_nothing_else_will_do() {
    let world = World::parse("console: a ^2\na 2.0.0-rc.1\nb 1.0.0");
    assert_eq!(edit_sets_of(&world, &[]).iter().map(told).collect::<Vec<_>>(), ["a ^2>^2.0.0-rc.1 (0 move)"]);
}

/// A world in which all four packages have three releases and the project wants most of them, so that what is kept
/// often has to move, and in more than one way.
fn any_dense_world() -> impl Strategy<Value = String> {
    let accept =
        || prop_oneof![2 => Just("*"), 1 => Just("^1"), 2 => Just("^2"), 1 => Just("!=1.0.0"), 1 => Just("=1.0.0")];
    let need = move || (0usize..4, accept());
    let needs = prop::collection::vec(prop::collection::btree_map(0usize..4, accept(), 0..3), 12);
    (prop::collection::vec(need(), 2..5), needs).prop_map(|(requirements, needs)| {
        let names = ["a", "b", "c", "d"];
        let join = |needs: Vec<(usize, &str)>| {
            needs.iter().map(|(i, accept)| format!("{} {accept}", names[*i])).collect::<Vec<_>>().join(", ")
        };
        let requirements: std::collections::BTreeMap<usize, &str> = requirements.into_iter().collect();
        let mut text = format!("console: {}\n", join(requirements.into_iter().collect()));
        for (i, needs) in needs.into_iter().enumerate() {
            let version = ["1.0.0", "1.1.0", "2.0.0"][i % 3];
            text.push_str(&format!("{} {version}: {}\n", names[i / 3], join(needs.into_iter().collect())));
        }
        text
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2500))]

    #[test]
    fn the_fewest_move_is_what_trying_everything_says(text in any_dense_world()) {
        let world = World::parse(&text);
        let keep = ["a 1.0.0", "b 1.0.0", "c 1.0.0", "d 1.0.0"];
        if let Ok(Outcome::Resolved(found)) = world.resolve(&keep) {
            prop_assert_eq!(Some(found), brute_force(&world, &world.problem(&keep)));
        }
    }
}

/// A world with a choice at every step, and one that cannot be met.
#[test]
fn a_hundred_shufflings_of_everything_give_the_same_answer() {
    let lines = "a 1.0.0: c ^1, d *\na 2.0.0: c ^2, d *\na 2.1.0: c ^2, e ^1\nb 1.0.0: c *, e *\nb 1.1.0: c ^1, e ^2\n\
                 c 1.0.0\nc 1.1.0: e *\nc 2.0.0: d ^1\nd 1.0.0\nd 2.0.0: b *\ne 1.0.0: f *\ne 2.0.0: f ^2\nf 1.0.0\nf 2.0.0";
    for needs in [["a *", "b *", "f *"], ["a ^2", "b =1.1.0", "e ^2"]] {
        let mut random = Random::of(1);
        let mut below = |limit: usize| random.below(limit as u64) as usize;
        let mut seen = BTreeSet::new();
        for _ in 0..100 {
            let (mut needs, mut releases) = (needs.to_vec(), lines.lines().map(str::trim).collect::<Vec<_>>());
            (1..needs.len()).rev().for_each(|i| needs.swap(i, below(i + 1)));
            (1..releases.len()).rev().for_each(|i| releases.swap(i, below(i + 1)));
            let world = World::parse(&format!("console: {}\n{}", needs.join(", "), releases.join("\n")));
            let outcome =
                world.resolve_with(world.problem(&[]), |mut answers| vec![answers.swap_remove(below(answers.len()))]);
            seen.insert(format!("{:?}", outcome.unwrap()));
        }
        assert_eq!(seen.len(), 1, "{seen:#?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn looking_at_everything_gives_the_answer_that_looking_at_little_gives(text in any_world(), keep in any_keep()) {
        let world = World::parse(&text);
        let little = world.resolve(&keep);
        let mut whole = Resolver::with_edits(world.problem(&keep));
        let everything = world.drive(&mut whole, |answers| answers);
        match (little, everything) {
            (Ok(Outcome::Resolved(a)), Ok(Outcome::Resolved(b))) => prop_assert_eq!(a, b),
            (Ok(Outcome::Collision(a)), Ok(Outcome::Collision(b))) => {
                prop_assert_eq!([a.minimal, b.minimal], [Minimality::Shown; 2]);
                prop_assert!(!a.requirements.is_empty() && !b.requirements.is_empty());
            }
            (Err(a), Err(b)) => prop_assert_eq!(a, b),
            (a, b) => prop_assert!(false, "{a:?} and {b:?}"),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn what_is_said_and_taken_back_leaves_no_trace(text in any_world(), overrides in any_overrides()) {
        let world = World::parse(&text);
        let lock = |overrides: &Overrides, before: Option<&Lockfile>| {
            let declared = Declared { overrides: overrides.clone(), ..Declared::from(world.requirements.clone()) };
            let mut problem = world.problem(&[]);
            problem.rules.overrides = overrides.clone();
            if let Some(before) = before {
                problem.keep =
                    before.chosen.iter().map(|(name, locked)| (name.clone(), [locked.version.clone()].into())).collect();
            }
            match world.resolve_with(problem, |answers| answers) {
                Ok(Outcome::Resolved(resolution)) => Some((resolution.to_lockfile(&declared), declared)),
                _ => None,
            }
        };
        let Some((before, _)) = lock(&Overrides::default(), None) else { return Ok(()) };
        if let Some((with, declared)) = lock(&overrides, Some(&before)) {
            prop_assert!(with.differences(&declared).is_empty(), "{:?}", with.differences(&declared));
            prop_assert_eq!(&Lockfile::parse(&with.write()).unwrap(), &with);
        }
        let (after, _) = lock(&Overrides::default(), None).unwrap();
        prop_assert_eq!(after.write(), before.write());
    }
}
