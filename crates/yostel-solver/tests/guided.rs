//! Problems that are stated while they are searched, against the same problems stated at once.
//! The accident this prevents: a verdict that depends on when something was said.

#![allow(clippy::unwrap_used)]

use proptest::prelude::*;
use yostel_check::{Problem, check_assignment, check_proof};
use yostel_solver::{Advice, Config, Guide, Lit, Outcome, Searching, Solver, Var};

/// Keeps clauses to itself until what is true breaks one of them, taking what is open for false.
struct Miser {
    hidden: Vec<Vec<Lit>>,
    stated: Vec<Vec<Lit>>,
    /// How many clauses it states in one go.
    at_once: usize,
    /// Pauses before every so many looks; never when zero.
    pause_every: usize,
    looks: usize,
    /// Length of the trail when it last looked.
    seen: usize,
    trail: Vec<Lit>,
}

impl Guide for Miser {
    fn next(&mut self, search: &mut Searching<'_>, undone_to: usize) -> Advice {
        // What it is told of going back must be true: up to there, nothing changed.
        let kept = undone_to.min(self.seen);
        assert_eq!(search.trail()[..kept], self.trail[..kept], "the trail changed below what was said to be undone");
        self.trail = search.trail().to_vec();
        self.seen = self.trail.len();
        self.looks += 1;
        if self.pause_every > 0 && self.looks.is_multiple_of(self.pause_every) {
            return Advice::Pause;
        }
        let holds = |literal: &Lit| search.value(*literal).unwrap_or(!literal.is_positive());
        let broken: Vec<usize> =
            (0..self.hidden.len()).filter(|&i| !self.hidden[i].iter().any(holds)).take(self.at_once).collect();
        if broken.is_empty() {
            // What was stated must not be broken by what is open either.
            let open = self.stated.iter().filter(|clause| !clause.iter().any(holds)).flatten();
            let mut open = open.filter(|literal| search.value(**literal).is_none());
            return open.next().map_or(Advice::Enough, |literal| Advice::Decide(*literal));
        }
        for i in broken.into_iter().rev() {
            let clause = self.hidden.swap_remove(i);
            search.add_clause(&clause);
            self.stated.push(clause);
        }
        Advice::Again
    }
}

/// Decides by itself, the first open variable first and true, and says that it is enough when none is open.
struct Bold(Vec<Var>);

impl Guide for Bold {
    fn next(&mut self, search: &mut Searching<'_>, _: usize) -> Advice {
        let open = self.0.iter().find(|var| search.value(var.positive()).is_none());
        open.map_or(Advice::Enough, |var| Advice::Decide(var.positive()))
    }
}

/// Decides one after the other, each true if it can be, and states clauses only when they are broken.
struct InOrder {
    vars: Vec<Var>,
    hidden: Vec<Vec<Lit>>,
}

impl Guide for InOrder {
    fn next(&mut self, search: &mut Searching<'_>, _: usize) -> Advice {
        let broken = |clause: &Vec<Lit>| clause.iter().all(|literal| search.value(*literal) == Some(false));
        if let Some(at) = self.hidden.iter().position(broken) {
            let clause = self.hidden.swap_remove(at);
            search.add_clause(&clause);
            return Advice::Again;
        }
        let open = self.vars.iter().find(|var| search.value(var.positive()).is_none());
        open.map_or(Advice::Enough, |var| Advice::DecideThis(var.positive()))
    }
}

fn literal(vars: &[Var], dimacs: i64) -> Lit {
    let var = vars[dimacs.unsigned_abs() as usize - 1];
    if dimacs > 0 { var.positive() } else { var.negative() }
}

