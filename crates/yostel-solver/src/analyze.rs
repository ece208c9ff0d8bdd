//! Conflict analysis: from one falsified clause to one learned clause and a level to backjump to.
//!
//! Guarantees: exactly one literal of the current level, at index 0; index 1 holds a literal of the highest other
//! level, which the watches rely on after the backjump. Stops at the first unique implication point (Zhang et al.
//! 2001). Cost: linear in the literals visited. Each learned clause is checked by yostel-check in the tests.

use crate::clauses::{Clauses, Conflict, Reason};
use crate::decide::Decider;
use crate::literal::{Lit, Var};
use crate::trail::{Level, Trail};

/// What a conflict taught.
pub(crate) struct LearnedClause {
    /// The learned clause; never empty.
    pub(crate) clause: Vec<Lit>,
    /// The level on which its first literal is forced.
    pub(crate) level: Level,
    /// How many levels its literals are on.
    pub(crate) lbd: u32,
}

/// Marks reused between conflicts.
#[derive(Debug, Default)]
pub(crate) struct Analyzer {
    /// By variable: already met in this conflict.
    seen: Vec<bool>,
    /// Variables marked in this conflict, to be unmarked at its end.
    marked: Vec<Var>,
    /// By level: the conflict in which it was last counted.
    counted: Vec<u64>,
    conflicts: u64,
}

impl Analyzer {
    pub(crate) fn grow(&mut self, variables: usize) {
        self.seen.resize(variables, false);
    }

    /// Derives the learned clause of `conflict`, of which two literals or more are on the trail's current level (not 0).
    pub(crate) fn learn(
        &mut self,
        conflict: Conflict,
        clauses: &mut Clauses,
        trail: &Trail,
        decider: &mut Decider,
        minimise: bool,
    ) -> LearnedClause {
        debug_assert!(trail.level() > 0);
        let mut lower = Vec::new();
        let mut open = 0;
        let mut next = trail.len();
        match conflict {
            Conflict::Clause(id) => {
                clauses.bump(id);
                self.meet(clauses.literals(id), trail, decider, &mut open, &mut lower);
            }
            Conflict::Pair(pair) => self.meet(&pair, trail, decider, &mut open, &mut lower),
        }
        let first = loop {
            let literal = loop {
                next -= 1;
                let literal = trail.literals()[next];
                if self.seen[literal.var().index()] && trail.level_of(literal.var()) == trail.level() {
                    break literal;
                }
            };
            open -= 1;
            if open == 0 {
                break !literal;
            }
            let reason = trail.reason_of(literal.var());
            debug_assert!(*reason != Reason::None, "only the last open literal of a level can be its decision");
            if let Reason::Clause(id) = reason {
                clauses.bump(*id);
            }
            self.meet(clauses.others(reason), trail, decider, &mut open, &mut lower);
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
        // Who goes back further than that forgets what the clause already says.
        debug_assert!(clause[1..].iter().all(|literal| trail.level_of(literal.var()) <= level));
        let lbd = self.lbd(&clause, trail);
        LearnedClause { clause, level, lbd }
    }

    /// Marks the literals of a clause, counting those of the current level and collecting those of lower ones.
    fn meet(&mut self, literals: &[Lit], trail: &Trail, decider: &mut Decider, open: &mut u32, lower: &mut Vec<Lit>) {
        for &literal in literals {
            let var = literal.var();
            if self.seen[var.index()] || trail.level_of(var) == 0 {
                continue;
            }
            self.mark(var);
            decider.bump(var);
            if trail.level_of(var) == trail.level() {
                *open += 1;
            } else {
                lower.push(literal);
            }
        }
    }

    fn lbd(&mut self, clause: &[Lit], trail: &Trail) -> u32 {
        self.conflicts += 1;
        self.counted.resize(self.counted.len().max(trail.level() as usize + 1), 0);
        let mut lbd = 0;
        for literal in clause {
            let counted = &mut self.counted[trail.level_of(literal.var()) as usize];
            lbd += u32::from(*counted != self.conflicts);
            *counted = self.conflicts;
        }
        lbd
    }

    fn mark(&mut self, var: Var) {
        self.seen[var.index()] = true;
        self.marked.push(var);
    }

    /// Tells whether the other literals of the learned clause imply this one, so that it can go (recursive
    /// minimisation, Sörensson and Biere 2009). Literals found implied on the way stay marked: they are implied too.
    fn is_implied(&mut self, literal: Lit, clauses: &Clauses, trail: &Trail) -> bool {
        let reason = trail.reason_of(literal.var());
        if *reason == Reason::None {
            return false;
        }
        let marks_before = self.marked.len();
        let mut pending = vec![reason];
        while let Some(reason) = pending.pop() {
            for &other in clauses.others(reason) {
                let var = other.var();
                if self.seen[var.index()] || trail.level_of(var) == 0 {
                    continue;
                }
                let deeper = trail.reason_of(var);
                if *deeper == Reason::None {
                    for var in self.marked.drain(marks_before..) {
                        self.seen[var.index()] = false;
                    }
                    return false;
                }
                self.mark(var);
                pending.push(deeper);
            }
        }
        true
    }
}
