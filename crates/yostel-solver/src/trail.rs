//! The trail: which literals are true, since which level, and why.

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

    pub(crate) fn next_unpropagated(&mut self) -> Option<Lit> {
        let literal = self.order.get(self.head).copied()?;
        self.head += 1;
        Some(literal)
    }

    pub(crate) fn open_level(&mut self) {
        self.starts.push(self.order.len());
    }

    pub(crate) fn assign(&mut self, literal: Lit, reason: Reason) {
        debug_assert!(!self.is_assigned(literal.var()), "a variable is assigned once");
        self.values[literal.code()] = TRUE;
        self.values[(!literal).code()] = FALSE;
        self.causes[literal.var().index()] = (self.level(), reason);
        self.order.push(literal);
    }

    /// Undoes every level above `level`, handing each freed literal to `freed`, last one first.
    pub(crate) fn backjump(&mut self, level: Level, mut freed: impl FnMut(Lit)) {
        if self.level() <= level {
            return;
        }
        let keep = self.starts[level as usize];
        for literal in self.order.drain(keep..).rev() {
            self.values[literal.code()] = OPEN;
            self.values[(!literal).code()] = OPEN;
            freed(literal);
        }
        self.starts.truncate(level as usize);
        self.head = self.head.min(keep);
    }

    /// Tells whether the clause forced one of its literals, so that it must not be dropped.
    pub(crate) fn is_reason(&self, id: ClauseId, first: Lit) -> bool {
        self.is_true(first) && *self.reason_of(first.var()) == Reason::Clause(id)
    }
}