/// Goes on after each pause.
fn to_the_end(solver: &mut Solver, assumptions: &[Lit], guide: &mut dyn Guide) -> Outcome {
    loop {
        match solver.solve_guided(assumptions, guide) {
            Outcome::Paused => {}
            outcome => return outcome,
        }
    }
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

/// All variables of each group lie side by side, and at most one of them is true.
fn with_groups(problem: &Problem, groups: &[usize]) -> Problem {
    let mut whole = problem.clone();
    let mut first = 1;
    for size in groups {
        let numbers: Vec<i64> = (first..first + *size as i64).collect();
        for a in &numbers {
            whole.clauses.extend(numbers.iter().filter(|b| *b < a).map(|b| vec![-a, -b]));
        }
        first += *size as i64;
    }
    whole
}

fn by_trying_everything(problem: &Problem, assumed: &[i64]) -> bool {
    (0u32..1 << problem.variables).any(|bits| {
        let values: Vec<bool> = (0..problem.variables).map(|i| bits >> i & 1 == 1).collect();
        let kept = assumed.iter().all(|l| values[l.unsigned_abs() as usize - 1] == (*l > 0));
        kept && check_assignment(problem, &values).is_ok()
    })
}

/// Makes the variables of the groups, then what is left of nine.
fn nine_variables(solver: &mut Solver, groups: &[usize]) -> Vec<Var> {
    let mut vars = Vec::new();
    for size in groups {
        let first = solver.new_group(*size).index();
        vars.extend((first..first + size).map(Var::from_index));
    }
    while vars.len() < 9 {
        vars.push(solver.new_var());
    }
    vars
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// What was not decided true was false by then, because of what was decided before; so nothing comes before this model.
    #[test]
    fn decided_in_order_the_first_model_is_the_first_of_all(
        problem in clauses(9, 1..5, 5..40),
        groups in prop::sample::select(vec![vec![], vec![3], vec![4, 5], vec![2, 2, 2]]),
        late in any::<bool>(),
        restart_after in 0_u64..3,
        most_undone in 0_u32..3,
    ) {
        let whole = with_groups(&problem, &groups);
        let all = (0_u32..1 << 9).rev().map(|bits| (0..9).map(|at| bits >> (8 - at) & 1 == 1).collect::<Vec<bool>>());
        let first = all.into_iter().find(|values| check_assignment(&whole, values).is_ok());
        let mut solver = Solver::new(Config { restart_after, most_undone, ..Config::default() });
        let vars = nine_variables(&mut solver, &groups);
        let clauses = problem.clauses.iter().map(|c| c.iter().map(|&l| literal(&vars, l)).collect());
        let mut hidden: Vec<Vec<Lit>> = clauses.collect();
        if !late {
            hidden.drain(..).for_each(|clause| solver.add_clause(&clause));
        }
        match solver.solve_guided(&[], &mut InOrder { vars: vars.clone(), hidden }) {
            Outcome::Satisfiable(model) => {
                let found: Vec<bool> = vars.iter().map(|var| model.is_true(var.positive())).collect();
                prop_assert_eq!(Some(found), first);
            }
            outcome => prop_assert_eq!((outcome, first), (Outcome::Unsatisfiable(Vec::new()), None)),
        }
    }

    #[test]
    fn what_is_said_late_counts_like_what_is_said_at_once(
        problem in clauses(9, 1..4, 5..45),
        groups in prop::sample::select(vec![vec![], vec![3], vec![4, 5], vec![2, 2, 2]]),
        assumed in prop::collection::vec((1i64..=9, any::<bool>()), 0..3),
        at_once in 1usize..4,
        pause_every in 0usize..5,
        restart_after in 0u64..3,
        most_undone in 0_u32..3,
    ) {
        let assumed: Vec<i64> = assumed.into_iter().map(|(v, sign)| if sign { v } else { -v }).collect();
        let whole = with_groups(&problem, &groups);
        let expected = by_trying_everything(&whole, &assumed);
        let mut solver = Solver::new(Config { record_proof: true, restart_after, most_undone, ..Config::default() });
        let vars = nine_variables(&mut solver, &groups);
        let hidden = problem.clauses.iter().map(|c| c.iter().map(|&l| literal(&vars, l)).collect()).collect();
        let pause_every = if pause_every == 1 { 0 } else { pause_every };
        let mut miser = Miser { hidden, stated: Vec::new(), at_once, pause_every, looks: 0, seen: 0, trail: Vec::new() };
        let assumptions: Vec<Lit> = assumed.iter().map(|&l| literal(&vars, l)).collect();
        match to_the_end(&mut solver, &assumptions, &mut miser) {
            Outcome::Satisfiable(model) => {
                prop_assert!(expected);
                let values: Vec<bool> = vars.iter().map(|var| model.is_true(var.positive())).collect();
                prop_assert_eq!(check_assignment(&whole, &values), Ok(()));
                prop_assert!(assumptions.iter().all(|l| model.is_true(*l)));
            }
            Outcome::Unsatisfiable(core) => {
                prop_assert!(!expected);
                prop_assert!(core.iter().all(|l| assumptions.contains(l)));
                // The proof is about what was said by then, groups written out as clauses.
                let said = yostel_check::parse_cnf(&solver.to_cnf().unwrap()).unwrap();
                let claim: Vec<i64> = core.iter().map(|l| -l.to_dimacs()).collect();
                prop_assert!(check_proof(&said, &solver.to_drat().unwrap(), &claim).is_ok());
            }
            Outcome::Stopped | Outcome::Paused => prop_assert!(false, "nobody said stop"),
        }
    }

    #[test]
    fn a_group_is_the_clauses_that_it_stands_for(
        problem in clauses(9, 1..4, 1..40),
        groups in prop::sample::select(vec![vec![9], vec![4, 5], vec![2, 3, 4], vec![1, 8]]),
    ) {
        let whole = with_groups(&problem, &groups);
        let mut solver = Solver::new(Config { record_proof: true, ..Config::default() });
        let vars = nine_variables(&mut solver, &groups);
        for clause in &problem.clauses {
            solver.add_clause(&clause.iter().map(|&l| literal(&vars, l)).collect::<Vec<_>>());
        }
        let outcome = solver.solve(&[]);
        prop_assert_eq!(matches!(outcome, Outcome::Satisfiable(_)), by_trying_everything(&whole, &[]));
        if let Outcome::Satisfiable(model) = outcome {
            let values: Vec<bool> = vars.iter().map(|var| model.is_true(var.positive())).collect();
            prop_assert_eq!(check_assignment(&whole, &values), Ok(()));
        } else {
            let said = yostel_check::parse_cnf(&solver.to_cnf().unwrap()).unwrap();
            prop_assert!(check_proof(&said, &solver.to_drat().unwrap(), &[]).is_ok());
        }
    }

    #[test]
    fn who_decides_does_not_change_the_verdict(problem in clauses(9, 2..4, 10..45)) {
        let mut solver = Solver::default();
        let vars = nine_variables(&mut solver, &[]);
        for clause in &problem.clauses {
            solver.add_clause(&clause.iter().map(|&l| literal(&vars, l)).collect::<Vec<_>>());
        }
        let found = matches!(solver.solve_guided(&[], &mut Bold(vars.clone())), Outcome::Satisfiable(_));
        prop_assert_eq!(found, by_trying_everything(&problem, &[]));
        prop_assert_eq!(matches!(solver.solve(&[]), Outcome::Satisfiable(_)), found, "and the next call is not misled");
    }
}

#[test]
fn an_exclusion_makes_false_what_it_names_as_soon_as_its_variable_is_true() {
    let mut solver = Solver::default();
    let first = solver.new_group(4).index();
    let need = solver.new_var();
    let release = |i: usize| Var::from_index(first + i).positive();
    // The need is met by the second and the third.
    solver.add_clause(&[need.negative(), release(1), release(2)]);
    solver.exclude(need, &[first..first + 1, first + 3..first + 4]);
    solver.add_clause(&[need.positive()]);
    assert_eq!([0, 1, 2, 3].map(|i| solver.fixed(release(i))), [Some(false), None, None, Some(false)]);
    solver.add_clause(&[!release(1)]);
    assert_eq!(solver.fixed(release(2)), Some(true));
}

#[test]
fn a_paused_search_goes_on_where_it_was_and_another_one_starts_anew() {
    let mut solver = Solver::default();
    let vars: Vec<Var> = (0..30).map(|_| solver.new_var()).collect();
    let [a, b] = [vars[0].positive(), vars[1].positive()];
    /// Decides ten, then pauses once.
    struct Slow(Vec<Var>, bool);
    impl Guide for Slow {
        fn next(&mut self, search: &mut Searching<'_>, _: usize) -> Advice {
            let decided = search.trail().len();
            if decided == 10 && !std::mem::replace(&mut self.1, true) {
                return Advice::Pause;
            }
            self.0.get(decided).map_or(Advice::Enough, |var| Advice::Decide(var.positive()))
        }
    }
    let mut slow = Slow(vars.clone(), false);
    assert_eq!(solver.solve_guided(&[], &mut slow), Outcome::Paused);
    assert!(matches!(solver.solve_guided(&[], &mut slow), Outcome::Satisfiable(_)));
    assert_eq!(solver.stats().decisions, 30, "none was decided twice");
    // Under other assumptions nothing of the paused search may be left.
    slow.1 = false;
    assert_eq!(solver.solve_guided(&[], &mut slow), Outcome::Paused);
    let Outcome::Satisfiable(model) = solver.solve(&[!a]) else { panic!("nothing stands against it") };
    assert!(!model.is_true(a));
    solver.add_clause(&[!b]);
    assert_eq!(solver.fixed(b), Some(false));
}

#[test]
fn a_flag_stops_the_search_and_nothing_is_claimed() {
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(true));
    let mut solver = Solver::new(Config { stop: Some(stop.clone()), ..Config::default() });
    let vars: Vec<Var> = (0..3).map(|_| solver.new_var()).collect();
    // All eight sign patterns: no model, and at least one conflict before that is known.
    for bits in 0..8 {
        let clause: Vec<Lit> =
            (0..3).map(|i| if bits >> i & 1 == 1 { vars[i].positive() } else { vars[i].negative() }).collect();
        solver.add_clause(&clause);
    }
    assert_eq!(solver.solve(&[]), Outcome::Stopped);
    stop.store(false, std::sync::atomic::Ordering::Relaxed);
    assert_eq!(solver.solve(&[]), Outcome::Unsatisfiable(Vec::new()));
}
