//! What a call comes to.

use crate::literal::Lit;

/// The verdict of one call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// All clauses and assumptions hold in this model.
    Satisfiable(Model),
    /// These assumptions cannot all hold, sorted; empty when the clauses alone contradict each other.
    Unsatisfiable(Vec<Lit>),
    /// A limit was reached first, or the flag said stop: nothing is known.
    Stopped,
    /// The guide must learn something first. The same call, made next, goes on from there.
    Paused,
}

/// A value for every variable. Variables that were made later, or that a guide left open, are false.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Model(pub(crate) Vec<bool>);

impl Model {
    /// Tells whether the literal is true in this model.
    pub fn is_true(&self, literal: Lit) -> bool {
        self.0.get(literal.var().index()).copied().unwrap_or(false) == literal.is_positive()
    }

    /// Returns the values by variable index.
    pub fn values(&self) -> &[bool] {
        &self.0
    }
}
