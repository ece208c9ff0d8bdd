//! Unit propagation: forcing to a fixpoint, two watched literals a clause (Moskewicz et al. 2001).

use crate::clauses::{ClauseId, Clauses, Watch};
use crate::stats::Stats;
use crate::trail::Trail;

/// Propagates all pending literals; returns a falsified clause when there is one.
pub(crate) fn propagate(clauses: &mut Clauses, trail: &mut Trail, stats: &mut Stats) -> Option<ClauseId> {
    while let Some(literal) = trail.next_unpropagated() {
        let falsified = !literal;
        let mut list = clauses.take_watches(falsified);
        let mut kept = 0;
        let mut conflict = None;
        let mut at = 0;
        while at < list.len() {
            let watch = list[at];
            at += 1;
            if trail.value(watch.blocker) == Some(true) {
                list[kept] = watch;
                kept += 1;
                continue;
            }
            let literals = clauses.literals_mut(watch.clause);
            if literals[0] == falsified {
                literals.swap(0, 1);
            }
            let other = literals[0];
            let moved = Watch { clause: watch.clause, blocker: other };
            if trail.value(other) == Some(true) {
                list[kept] = moved;
                kept += 1;
                continue;
            }
            if let Some(free) = (2..literals.len()).find(|&i| trail.value(literals[i]) != Some(false)) {
                literals.swap(1, free);
                let watched = literals[1];
                clauses.watch(watched, moved);
                continue;
            }
            list[kept] = moved;
            kept += 1;
            if trail.value(other) == Some(false) {
                conflict = Some(watch.clause);
                break;
            }
            stats.propagations += 1;
            trail.assign(other, Some(watch.clause));
        }
        list.drain(kept..at);
        clauses.restore_watches(falsified, list);
        if conflict.is_some() {
            return conflict;
        }
    }
    None
}
