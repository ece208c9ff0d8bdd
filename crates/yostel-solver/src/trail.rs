//! The trail: which literals are true, since which level, and why.

use crate::clauses::ClauseId;
use crate::literal::{Lit, Var};

/// A decision level; 0 holds what is true whatever is decided.
pub(crate) type Level = u32;

#[derive(Debug, Clone, Copy)]
struct Assignment {
    value: Option<bool>,
    level: Level,
    reason: Option<ClauseId>,
}

/// Assignments in the order in which they were made.
#[derive(Debug, Default)]
pub(crate) struct Trail {
    by_var: Vec<Assignment>,
    order: Vec<Lit>,
    /// Length of `order` when each level began.
    starts: Vec<usize>,
    /// The first literal of `order` that was not propagated yet.
    pub(crate) head: usize,
}

impl Trail {
    pub(crate) fn grow(&mut self, variables: usize) {
        self.by_var.resize(variables, Assignment { value: None, level: 0, reason: None });
    }

    pub(crate) fn value(&self, literal: Lit) -> Option<bool> {
        self.by_var[literal.var().index()].value.map(|v| v == literal.is_positive())
    }

    pub(crate) fn is_assigned(&self, var: Var) -> bool {
        self.by_var[var.index()].value.is_some()
    }

    pub(crate) fn level_of(&self, var: Var) -> Level {
        self.by_var[var.index()].level
    }

    pub(crate) fn reason_of(&self, var: Var) -> Option<ClauseId> {
        self.by_var[var.index()].reason
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

    pub(crate) fn assign(&mut self, literal: Lit, reason: Option<ClauseId>) {
        debug_assert!(!self.is_assigned(literal.var()), "a variable is assigned once");
        let level = self.level();
        self.by_var[literal.var().index()] = Assignment { value: Some(literal.is_positive()), level, reason };
        self.order.push(literal);
    }

    /// Undoes every level above `level`, handing each freed literal to `freed`, last one first.
    pub(crate) fn backjump(&mut self, level: Level, mut freed: impl FnMut(Lit)) {
        if self.level() <= level {
            return;
        }
        let keep = self.starts[level as usize];
        for literal in self.order.drain(keep..).rev() {
            self.by_var[literal.var().index()].value = None;
            self.by_var[literal.var().index()].reason = None;
            freed(literal);
        }
        self.starts.truncate(level as usize);
        self.head = keep;
    }

    /// Tells whether the clause forced one of its literals, so that it must not be dropped.
    pub(crate) fn is_reason(&self, id: ClauseId, first: Lit) -> bool {
        self.value(first) == Some(true) && self.reason_of(first.var()) == Some(id)
    }
}
