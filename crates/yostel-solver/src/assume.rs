//! Which assumptions are to blame: walks the reasons back from a falsified assumption to those that led to it
//! (analyzeFinal of Eén and Sörensson 2003).

use crate::clauses::Clauses;
use crate::literal::Lit;
use crate::trail::Trail;

/// Returns the assumptions, `failed` among them, that cannot hold together. All decisions on the trail are assumptions.
pub(crate) fn blame(failed: Lit, clauses: &Clauses, trail: &Trail) -> Vec<Lit> {
    let mut core = vec![failed];
    let mut wanted = vec![false; trail.len()];
    let mut places = std::collections::BTreeMap::new();
    for (at, literal) in trail.literals().iter().enumerate() {
        places.insert(literal.var(), at);
    }
    if let Some(&at) = places.get(&failed.var()) {
        wanted[at] = true;
    }
    for at in (0..trail.len()).rev() {
        let literal = trail.literals()[at];
        if !wanted[at] || trail.level_of(literal.var()) == 0 {
            continue;
        }
        match trail.reason_of(literal.var()) {
            // `literal` may be `!failed` itself, when two assumptions contradict each other outright.
            None => core.push(literal),
            Some(reason) => {
                for other in clauses.literals(reason) {
                    wanted[places[&other.var()]] = true;
                }
            }
        }
    }
    core.sort_unstable();
    core.dedup();
    core
}
