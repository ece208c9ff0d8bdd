//! A problem that grows while it is searched: who states it looks at each partial answer before the search goes on.
//!
//! The idea is that of lazily stated theories (Ganzinger et al. 2004, DPLL(T)): between two decisions the guide sees what is
//! true, may state clauses that follow from that, and says what to decide next, or that what is true will do.

use crate::literal::{Lit, Var};
use crate::solver::Solver;

/// States a problem bit by bit, as far as the search gets.
pub trait Guide {
    /// Looks at what is true and says how to go on. Called when all that is true was propagated and nothing is
    /// falsified. `undone_to` is the least length the trail had since the last call.
    fn next(&mut self, search: &mut Searching<'_>, undone_to: usize) -> Advice;
}

/// How to go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Advice {
    /// Clauses were stated: propagate, and ask again.
    Again,
    /// Decide any variable that took part in a conflict and was true when it last had a value; when there is none, this
    /// literal, which is open.
    Decide(Lit),
    /// Decide this literal, which is open.
    DecideThis(Lit),
    /// Decide whatever the search likes, until every variable has a value.
    Any,
    /// What is true is a model, once all that is open is false.
    Enough,
    /// Stop here: [`crate::Outcome::Paused`].
    Pause,
}

/// A search under way, as its guide sees it.
#[derive(Debug)]
pub struct Searching<'s>(pub(crate) &'s mut Solver);

impl Searching<'_> {
    /// Returns what is true, in the order in which it became so.
    pub fn trail(&self) -> &[Lit] {
        self.0.trail_literals()
    }

    /// Returns a literal's value, when it has one.
    pub fn value(&self, literal: Lit) -> Option<bool> {
        self.0.value(literal)
    }

    /// Tells whether what took part in no conflict is to be decided first, by [`Advice::DecideThis`]: the search takes turns
    /// with both ways, since each is far better than the other for some problems.
    pub fn is_calm_first(&self) -> bool {
        self.0.is_calm_first()
    }

    /// Tells whether a variable took part in a conflict.
    pub fn is_active(&self, literal: Lit) -> bool {
        self.0.is_active(literal)
    }

    /// Adds a variable.
    pub fn new_var(&mut self) -> Var {
        self.0.new_var()
    }

    /// As [`Solver::new_group`].
    pub fn new_group(&mut self, size: usize) -> Var {
        self.0.new_group(size)
    }

    /// As [`Solver::exclude`].
    pub fn exclude(&mut self, var: Var, spans: &[std::ops::Range<usize>]) {
        self.0.exclude(var, spans);
    }

    /// As [`Solver::prefer`].
    pub fn prefer(&mut self, literal: Lit) {
        self.0.prefer(literal);
    }

    /// Adds a clause that holds from now on. When all of its literals but one are false, or all, the search goes back to
    /// where that would have had a consequence.
    pub fn add_clause(&mut self, literals: &[Lit]) {
        self.0.add_clause_in_search(literals);
    }
}

/// Leaves all to the search.
pub(crate) struct NoGuide;

impl Guide for NoGuide {
    fn next(&mut self, _: &mut Searching<'_>, _: usize) -> Advice {
        Advice::Any
    }
}
