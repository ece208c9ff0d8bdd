//! Clauses that are stated, before a search or in the middle of one.

use super::Solver;
use crate::clauses::{Conflict, Origin, Reason};
use crate::literal::Lit;
use crate::propagate::propagate;
use crate::trail::{Level, Trail};

impl Solver {
    /// Adds a clause that holds from now on. Repeated literals count once; a clause that is always true is left out.
    pub fn add_clause(&mut self, literals: &[Lit]) {
        self.backjump(0);
        self.proof.state(literals);
        if self.refuted {
            return;
        }
        let mut clause = literals.to_vec();
        clause.sort_unstable();
        clause.dedup();
        if clause.windows(2).any(|pair| pair[0] == !pair[1])
            || clause.iter().any(|&l| self.trail.value(l) == Some(true))
        {
            return;
        }
        let out: Vec<Lit> = clause.extract_if(.., |&mut l| self.trail.value(l).is_some()).collect();
        if !out.is_empty() {
            self.prove_exclusions(out);
            self.proof.add(&clause);
        }
        match clause[..] {
            [] => self.refuted = true,
            [unit] => {
                self.trail.assign(unit, Reason::None, 0);
                if let Some(conflict) = propagate(&mut self.clauses, &mut self.trail, &mut self.stats) {
                    self.refuted = true;
                    self.prove_exclusions_of(conflict);
                    self.proof.add(&[]);
                }
            }
            _ => {
                self.clauses.add(&clause, Origin::Problem, 0);
            }
        }
    }

    /// Like [`Self::add_clause`], but what the last call assumed is held as far as the clause lets it be.
    pub fn add_clause_held(&mut self, literals: &[Lit]) {
        self.add_clause_in_search(literals);
        // Levels that were gone back over are not held any more.
        self.held.truncate(self.trail.level() as usize);
    }

    /// Adds a clause wherever the search is, going back no further than to where it would have forced a literal.
    pub(crate) fn add_clause_in_search(&mut self, literals: &[Lit]) {
        if self.trail.level() == 0 {
            return self.add_clause(literals);
        }
        self.proof.state(literals);
        let mut clause = literals.to_vec();
        clause.sort_unstable();
        clause.dedup();
        let settled = |trail: &Trail, l: Lit| trail.is_assigned(l.var()) && trail.level_of(l.var()) == 0;
        if clause.windows(2).any(|pair| pair[0] == !pair[1])
            || clause.iter().any(|&l| self.trail.is_true(l) && settled(&self.trail, l))
        {
            return;
        }
        let out: Vec<Lit> = clause.extract_if(.., |&mut l| settled(&self.trail, l)).collect();
        if !out.is_empty() {
            self.prove_exclusions(out);
            self.proof.add(&clause);
        }
        // What is not false first, then what was falsified last: the right two to watch (invariant 3).
        clause.sort_by_key(|&l| match self.trail.is_false(l) {
            false => (0, 0),
            true => (1, u32::MAX - self.trail.level_of(l.var())),
        });
        match clause[..] {
            [] => self.refuted = true,
            [unit] => self.hold(unit, Reason::None, 0),
            [first, second, ..] => {
                let id = self.clauses.add(&clause, Origin::Problem, 0);
                if !self.trail.is_false(second) {
                    return;
                }
                let level = self.trail.level_of(second.var());
                if self.trail.is_false(first) && self.trail.level_of(first.var()) == level {
                    self.backjump(level);
                    self.pending = Some(Conflict::Clause(id));
                } else if !self.trail.is_true(first) {
                    self.hold(first, Reason::Clause(id), level);
                } else if self.trail.level_of(first.var()) > level {
                    self.late.push((level, id));
                }
            }
        }
    }

    /// Makes a literal true on the level of what forces it; levels between are undone only as far as it is assigned there.
    fn hold(&mut self, literal: Lit, reason: Reason, level: Level) {
        if self.trail.is_assigned(literal.var()) {
            self.backjump(self.trail.level_of(literal.var()).saturating_sub(1).max(level));
        }
        self.trail.assign(literal, reason, level);
    }
}
