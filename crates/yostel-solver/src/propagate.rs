//! Unit propagation: forcing to a fixpoint, two watched literals a clause (Moskewicz et al. 2001), and exclusions, which
//! stand for two-literal clauses without storing them.

use crate::clauses::{Clauses, Conflict, Reason, Watch};
use crate::literal::{Lit, Var};
use crate::stats::Stats;
use crate::trail::Trail;

/// Propagates all pending literals; returns what is falsified when something is.
pub(crate) fn propagate(clauses: &mut Clauses, trail: &mut Trail, stats: &mut Stats) -> Option<Conflict> {
    while let Some(literal) = trail.next_unpropagated() {
        let conflict = exclude(literal, clauses, trail, stats).or_else(|| visit(literal, clauses, trail, stats));
        if conflict.is_some() {
            return conflict;
        }
    }
    None
}

/// Makes false what a true literal excludes.
fn exclude(literal: Lit, clauses: &Clauses, trail: &mut Trail, stats: &mut Stats) -> Option<Conflict> {
    for span in clauses.excluded_by(literal) {
        for number in span.first..span.end {
            let other = Var(number).negative();
            if trail.is_true(other) || number == literal.var().0 {
                continue;
            }
            if trail.is_false(other) {
                return Some(Conflict::Pair([other, !literal]));
            }
            stats.propagations += 1;
            trail.assign(other, Reason::Pair(!literal));
        }
    }
    None
}

/// Visits the clauses that watch the negation of a true literal.
fn visit(literal: Lit, clauses: &mut Clauses, trail: &mut Trail, stats: &mut Stats) -> Option<Conflict> {
    let falsified = !literal;
    if clauses.watching(falsified).is_empty() {
        return None;
    }
    let mut list = clauses.take_watches(falsified);
    let mut kept = 0;
    let mut conflict = None;
    let mut at = 0;
    while at < list.len() {
        let watch = list[at];
        at += 1;
        if trail.is_true(watch.blocker) {
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
        if trail.is_true(other) {
            list[kept] = moved;
            kept += 1;
            continue;
        }
        if let Some(free) = (2..literals.len()).find(|&i| !trail.is_false(literals[i])) {
            literals.swap(1, free);
            let watched = literals[1];
            clauses.watch(watched, moved);
            continue;
        }
        list[kept] = moved;
        kept += 1;
        if trail.is_false(other) {
            conflict = Some(Conflict::Clause(watch.clause));
            break;
        }
        stats.propagations += 1;
        trail.assign(other, Reason::Clause(watch.clause));
    }
    list.drain(kept..at);
    clauses.restore_watches(falsified, list);
    conflict
}
