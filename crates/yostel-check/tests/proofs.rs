//! Proofs judged with all that is kept from step to step, against a judge that keeps nothing and looks at every clause.
//! The accident this prevents: a judge that accepts what does not follow.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_check::{Clause, Problem, Refusal, check_proof};

#[derive(Debug, Clone)]
struct Step {
    deletes: bool,
    clause: Clause,
}

fn normal(clause: &[i64]) -> Clause {
    let literals: BTreeSet<i64> = clause.iter().copied().collect();
    literals.into_iter().collect()
}

/// Propagates over all clauses until nothing changes; true when that is a contradiction.
fn follows(present: &[Clause], clause: &[i64]) -> bool {
    let mut facts: BTreeSet<i64> = clause.iter().map(|literal| -literal).collect();
    loop {
        if facts.iter().any(|fact| facts.contains(&-fact)) {
            return true;
        }
        let mut forced = BTreeSet::new();
        for candidate in present.iter().filter(|candidate| !candidate.iter().any(|l| facts.contains(l))) {
            let free: Vec<i64> = candidate.iter().copied().filter(|l| !facts.contains(&-l)).collect();
            match free[..] {
                [] => return true,
                [one] => _ = forced.insert(one),
                _ => {}
            }
        }
        if forced.is_empty() {
            return false;
        }
        facts.extend(forced);
    }
}

fn by_hand(problem: &Problem, steps: &[Step], claim: &[i64]) -> Result<usize, Refusal> {
    let mut present: Vec<Clause> = problem.clauses.iter().map(|clause| normal(clause)).collect();
    for (done, step) in steps.iter().enumerate() {
        if follows(&present, &[]) {
            return Ok(done);
        }
        let clause = normal(&step.clause);
        match (step.deletes, present.iter().position(|other| *other == clause)) {
            (true, None) => return Err(Refusal::NotPresent { step: done + 1, clause }),
            (true, Some(at)) => _ = present.remove(at),
            (false, _) if follows(&present, &clause) => present.push(clause),
            (false, _) => return Err(Refusal::NotImplied { step: done + 1, clause }),
        }
    }
    if follows(&present, claim) { Ok(steps.len()) } else { Err(Refusal::NotEstablished) }
}

fn literal(variables: i64) -> impl Strategy<Value = i64> {
    (1..=variables, any::<bool>()).prop_map(|(variable, sign)| if sign { variable } else { -variable })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    #[test]
    fn judges_as_one_that_looks_at_every_clause(
        clauses in prop::collection::vec(prop::collection::vec(literal(6), 1..4), 3..16),
        drafts in prop::collection::vec((any::<prop::sample::Index>(), prop::collection::vec(literal(6), 1..4), 0..8_u8), 0..24),
        claim in prop::collection::vec(literal(6), 0..3),
        wrong_at in any::<prop::sample::Index>(),
        is_wrong in prop::bool::weighted(0.2),
    ) {
        let problem = Problem { variables: 6, clauses };
        // Most steps hold, so that proofs get far; one may be as it came.
        let mut present: Vec<Clause> = problem.clauses.clone();
        let mut steps = Vec::new();
        for (at, (which, draft, kind)) in drafts.iter().enumerate() {
            let as_it_came = is_wrong && at == wrong_at.index(drafts.len());
            let deletes = *kind < 3;
            let clause = match deletes && !as_it_came {
                true if present.is_empty() => continue,
                true => present.swap_remove(which.index(present.len())),
                false => draft.clone(),
            };
            if !deletes && !as_it_came && !follows(&present, &clause) {
                continue;
            }
            if !deletes {
                present.push(clause.clone());
            }
            steps.push(Step { deletes, clause });
        }
        let text: String = steps
            .iter()
            .map(|step| {
                let literals: Vec<String> = step.clause.iter().map(|literal| format!("{literal} ")).collect();
                format!("{}{}0\n", if step.deletes { "d " } else { "" }, literals.concat())
            })
            .collect();
        prop_assert_eq!(check_proof(&problem, &text, &claim), by_hand(&problem, &steps, &claim));
    }
}
