//! The trail: which literals are true, since which level, and why.
//!
//! A literal belongs to the level of what forced it, which may be lower than the level on which that was noticed: it then
//! stays when the levels between are undone (chronological backtracking, Nadel and Ryvchin 2018; invariants after Möhle and
//! Biere 2019).

use crate::clauses::{ClauseId, Reason};
use crate::literal::{Lit, Var};

/// A decision level; 0 holds what is true whatever is decided.
pub(crate) type Level = u32;

const OPEN: u8 = 0;
const TRUE: u8 = 1;
const FALSE: u8 = 2;

/// Assignments in the order in which they were made.
#[derive(Debug, Default)]
pub(crate) struct Trail {
    /// By code of the literal.
    values: Vec<u8>,
    /// By variable: since which level, and why. Means nothing while it is open.
    causes: Vec<(Level, Reason)>,
    order: Vec<Lit>,
    /// Length of `order` when each level began.
    starts: Vec<usize>,
    /// The first literal of `order` that was not propagated yet.
    pub(crate) head: usize,
}

impl Trail {
    pub(crate) fn grow(&mut self, variables: usize) {
        self.values.resize(variables * 2, OPEN);
        self.causes.resize(variables, (0, Reason::None));
    }

    pub(crate) fn value(&self, literal: Lit) -> Option<bool> {
        match self.values[literal.code()] {
            OPEN => None,
            value => Some(value == TRUE),
        }
    }

    pub(crate) fn is_true(&self, literal: Lit) -> bool {
        self.values[literal.code()] == TRUE
    }

    pub(crate) fn is_false(&self, literal: Lit) -> bool {
        self.values[literal.code()] == FALSE
    }

    pub(crate) fn is_assigned(&self, var: Var) -> bool {
        self.values[var.positive().code()] != OPEN
    }

    pub(crate) fn level_of(&self, var: Var) -> Level {
        self.causes[var.index()].0
    }

    pub(crate) fn reason_of(&self, var: Var) -> &Reason {
        &self.causes[var.index()].1
    }

    pub(crate) fn level(&self) -> Level {
        Level::try_from(self.starts.len()).expect("no more levels than variables")
    }

    pub(crate) fn literals(&self) -> &[Lit] {
        &self.order
    }

    pub(crate) fn len(&self) -> usize {
        self.order.len()
    }

    /// Returns the length of the trail when the level after this one began.
    pub(crate) fn end_of(&self, level: Level) -> usize {
        self.starts.get(level as usize).copied().unwrap_or(self.order.len())
    }

    /// Returns what was decided on a level; nothing of one that is not there.
    pub(crate) fn decision_of(&self, level: Level) -> Option<Lit> {
        let start = *self.starts.get((level as usize).checked_sub(1)?)?;
        self.order.get(start).copied()
    }

    pub(crate) fn next_unpropagated(&mut self) -> Option<Lit> {
        let literal = self.order.get(self.head).copied()?;
        self.head += 1;
        Some(literal)
    }

    pub(crate) fn open_level(&mut self) {
        self.starts.push(self.order.len());
    }

    /// Makes a literal true on the current level.
    pub(crate) fn decide(&mut self, literal: Lit) {
        self.assign(literal, Reason::None, self.level());
    }

    /// Makes a literal true on the level of what forced it.
    pub(crate) fn assign(&mut self, literal: Lit, reason: Reason, level: Level) {
        debug_assert!(!self.is_assigned(literal.var()), "a variable is assigned once");
        debug_assert!(level <= self.level());
        self.values[literal.code()] = TRUE;
        self.values[(!literal).code()] = FALSE;
        self.causes[literal.var().index()] = (level, reason);
        self.order.push(literal);
    }

    /// Undoes every level above `level`, handing each freed literal to `freed`. What was noticed there, but belongs to a
    /// level that stays, stays, and is propagated again; returned are how many these are, and the lowest of their levels.
    pub(crate) fn backjump(&mut self, level: Level, mut freed: impl FnMut(Lit)) -> (usize, Level) {
        if self.level() <= level {
            return (0, level);
        }
        let start = self.starts[level as usize];
        let mut kept = start;
        let mut lowest = level;
        for at in start..self.order.len() {
            let literal = self.order[at];
            let its = self.causes[literal.var().index()].0;
            if its <= level {
                lowest = lowest.min(its);
                self.order[kept] = literal;
                kept += 1;
                continue;
            }
            self.values[literal.code()] = OPEN;
            self.values[(!literal).code()] = OPEN;
            freed(literal);
        }
        self.order.truncate(kept);
        self.starts.truncate(level as usize);
        self.head = self.head.min(start);
        (kept - start, lowest)
    }

    /// Tells whether the clause forced one of its literals, so that it must not be dropped.
    pub(crate) fn is_reason(&self, id: ClauseId, first: Lit) -> bool {
        self.is_true(first) && *self.reason_of(first.var()) == Reason::Clause(id)
    }
}
