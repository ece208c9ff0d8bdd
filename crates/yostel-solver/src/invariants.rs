//! What must hold between two decisions, checked in debug builds while a problem is small, and now and then when not.

use crate::clauses::{ClauseId, Clauses, Origin, Reason};
use crate::trail::Trail;

/// Clauses up to which every decision is checked.
const SMALL: usize = 200;
/// Decisions between two checks of a larger problem.
const SELDOM: u64 = 500;

/// Returns what is broken, if anything is. Called when all is propagated.
pub(crate) fn broken(clauses: &Clauses, trail: &Trail, decisions: u64) -> Option<String> {
    if clauses.kept > SMALL && (decisions == 0 || !decisions.is_multiple_of(SELDOM)) {
        return None;
    }
    let watched = clauses.watched();
    let (mut learned, mut kept) = (0, 0);
    for (id, origin) in clauses.ids() {
        learned += usize::from(origin == Origin::Learned);
        kept += 1;
        let literals = clauses.literals(id);
        let watched = watched[id.0 as usize];
        if watched != 2 {
            return Some(format!("invariant 2: {literals:?} is watched {watched} times"));
        }
        let open = literals.iter().filter(|&&l| !trail.is_false(l)).count();
        let holds = literals.iter().any(|&l| trail.is_true(l));
        if !holds && open < 2 {
            return Some(format!("invariant 3: {literals:?} forces a literal, and nobody noticed"));
        }
    }
    if (kept, learned) != (clauses.kept, clauses.learned) {
        let counted = (clauses.kept, clauses.learned);
        return Some(format!("{kept} clauses, {learned} of them learned, counted {counted:?}"));
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
        let forced_on = clauses.others(reason).iter().map(|other| trail.level_of(other.var())).max();
        if forced_on.is_some_and(|level| level != trail.level_of(literal.var())) {
            return Some(format!("{literal:?} is not on the level of what forced it"));
        }
    }
    None
}
