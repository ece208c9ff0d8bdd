//! Forgetting: drops half of the learned clauses, those over most levels first and of these the least active; reasons,
//! clauses of two literals and clauses over two levels stay.

use crate::clauses::{ClauseId, Clauses, Origin};
use crate::proof::ProofLog;
use crate::trail::Trail;

/// Drops clauses and returns how many.
pub(crate) fn reduce(clauses: &mut Clauses, trail: &Trail, proof: &mut ProofLog) -> usize {
    let mut candidates: Vec<ClauseId> = clauses
        .ids()
        .filter(|(_, origin)| *origin == Origin::Learned)
        .map(|(id, _)| id)
        .filter(|&id| {
            let literals = clauses.literals(id);
            literals.len() > 2 && clauses.lbd(id) > 2 && !trail.is_reason(id, literals[0])
        })
        .collect();
    candidates.sort_by(|&a, &b| {
        let lbd = clauses.lbd(b).cmp(&clauses.lbd(a));
        lbd.then(clauses.activity(a).total_cmp(&clauses.activity(b))).then(a.0.cmp(&b.0))
    });
    candidates.truncate(candidates.len() / 2);
    for &id in &candidates {
        proof.delete(clauses.literals(id));
    }
    clauses.drop_all(&candidates);
    candidates.len()
}
