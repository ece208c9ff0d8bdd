//! The search against three judges: every combination tried, a general solver, and the independent proof checker.
//! The accident this prevents: a wrong "no set exists", or a model that breaks a clause.

#![allow(clippy::unwrap_used)]

use proptest::prelude::*;
use yostel_check::{Problem, check_assignment, check_proof};
use yostel_solver::{Config, Lit, Outcome, Solver, Var};

fn literal(vars: &[Var], dimacs: i64) -> Lit {
    let var = vars[dimacs.unsigned_abs() as usize - 1];
    if dimacs > 0 { var.positive() } else { var.negative() }
}

fn load(problem: &Problem, config: Config) -> (Solver, Vec<Var>) {
    let mut solver = Solver::new(config);
    let vars: Vec<Var> = (0..problem.variables).map(|_| solver.new_var()).collect();
    for clause in &problem.clauses {
        let clause: Vec<Lit> = clause.iter().map(|&l| literal(&vars, l)).collect();
        solver.add_clause(&clause);
    }
    (solver, vars)
}

/// Solves, has the answer judged, and returns whether it is satisfiable.
fn judged(problem: &Problem, assumptions: &[i64], config: Config) -> bool {
    let (mut solver, vars) = load(problem, Config { record_proof: true, ..config });
    let assumed: Vec<Lit> = assumptions.iter().map(|&l| literal(&vars, l)).collect();
    match solver.solve(&assumed) {
        Outcome::Satisfiable(model) => {
            check_assignment(problem, model.values()).unwrap();
            assert!(assumed.iter().all(|&l| model.is_true(l)), "an assumption was not kept");
            true
        }
        Outcome::Unsatisfiable(core) => {
            assert!(core.iter().all(|l| assumed.contains(l)), "the core names something that was not assumed");
            let claim: Vec<i64> = core.iter().map(|l| -l.to_dimacs()).collect();
            check_proof(problem, &solver.to_drat().unwrap(), &claim).unwrap();
            assert_eq!(yostel_check::parse_cnf(&solver.to_cnf().unwrap()).as_ref(), Ok(problem));
            false
        }
        Outcome::Stopped | Outcome::Paused => panic!("no limit was set"),
    }
}

fn settings() -> Vec<Config> {
    let plain = Config::default();
    vec![
        plain.clone(),
        Config { minimise: false, ..plain.clone() },
        Config { restart_after: 0, ..plain.clone() },
        Config { restart_after: 1, keep_learned: 3, ..plain.clone() },
        Config { restart_after: 2, most_undone: 0, ..plain },
    ]
}

