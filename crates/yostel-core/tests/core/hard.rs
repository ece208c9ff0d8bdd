//! Hard problems dressed as packages, with a general solver as judge.
//! The accident this prevents: a search that is right on small worlds and wrong, or lost, on hard ones.

use proptest::prelude::*;
use yostel_core::Outcome;
use yostel_testkit::World;

/// Dresses a formula: a variable is a package with releases 1.0.0 (false) and 2.0.0 (true); a clause is a package with
/// one release for each of its literals, which needs that literal.
fn dress(variables: i64, clauses: &[Vec<i64>]) -> World {
    let mut text = String::from("console: ");
    let wishes: Vec<String> = (0..clauses.len()).map(|i| format!("clause{i} *")).collect();
    text.push_str(&wishes.join(", "));
    text.push('\n');
    for variable in 1..=variables {
        text.push_str(&format!("var{variable} 1.0.0\nvar{variable} 2.0.0\n"));
    }
    for (i, clause) in clauses.iter().enumerate() {
        for (j, literal) in clause.iter().enumerate() {
            let value = if *literal > 0 { 2 } else { 1 };
            text.push_str(&format!("clause{i} {}.0.0: var{} ={value}.0.0\n", j + 1, literal.abs()));
        }
    }
    World::parse(&text)
}

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

/// `pigeons` packages of which no two may have the same release, with one release fewer than there are packages.
fn pigeonhole(pigeons: usize) -> World {
    let holes = pigeons - 1;
    let mut text = String::from("console: ");
    text.push_str(&(0..pigeons).map(|p| format!("pigeon{p} *")).collect::<Vec<_>>().join(", "));
    text.push('\n');
    for pigeon in 0..pigeons {
        for hole in 1..=holes {
            // The hole belongs to the pigeon whose number its release bears.
            text.push_str(&format!("pigeon{pigeon} {hole}.0.0: hole{hole} ={}.0.0\n", pigeon + 1));
        }
    }
    for hole in 1..=holes {
        (1..=pigeons).for_each(|owner| text.push_str(&format!("hole{hole} {owner}.0.0\n")));
    }
    World::parse(&text)
}

#[test]
fn more_pigeons_than_holes_collide_and_all_are_needed_for_that() {
    for pigeons in 2..=6 {
        let Outcome::Collision(collision) = pigeonhole(pigeons).resolve(&[]).unwrap() else { panic!("{pigeons} fit") };
        assert_eq!((collision.wishes.len(), collision.others.len()), (pigeons, 0));
    }
}

/// Colours the corners of a graph: neighbours need an edge that their colours tell apart.
fn colouring(corners: usize, edges: &[(usize, usize)], colours: usize) -> World {
    let mut text = String::from("console: ");
    text.push_str(&(0..corners).map(|c| format!("corner{c} *")).collect::<Vec<_>>().join(", "));
    text.push('\n');
    for corner in 0..corners {
        for colour in 1..=colours {
            let needs: Vec<String> = edges
                .iter()
                .enumerate()
                .filter_map(|(i, (a, b))| match corner {
                    c if c == *a => Some(format!("edge{i}-{colour} =1.0.0")),
                    c if c == *b => Some(format!("edge{i}-{colour} =2.0.0")),
                    _ => None,
                })
                .collect();
            text.push_str(&format!("corner{corner} {colour}.0.0: {}\n", needs.join(", ")));
        }
    }
    for i in 0..edges.len() {
        (1..=colours).for_each(|colour| text.push_str(&format!("edge{i}-{colour} 1.0.0\nedge{i}-{colour} 2.0.0\n")));
    }
    World::parse(&text)
}

#[test]
fn graphs_are_coloured_with_as_many_colours_as_they_need() {
    let odd_ring: Vec<(usize, usize)> = (0..9).map(|i| (i, (i + 1) % 9)).collect();
    assert!(!can_be_met(&colouring(9, &odd_ring, 2)) && can_be_met(&colouring(9, &odd_ring, 3)));
    let complete: Vec<(usize, usize)> = (0..5).flat_map(|a| (0..a).map(move |b| (a, b))).collect();
    assert!(!can_be_met(&colouring(5, &complete, 4)) && can_be_met(&colouring(5, &complete, 5)));
}

/// A trap for a search that goes back one step at a time: the newest of each of `depth` packages is tempting, and all
/// of them fail at the very last.
fn trap(depth: usize) -> World {
    let mut text = String::from("console: step0 *, gate =1.0.0\n");
    for step in 0..depth {
        let next = step + 1;
        text.push_str(&format!("step{step} 1.0.0: step{next} =1.0.0\n"));
        (2..=4).for_each(|v| text.push_str(&format!("step{step} {v}.0.0: step{next} >=2\n")));
    }
    text.push_str(&format!("step{depth} 1.0.0\n"));
    (2..=4).for_each(|v| text.push_str(&format!("step{depth} {v}.0.0: gate =2.0.0\n")));
    text.push_str("gate 1.0.0\ngate 2.0.0\n");
    World::parse(&text)
}

#[test]
fn traps_take_work_in_proportion_to_their_depth() {
    let work = |depth: usize| {
        let world = trap(depth);
        let mut resolver = yostel_core::Resolver::new(world.problem(&[]));
        let mut arrived = Vec::new();
        loop {
            match resolver.step(arrived).unwrap() {
                yostel_core::Step::Need(wanted) => arrived = world.answer(&wanted),
                yostel_core::Step::Done(Outcome::Resolved(resolution)) => {
                    assert!(resolution.chosen.values().all(|choice| choice.release.version.as_str() == "1.0.0"));
                    return resolver.stats().propagations;
                }
                yostel_core::Step::Done(Outcome::Collision(_)) => panic!("the first releases fit"),
            }
        }
    };
    let (small, large) = (work(10), work(200));
    assert!(large < small * 40, "{small} forced literals at depth 10, {large} at 200");
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
