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
    if !literal.is_positive() {
        return None;
    }
    let number = literal.var().0;
    let level = trail.level_of(literal.var());
    let out = |other: Lit, trail: &mut Trail, stats: &mut Stats| {
        if trail.is_true(other) {
            return None;
        }
        if trail.is_false(other) {
            return Some(Conflict::Pair([other, !literal]));
        }
        stats.propagations += 1;
        trail.assign(other, Reason::Pair(!literal), level);
        None
    };
    for excluder in clauses.excluders_of(literal.var()) {
        let excluder_out = excluder.var.negative();
        if !trail.is_true(excluder_out) && clauses.excludes(excluder, number) {
            let conflict = out(excluder_out, trail, stats);
            if conflict.is_some() {
                return conflict;
            }
        }
    }
    for span in clauses.excluded_by(literal) {
        for other in (span.first..span.end).filter(|other| *other != number) {
            let conflict = out(Var(other).negative(), trail, stats);
            if conflict.is_some() {
                return conflict;
            }
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
    let level = trail.level_of(literal.var());
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
        let Some(id) = watch.long() else {
            list[kept] = watch;
            kept += 1;
            if trail.is_false(watch.blocker) {
                conflict = Some(Conflict::Pair([watch.blocker, falsified]));
                break;
            }
            stats.propagations += 1;
            trail.assign(watch.blocker, Reason::Pair(falsified), level);
            continue;
        };
        let literals = clauses.literals_mut(id);
        if literals[0] == falsified {
            literals.swap(0, 1);
        }
        let other = literals[0];
        let moved = Watch::of(id, other);
        if trail.is_true(other) {
            list[kept] = moved;
            kept += 1;
            continue;
        }
        // Beside what is not false, what is false on the highest level.
        let (mut best, mut highest, mut free) = (1, level, false);
        for (place, literal) in literals.iter().enumerate().skip(2) {
            if !trail.is_false(*literal) {
                (best, free) = (place, true);
                break;
            }
            let its = trail.level_of(literal.var());
            if its > highest {
                (best, highest) = (place, its);
            }
        }
        if best > 1 {
            literals.swap(1, best);
            let watched = literals[1];
            clauses.watch(watched, moved);
        } else {
            list[kept] = moved;
            kept += 1;
        }
        if free {
            continue;
        }
        if trail.is_false(other) {
            conflict = Some(Conflict::Clause(id));
            break;
        }
        stats.propagations += 1;
        trail.assign(other, Reason::Clause(id), highest);
    }
    list.drain(kept..at);
    clauses.restore_watches(falsified, list);
    conflict
}
