//! Which of the sets that exist is *the* set: docs/resolution.md §2, carried out by assumptions over one solver.
//!
//! First the fewest packages moved, provably; of such sets the one that keeps the first by name; then direct needs as new
//! as can be, by name; then what came along, nearest first. Every question is one call of the solver, and each answer is
//! made a fact before the next question, so what was learned is reused.

use std::collections::{BTreeMap, BTreeSet};

use yostel_solver::{Lit, Model, Outcome, Stats, Var};

use super::encode::{Encoding, at_most};
use super::known::Known;
use super::{Choice, Problem, Resolution, requirements_of};
use crate::name::PackageName;
use crate::release::Release;
use crate::version::Version;

/// Returns the best resolution, or nothing when there is none at all.
pub(super) fn best(problem: &Problem, known: &Known) -> Option<Resolution> {
    best_with_stats(problem, known).0
}

/// The same, with what the search did.
pub(super) fn best_with_stats(problem: &Problem, known: &Known) -> (Option<Resolution>, Stats) {
    let mut encoding = Encoding::new(problem, known);
    let resolution = search(problem, known, &mut encoding);
    (resolution, encoding.solver.stats())
}

fn search<'k>(problem: &Problem, known: &'k Known, encoding: &mut Encoding<'k>) -> Option<Resolution> {
    for wish in &problem.wishes {
        let clause = encoding.admitted(&wish.package, &wish.accept);
        encoding.solver.add_clause(&clause);
    }
    encoding.require_needs();
    // The preferred first is a good guess at the best set; a guess changes how soon it is found, never which it is.
    for candidates in encoding.packages.values() {
        if let Some((_, preferred)) = candidates.releases.first() {
            encoding.solver.prefer(preferred.positive());
        }
    }
    let model = solve(encoding, &[])?;
    let mut search = Search { encoding, model };
    search.keep(&problem.keep, known);
    let mut chosen: BTreeMap<PackageName, Choice> = BTreeMap::new();
    let mut layer: BTreeSet<PackageName> = problem.wishes.iter().map(|wish| wish.package.clone()).collect();
    while !layer.is_empty() {
        let mut next = BTreeSet::new();
        for name in &layer {
            let release = search.preferred(name)?;
            let choice = Choice {
                release: release.clone(),
                numbering: known.document(name)?.numbering,
                source: known.source(name)?.clone(),
            };
            next.extend(requirements_of(name, release).into_iter().map(|r| r.package));
            chosen.insert(name.clone(), choice);
        }
        next.retain(|name| !chosen.contains_key(name));
        layer = next;
    }
    Some(Resolution { chosen })
}

struct Search<'e, 'k> {
    encoding: &'e mut Encoding<'k>,
    /// A model of all facts so far.
    model: Model,
}

impl<'k> Search<'_, 'k> {
    /// Finds the fewest packages that must leave the version to keep, and makes which they are a fact.
    ///
    /// The fewest are found from below (MSU3, Marques-Silva and Planes 2007): assume that none moves; while that cannot
    /// hold, the packages to blame may move, one more of them than before. So the first number that can hold is the least.
    fn keep(&mut self, keep: &BTreeMap<PackageName, Version>, known: &Known) {
        let moved: Vec<Lit> = keep
            .iter()
            .filter(|(name, version)| known.document(name).is_some_and(|document| document.release(version).is_some()))
            .filter_map(|(name, version)| self.moved(name, version))
            .collect();
        let mut may_move: BTreeSet<Lit> = BTreeSet::new();
        let mut most = 0;
        let mut bound: Option<Lit> = None;
        loop {
            let mut assumptions: Vec<Lit> = moved.iter().filter(|m| !may_move.contains(m)).map(|m| !*m).collect();
            assumptions.extend(bound);
            match self.encoding.solver.solve(&assumptions) {
                Outcome::Satisfiable(model) => {
                    self.model = model;
                    break;
                }
                Outcome::Unsatisfiable(core) => {
                    may_move.extend(core.iter().map(|l| !*l).filter(|m| moved.contains(m)));
                    most += 1;
                    let candidates: Vec<Lit> = may_move.iter().copied().collect();
                    bound = at_most(&mut self.encoding.solver, &candidates, most);
                }
                Outcome::Stopped => unreachable!("no conflict limit is set"),
            }
        }
        // Any packages may be the ones that move, so the bound is now over all of them.
        if let Some(bound) = at_most(&mut self.encoding.solver, &moved, most) {
            self.encoding.solver.add_clause(&[bound]);
        }
        for m in moved {
            if !self.model.is_true(m) || self.hold(!m) {
                self.encoding.solver.add_clause(&[!m]);
            }
        }
    }

    /// Makes the literal that is true when the package is there at another version; none when it cannot be there at all.
    fn moved(&mut self, name: &PackageName, version: &Version) -> Option<Lit> {
        let candidates = self.encoding.packages.get(name)?;
        let others: Vec<Var> =
            candidates.releases.iter().filter(|(r, _)| r.version != *version).map(|(_, var)| *var).collect();
        let moved = self.encoding.solver.new_var().positive();
        for var in &others {
            self.encoding.solver.add_clause(&[var.negative(), moved]);
        }
        Some(moved)
    }

    /// Finds the preferred release that the package can have under all facts so far, and makes it a fact.
    fn preferred(&mut self, name: &PackageName) -> Option<&'k Release> {
        let candidates: Vec<(&'k Release, Var)> = self.encoding.packages.get(name)?.releases.clone();
        for (release, var) in candidates {
            if self.model.is_true(var.positive()) || self.hold(var.positive()) {
                self.encoding.solver.add_clause(&[var.positive()]);
                return Some(release);
            }
            self.encoding.solver.add_clause(&[var.negative()]);
        }
        None
    }

    /// Tells whether a literal can hold beside all facts, and if so takes over the model that shows it.
    fn hold(&mut self, literal: Lit) -> bool {
        match solve(self.encoding, &[literal]) {
            Some(model) => {
                self.model = model;
                true
            }
            None => false,
        }
    }
}

fn solve(encoding: &mut Encoding<'_>, assumptions: &[Lit]) -> Option<Model> {
    match encoding.solver.solve(assumptions) {
        Outcome::Satisfiable(model) => Some(model),
        Outcome::Unsatisfiable(_) => None,
        Outcome::Stopped => unreachable!("no conflict limit is set"),
    }
}