fn clauses(
    variables: i64,
    width: std::ops::Range<usize>,
    count: std::ops::Range<usize>,
) -> impl Strategy<Value = Problem> {
    let literal = (1..=variables, any::<bool>()).prop_map(|(v, sign)| if sign { v } else { -v });
    prop::collection::vec(prop::collection::vec(literal, width), count)
        .prop_map(move |clauses| Problem { variables: variables as usize, clauses })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn agrees_with_trying_every_combination(problem in clauses(7, 1..4, 1..40), assumed in prop::collection::vec(1i64..=7, 0..3)) {
        let by_hand = (0u32..1 << 7).any(|bits| {
            let values: Vec<bool> = (0..7).map(|i| bits >> i & 1 == 1).collect();
            check_assignment(&problem, &values).is_ok() && assumed.iter().all(|&l| values[l as usize - 1])
        });
        for config in settings() {
            prop_assert_eq!(judged(&problem, &assumed, config), by_hand);
        }
    }

    #[test]
    fn calls_that_hold_what_the_last_one_assumed_answer_as_calls_that_begin_anew(
        problem in clauses(9, 2..4, 15..40),
        calls in prop::collection::vec((prop::collection::vec((1_i64..=9, any::<bool>()), 0..6), 0_usize..6, any::<bool>(), any::<bool>()), 1..14),
        most_undone in 0_u32..3,
        hold_assumptions in any::<bool>(),
    ) {
        let config = Config { hold_assumptions, record_proof: true, most_undone, ..Config::default() };
        let (mut solver, vars) = load(&problem, config);
        let mut problem = problem;
        let mut assumed: Vec<i64> = Vec::new();
        for (more, kept, adds, only_propagates) in calls {
            // It begins like the last one.
            assumed.truncate(kept);
            assumed.extend(more.iter().map(|(var, sign)| if *sign { *var } else { -var }));
            let literals: Vec<Lit> = assumed.iter().map(|&l| literal(&vars, l)).collect();
            let holds = judged(&problem, &assumed, Config::default());
            let outcome = if only_propagates { solver.propagate_only(&literals) } else { solver.solve(&literals) };
            match outcome {
                // It did not see that they collide, which is no promise.
                Outcome::Paused => prop_assert!(only_propagates),
                Outcome::Satisfiable(model) => {
                    prop_assert!(holds && !only_propagates);
                    check_assignment(&problem, model.values()).unwrap();
                    prop_assert!(literals.iter().all(|&l| model.is_true(l)));
                }
                Outcome::Unsatisfiable(core) => {
                    prop_assert!(!holds && core.iter().all(|l| literals.contains(l)));
                    let claim: Vec<i64> = core.iter().map(|l| -l.to_dimacs()).collect();
                    check_proof(&problem, &solver.to_drat().unwrap(), &claim).unwrap();
                    // What a core says is added as a clause by whoever goes on from it.
                    if adds && !core.is_empty() {
                        let clause: Vec<Lit> = core.iter().map(|&l| !l).collect();
                        solver.add_clause_held(&clause);
                        problem.clauses.push(clause.iter().map(|l| l.to_dimacs()).collect());
                    }
                }
                Outcome::Stopped => panic!("no limit was set"),
            }
            if let (true, [first, second, ..]) = (adds && holds, &more[..]) {
                // A clause that has nothing to do with the last answer.
                let clause = [-first.0, second.0];
                if first.0 != second.0 {
                    solver.add_clause_held(&clause.map(|l| literal(&vars, l)));
                    problem.clauses.push(clause.to_vec());
                }
            }
        }
    }

    #[test]
    fn a_second_call_is_not_misled_by_the_first(problem in clauses(8, 2..4, 20..45), first in 1i64..=8, second in 1i64..=8) {
        let (mut solver, vars) = load(&problem, Config::default());
        solver.solve(&[literal(&vars, first), literal(&vars, -second)]);
        let again = matches!(solver.solve(&[literal(&vars, second)]), Outcome::Satisfiable(_));
        prop_assert_eq!(again, judged(&problem, &[second], Config::default()));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn agrees_with_a_general_solver_near_the_threshold(problem in clauses(50, 3..4, 205..221)) {
        let mut general = varisat::Solver::new();
        for clause in &problem.clauses {
            let clause: Vec<varisat::Lit> = clause.iter().map(|&l| varisat::Lit::from_dimacs(l as isize)).collect();
            varisat::ExtendFormula::add_clause(&mut general, &clause);
        }
        let expected = general.solve().unwrap();
        for config in settings() {
            prop_assert_eq!(judged(&problem, &[], config), expected);
        }
    }
}

/// `pigeons` into one hole fewer: unsatisfiable by construction.
fn pigeonhole(pigeons: i64) -> Problem {
    let holes = pigeons - 1;
    let at = |p: i64, h: i64| p * holes + h + 1;
    let mut clauses: Vec<Vec<i64>> = (0..pigeons).map(|p| (0..holes).map(|h| at(p, h)).collect()).collect();
    for h in 0..holes {
        for p in 0..pigeons {
            clauses.extend((0..p).map(|q| vec![-at(p, h), -at(q, h)]));
        }
    }
    Problem { variables: (pigeons * holes) as usize, clauses }
}

#[test]
fn more_pigeons_than_holes_is_refused_with_a_proof() {
    for config in settings() {
        assert!(!judged(&pigeonhole(5), &[], config));
    }
}

#[test]
fn a_damaged_proof_is_refused() {
    let problem = pigeonhole(4);
    let (mut solver, _) = load(&problem, Config { record_proof: true, ..Config::default() });
    assert_eq!(solver.solve(&[]), Outcome::Unsatisfiable(vec![]));
    let whole = solver.to_drat().unwrap();
    let damaged: String = whole.lines().skip(1).map(|l| format!("{l}\n")).collect();
    let half: String = whole.lines().take(1).map(|l| format!("{l}\n")).collect();
    assert!(check_proof(&problem, &whole, &[]).is_ok());
    assert!(check_proof(&problem, &half, &[]).is_err());
    assert!(check_proof(&problem, &format!("1 0\n{damaged}"), &[]).is_err());
}

#[test]
fn contradicting_assumptions_blame_each_other() {
    let mut solver = Solver::default();
    let var = solver.new_var();
    let outcome = solver.solve(&[var.positive(), var.negative()]);
    assert_eq!(outcome, Outcome::Unsatisfiable(vec![var.positive(), var.negative()]));
}

#[test]
fn a_conflict_limit_stops_and_a_later_call_goes_on() {
    let (mut solver, _) = load(&pigeonhole(7), Config { conflict_limit: Some(5), ..Config::default() });
    assert_eq!(solver.solve(&[]), Outcome::Stopped);
    assert!(solver.stats().conflicts >= 5);
}

#[test]
fn a_limit_of_forced_literals_ends_a_call_at_the_same_place_every_time_and_counts_for_each_call() {
    let limited = || load(&pigeonhole(8), Config { forced_limit: Some(2000), ..Config::default() }).0;
    let (mut one, mut other) = (limited(), limited());
    assert_eq!((one.solve(&[]), other.solve(&[])), (Outcome::Stopped, Outcome::Stopped));
    assert_eq!(one.stats(), other.stats());
    let first = one.stats().propagations;
    assert!((2000..4000).contains(&first), "{first}");
    // A later call may do as much again.
    assert_eq!(one.solve(&[]), Outcome::Stopped);
    assert!((first + 2000..first + 4000).contains(&one.stats().propagations), "{:?}", one.stats());
    // What needs less is answered.
    let (mut small, _) = load(&pigeonhole(3), Config { forced_limit: Some(2000), ..Config::default() });
    assert_eq!(small.solve(&[]), Outcome::Unsatisfiable(vec![]));
}

/// A formula with a planted solution is satisfiable by construction, however large.
#[test]
fn planted_solutions_are_found() {
    let mut random = 7u64;
    let mut next = move |limit: u64| {
        random = random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (random >> 33) % limit
    };
    for round in 0..20 {
        let variables = 200;
        let solution: Vec<bool> = (0..variables).map(|_| next(2) == 1).collect();
        let clauses = (0..820)
            .map(|_| {
                let mut clause: Vec<i64> = (0..3).map(|_| next(variables) as i64 + 1).collect();
                clause.iter_mut().for_each(|l| {
                    if next(2) == 0 {
                        *l = -*l
                    }
                });
                let fitting = clause[0].unsigned_abs() as usize;
                clause[0] = if solution[fitting - 1] { fitting as i64 } else { -(fitting as i64) };
                clause
            })
            .collect();
        let problem = Problem { variables: variables as usize, clauses };
        assert!(judged(&problem, &[], Config::default()), "round {round}");
    }
}

/// Implications in a row: the result of propagation is known, and no decision is needed.
#[test]
fn a_chain_of_implications_needs_no_decision() {
    let mut solver = Solver::default();
    let vars: Vec<Var> = (0..1000).map(|_| solver.new_var()).collect();
    for pair in vars.windows(2) {
        solver.add_clause(&[pair[0].negative(), pair[1].positive()]);
    }
    let Outcome::Satisfiable(model) = solver.solve(&[vars[0].positive()]) else { panic!("a chain can be met") };
    assert!(vars.iter().all(|var| model.is_true(var.positive())));
    assert_eq!((solver.stats().decisions, solver.stats().conflicts), (0, 0));
    let core = solver.solve(&[vars[500].negative(), vars[3].positive(), vars[900].positive()]);
    assert_eq!(
        core,
        Outcome::Unsatisfiable(vec![vars[3].positive(), vars[500].negative()]),
        "the innocent are not blamed"
    );
}

#[test]
fn the_same_calls_give_the_same_model_and_the_same_counts() {
    let problem = Problem { variables: 30, clauses: (1..29).map(|v| vec![v, -(v % 7 + 1), v + 1]).collect() };
    let run = || {
        let (mut solver, _) = load(&problem, Config::default());
        (format!("{:?}", solver.solve(&[])), solver.stats())
    };
    assert_eq!(run(), run());
}

#[test]
fn clauses_added_between_calls_count_and_a_refuted_solver_stays_so() {
    let mut solver = Solver::default();
    let vars: Vec<Var> = (0..3).map(|_| solver.new_var()).collect();
    let all: Vec<Lit> = vars.iter().map(|var| var.positive()).collect();
    solver.add_clause(&all);
    for var in &vars {
        assert!(matches!(solver.solve(&[]), Outcome::Satisfiable(_)));
        solver.add_clause(&[var.negative()]);
    }
    assert_eq!(solver.solve(&[]), Outcome::Unsatisfiable(vec![]));
    solver.add_clause(&[vars[0].positive()]);
    assert_eq!(solver.solve(&[vars[1].positive()]), Outcome::Unsatisfiable(vec![]));
}
