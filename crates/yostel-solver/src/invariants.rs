//! What must hold between two decisions, checked in debug builds while a problem is small, and now and then when not.

use std::collections::BTreeMap;

use crate::clauses::{ClauseId, Clauses, Origin, Reason};
use crate::trail::Trail;

/// Clauses up to which every decision is checked.
const SMALL: usize = 200;
/// Decisions between two checks of a larger problem.
const SELDOM: u64 = 5000;

/// Returns what is broken, if anything is. Called when all is propagated.
pub(crate) fn broken(clauses: &Clauses, trail: &Trail, decisions: u64) -> Option<String> {
    let count = clauses.ids().take(SMALL + 1).count();
    if count > SMALL && (decisions == 0 || !decisions.is_multiple_of(SELDOM)) {
        return None;
    }
    let mut watched: BTreeMap<u32, u32> = BTreeMap::new();
    let mut learned = 0;
    for (id, origin) in clauses.ids() {
        learned += usize::from(origin == Origin::Learned);
        let literals = clauses.literals(id);
        for &literal in &literals[..2] {
            let entries = clauses.watching(literal).iter().filter(|watch| watch.clause == id).count();
            *watched.entry(id.0).or_default() += u32::try_from(entries).ok()?;
        }
        if watched[&id.0] != 2 {
            return Some(format!("invariant 2: {literals:?} is watched {} times", watched[&id.0]));
        }
        let open = literals.iter().filter(|&&l| !trail.is_false(l)).count();
        let holds = literals.iter().any(|&l| trail.is_true(l));
        if !holds && open < 2 {
            return Some(format!("invariant 3: {literals:?} forces a literal, and nobody noticed"));
        }
    }
    if learned != clauses.learned {
        return Some(format!("{learned} learned clauses, counted {}", clauses.learned));
    }
    for literal in trail.literals() {
        let reason = trail.reason_of(literal.var());
        if let Reason::Clause(ClauseId(id)) = reason
            && clauses.literals(ClauseId(*id)).first() != Some(literal)
        {
            return Some(format!("invariant 4: {literal:?} is not the first of the clause that forced it"));
        }
        if clauses.others(reason).iter().any(|&other| !trail.is_false(other)) {
            return Some(format!("{literal:?} was forced by a clause that leaves a choice"));
        }
    }
    None
}
