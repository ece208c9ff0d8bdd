//! What a trial found out.

use std::collections::BTreeSet;

use yostel_solver::Lit;

/// What a trial found out, in the order in which it did: assumed in each further question, and forgotten with the trial.
///
/// The needs come first: where one of the hopes to keep what is locked fails, the solver holds what is before it, and that
/// hope need only be left out.
#[derive(Debug, Default)]
pub(crate) struct Assumed {
    needs: Vec<Lit>,
    kept: Vec<Lit>,
    found: Vec<Lit>,
    all: BTreeSet<Lit>,
}

impl Assumed {
    /// Takes in what is needed; two needs may come to the same.
    pub(crate) fn need(&mut self, need: Lit) {
        if self.all.insert(need) {
            self.needs.push(need);
        }
    }

    /// Takes in what is kept, once that is known.
    pub(crate) fn keep(&mut self, kept: Vec<Lit>) {
        self.all.extend(&kept);
        self.kept = kept;
    }

    /// Takes in whatever else was found.
    pub(crate) fn add(&mut self, literal: Lit) {
        if self.all.insert(literal) {
            self.found.push(literal);
        }
    }

    /// Tells whether this is assumed.
    pub(crate) fn has(&self, literal: Lit) -> bool {
        self.all.contains(&literal)
    }

    /// Returns all of it, and what else is to hold.
    pub(crate) fn and(&self, more: &[Lit]) -> Vec<Lit> {
        [&self.needs, &self.kept, &self.found, more].concat()
    }

    /// Returns what is needed, and what one hopes to keep.
    pub(crate) fn hoping(&self, hopes: &[Lit]) -> Vec<Lit> {
        [&self.needs, hopes].concat()
    }
}
