//! Which of the sets that exist is *the* set: docs/resolution.md §2, carried out by assumptions over one solver.
//!
//! First as many versions kept as can be, one package after the other by name; then direct needs as new as can be, by
//! name; then what came along, nearest first. Every question is one call of the solver, and each answer is made a fact
//! before the next question, so what was learned is reused.

use std::collections::{BTreeMap, BTreeSet};

use yostel_solver::{Lit, Model, Outcome, Var};

use super::encode::Encoding;
use super::{Choice, Known, Problem, Resolution, requirements_of};
use crate::name::PackageName;
use crate::release::Release;
use crate::version::Version;

/// Returns the best resolution, or nothing when there is none at all.
pub(super) fn best(problem: &Problem, known: &Known) -> Option<Resolution> {
    let mut encoding = Encoding::new(problem, known);
    for wish in &problem.wishes {
        let name = known.names().find(|name| **name == wish.package)?;
        let clause = encoding.admitted(name, &wish.accept).to_vec();
        encoding.solver.add_clause(&clause);
    }
    encoding.require_needs();
    // Newest first is a good guess at the best set; a guess changes how soon it is found, never which it is.
    for candidates in encoding.packages.values() {
        if let Some((_, newest)) = candidates.releases.first() {
            encoding.solver.prefer(newest.positive());
        }
    }
    let model = solve(&mut encoding, &[])?;
    let mut search = Search { encoding, model };
    search.keep(&problem.keep);
    let mut chosen: BTreeMap<PackageName, Choice> = BTreeMap::new();
    let mut layer: BTreeSet<PackageName> = problem.wishes.iter().map(|wish| wish.package.clone()).collect();
    while !layer.is_empty() {
        let mut next = BTreeSet::new();
        for name in &layer {
            let release = search.newest(name)?;
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

struct Search<'k> {
    encoding: Encoding<'k>,
    /// A model of all facts so far.
    model: Model,
}

impl<'k> Search<'k> {
    /// Makes each version to keep a fact where that is possible: the package has it or is not there.
    fn keep(&mut self, keep: &BTreeMap<PackageName, Version>) {
        for (name, version) in keep {
            let Some(candidates) = self.encoding.packages.get(name) else { continue };
            let others: Vec<Var> =
                candidates.releases.iter().filter(|(r, _)| r.version != *version).map(|(_, var)| *var).collect();
            if others.len() == candidates.releases.len() {
                continue;
            }
            let moved = self.encoding.solver.new_var();
            for var in &others {
                self.encoding.solver.add_clause(&[var.negative(), moved.positive()]);
            }
            if self.hold(moved.negative()) {
                self.encoding.solver.add_clause(&[moved.negative()]);
            }
        }
    }

    /// Finds the newest release that the package can have under all facts so far, and makes it a fact.
    fn newest(&mut self, name: &PackageName) -> Option<&'k Release> {
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
        match solve(&mut self.encoding, &[literal]) {
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
