//! Which assumptions are to blame: walks the reasons back from a falsified assumption to those that led to it
//! (analyzeFinal of Eén and Sörensson 2003).

use crate::clauses::{Clauses, Reason};
use crate::literal::Lit;
use crate::trail::Trail;

/// Returns the assumptions, `failed` among them, that cannot hold together. All decisions on the trail are assumptions.
pub(crate) fn blame(failed: Lit, clauses: &Clauses, trail: &Trail, variables: usize) -> Vec<Lit> {
    let mut core = vec![failed];
    let mut wanted = vec![false; variables];
    wanted[failed.var().index()] = true;
    for &literal in trail.literals().iter().rev() {
        if !wanted[literal.var().index()] || trail.level_of(literal.var()) == 0 {
            continue;
        }
        match trail.reason_of(literal.var()) {
            // `literal` may be `!failed` itself, when two assumptions contradict each other outright.
            Reason::None => core.push(literal),
            reason => clauses.others(reason).iter().for_each(|other| wanted[other.var().index()] = true),
        }
    }
    core.sort_unstable();
    core.dedup();
    core
}
