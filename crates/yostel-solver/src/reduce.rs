//! Forgetting: drops the less active half of the learned clauses, except reasons and clauses of two literals.

use crate::clauses::{ClauseId, Clauses};
use crate::proof::ProofLog;
use crate::trail::Trail;

/// Drops clauses and returns how many.
pub(crate) fn reduce(clauses: &mut Clauses, trail: &Trail, proof: &mut ProofLog) -> usize {
    let mut candidates: Vec<ClauseId> = clauses
        .learned_ids()
        .into_iter()
        .filter(|&id| {
            let literals = clauses.literals(id);
            literals.len() > 2 && !trail.is_reason(id, literals[0])
        })
        .collect();
    candidates.sort_by(|&a, &b| clauses.activity(a).total_cmp(&clauses.activity(b)).then(a.0.cmp(&b.0)));
    candidates.truncate(candidates.len() / 2);
    for &id in &candidates {
        proof.delete(clauses.literals(id));
    }
    clauses.drop_all(&candidates);
    candidates.len()
}
