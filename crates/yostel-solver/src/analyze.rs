//! Conflict analysis: from one falsified clause to one learned clause and a level to backjump to.
//!
//! Guarantees: exactly one literal of the current level, at index 0; index 1 holds a literal of the highest other
//! level, which the watches rely on after the backjump. Stops at the first unique implication point (Zhang et al.
//! 2001). Cost: linear in the literals visited. Each learned clause is checked by yostel-check in the tests.

use crate::clauses::{ClauseId, Clauses};
use crate::decide::Decider;
use crate::literal::{Lit, Var};
use crate::trail::{Level, Trail};

/// What a conflict taught.
pub(crate) struct Lesson {
    /// The learned clause; never empty.
    pub(crate) clause: Vec<Lit>,
    /// The level on which its first literal is forced.
    pub(crate) level: Level,
}

/// Marks reused between conflicts.
#[derive(Debug, Default)]
pub(crate) struct Analyzer {
    /// By variable: already met in this conflict.
    seen: Vec<bool>,
    /// Variables marked in this conflict, to be unmarked at its end.
    marked: Vec<Var>,
}

impl Analyzer {
    pub(crate) fn grow(&mut self, variables: usize) {
        self.seen.resize(variables, false);
    }

    /// Derives the lesson of `conflict`, which is falsified on the trail's current level (not 0).
    pub(crate) fn learn(
        &mut self,
        conflict: ClauseId,
        clauses: &mut Clauses,
        trail: &Trail,
        decider: &mut Decider,
        minimise: bool,
    ) -> Lesson {
        debug_assert!(trail.level() > 0);
        let mut lower = Vec::new();
        let mut open = 0;
        let mut next = trail.len();
        let mut reason = conflict;
        let mut resolved: Option<Lit> = None;
        let first = loop {
            clauses.bump(reason);
            for &literal in clauses.literals(reason) {
                let var = literal.var();
                if Some(literal) == resolved || self.seen[var.index()] || trail.level_of(var) == 0 {
                    continue;
                }
                self.mark(var);
                decider.bump(var);
                if trail.level_of(var) == trail.level() {
                    open += 1;
                } else {
                    lower.push(literal);
                }
            }
            let literal = loop {
                next -= 1;
                let literal = trail.literals()[next];
                if self.seen[literal.var().index()] {
                    break literal;
                }
            };
            open -= 1;
            if open == 0 {
                break !literal;
            }
            reason = trail.reason_of(literal.var()).expect("only the last open literal of a level can be its decision");
            resolved = Some(literal);
        };
        if minimise {
            let kept: Vec<Lit> = lower.iter().copied().filter(|&l| !self.is_implied(l, clauses, trail)).collect();
            lower = kept;
        }
        for var in self.marked.drain(..) {
            self.seen[var.index()] = false;
        }
        let mut clause = Vec::with_capacity(lower.len() + 1);
        clause.push(first);
        clause.append(&mut lower);
        let highest = (1..clause.len()).max_by_key(|&i| trail.level_of(clause[i].var()));
        let level = highest.map_or(0, |i| {
            clause.swap(1, i);
            trail.level_of(clause[1].var())
        });
        Lesson { clause, level }
    }

    fn mark(&mut self, var: Var) {
        self.seen[var.index()] = true;
        self.marked.push(var);
    }

    /// Tells whether the other literals of the learned clause imply this one, so that it can go (recursive
    /// minimisation, Sörensson and Biere 2009). Literals found implied on the way stay marked: they are implied too.
    fn is_implied(&mut self, literal: Lit, clauses: &Clauses, trail: &Trail) -> bool {
        let Some(reason) = trail.reason_of(literal.var()) else { return false };
        let marks_before = self.marked.len();
        let mut pending = vec![reason];
        while let Some(reason) = pending.pop() {
            for &other in &clauses.literals(reason)[1..] {
                let var = other.var();
                if self.seen[var.index()] || trail.level_of(var) == 0 {
                    continue;
                }
                let Some(deeper) = trail.reason_of(var) else {
                    for var in self.marked.drain(marks_before..) {
                        self.seen[var.index()] = false;
                    }
                    return false;
                };
                self.mark(var);
                pending.push(deeper);
            }
        }
        true
    }
}
