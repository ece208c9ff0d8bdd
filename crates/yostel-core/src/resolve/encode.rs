//! From packages to clauses.
//!
//! One variable a release that may be chosen: true = chosen. A requirement becomes "not the asker, or one of the
//! releases admitted". At most one release a package, by a ladder of helper variables that stays linear in the number of
//! releases (the sequential counter of Sinz 2005).

use std::collections::BTreeMap;

use yostel_solver::{Lit, Solver, Var};

use super::known::{Known, NeedId};
use super::{Prefer, Problem, requirements_of};
use crate::constraint::Accept;
use crate::name::PackageName;
use crate::release::Release;
use crate::requirement::Requirement;

/// The releases of a package that may be chosen, the preferred first, each with its variable.
pub(super) struct Candidates<'k> {
    pub(super) releases: Vec<(&'k Release, Var)>,
}

/// A problem as clauses, and the way back.
pub(super) struct Encoding<'k> {
    pub(super) solver: Solver,
    pub(super) packages: BTreeMap<&'k PackageName, Candidates<'k>>,
    known: &'k Known,
    /// By package and release: its variable, when it may be chosen.
    variables: Vec<Vec<Option<Var>>>,
    /// By need: the releases that would meet it, once that was asked.
    meets: Vec<Option<Vec<Lit>>>,
}

impl<'k> Encoding<'k> {
    /// Makes the variables and the rule of one release a package. Requirements come separately.
    pub(super) fn new(problem: &Problem, known: &'k Known) -> Self {
        Self::with_solver(problem, known, Solver::default())
    }

    /// The same, for a solver with settings of its own.
    ///
    /// Only releases in reach get a variable: no need that could ever count admits another.
    pub(super) fn with_solver(problem: &Problem, known: &'k Known, mut solver: Solver) -> Self {
        let mut packages = BTreeMap::new();
        let (package_count, need_count, _) = known.counts();
        let mut variables = vec![Vec::new(); package_count];
        for (name, id, document) in known.documents() {
            let mut open: Vec<(usize, &Release)> = known
                .looked_at(id)
                .filter(|(_, release, _)| problem.may_choose(name, release))
                .map(|(at, release, _)| (at, release))
                .collect();
            if problem.rules.prefer == Prefer::Newest {
                open.reverse();
            }
            let mut by_release = vec![None; document.releases.len()];
            let mut releases = Vec::with_capacity(open.len());
            for (at, release) in open {
                let var = solver.new_var();
                by_release[at] = Some(var);
                releases.push((release, var));
            }
            let chosen: Vec<Var> = releases.iter().map(|(_, var)| *var).collect();
            at_most_one(&mut solver, &chosen);
            variables[id.index()] = by_release;
            packages.insert(name, Candidates { releases });
        }
        Self { solver, packages, known, variables, meets: vec![None; need_count] }
    }

    /// Adds the needs of every release that may be chosen.
    pub(super) fn require_needs(&mut self) {
        let known = self.known;
        let mut clause = Vec::new();
        for (_, id, _) in known.documents() {
            for (at, _, needs) in known.looked_at(id) {
                let Some(var) = self.variables[id.index()][at] else { continue };
                for &need in needs {
                    clause.clear();
                    clause.push(var.negative());
                    clause.extend_from_slice(self.meet(need));
                    self.solver.add_clause(&clause);
                }
            }
        }
    }

    /// Returns the releases that meet a need, as literals; empty when the package or the text makes no sense.
    fn meet(&mut self, need: NeedId) -> &[Lit] {
        let (known, variables) = (self.known, &self.variables);
        self.meets[need.index()].get_or_insert_with(|| {
            let (package, admitted) = known.admitted(need);
            let of_package = &variables[package.index()];
            admitted.iter().filter_map(|&at| of_package[at as usize]).map(Var::positive).collect()
        })
    }

    /// Returns the releases that a wish admits, as literals; empty when the package or the text makes no sense.
    pub(super) fn admitted(&self, package: &PackageName, accept: &Accept) -> Vec<Lit> {
        let Some(constraint) = self.known.bind(package, accept) else { return Vec::new() };
        let releases = self.packages.get(package).map_or(&[][..], |candidates| &candidates.releases);
        releases.iter().filter(|(r, _)| constraint.admits(&r.version)).map(|(_, var)| var.positive()).collect()
    }
}

/// Lists what every release that may be chosen needs; for the explanation, which marks each need.
pub(super) fn all_needs(encoding: &Encoding<'_>) -> Vec<(Var, Requirement)> {
    encoding
        .packages
        .iter()
        .flat_map(|(name, candidates)| {
            candidates.releases.iter().flat_map(|(release, var)| {
                requirements_of(name, release).into_iter().map(|requirement| (*var, requirement))
            })
        })
        .collect()
}

/// Returns a literal that, while it is true, lets at most `most` of the literals be true; none when all may be.
///
/// A sequential counter (Sinz 2005): after each literal, one variable for "at least so many so far", up to `most`.
pub(super) fn at_most(solver: &mut Solver, literals: &[Lit], most: usize) -> Option<Lit> {
    if literals.len() <= most {
        return None;
    }
    let within = solver.new_var().positive();
    let mut counts: Vec<Lit> = Vec::new();
    for &literal in literals {
        if counts.len() >= most {
            // One more than `most` would be true.
            let mut clause = vec![!within, !literal];
            clause.extend(counts.last().map(|full| !*full));
            solver.add_clause(&clause);
        }
        let next: Vec<Lit> = (0..most.min(counts.len() + 1)).map(|_| solver.new_var().positive()).collect();
        for (i, &count) in next.iter().enumerate() {
            match i.checked_sub(1).map(|below| counts[below]) {
                None => solver.add_clause(&[!literal, count]),
                Some(below) => solver.add_clause(&[!literal, !below, count]),
            }
            if let Some(&before) = counts.get(i) {
                solver.add_clause(&[!before, count]);
            }
        }
        counts = next;
    }
    Some(within)
}

fn at_most_one(solver: &mut Solver, variables: &[Var]) {
    let Some((first, rest)) = variables.split_first() else { return };
    if rest.is_empty() {
        return;
    }
    // `taken` is true when one of the variables so far is.
    let mut taken = solver.new_var();
    solver.add_clause(&[first.negative(), taken.positive()]);
    for (i, variable) in rest.iter().enumerate() {
        solver.add_clause(&[variable.negative(), taken.negative()]);
        if i + 1 < rest.len() {
            let next = solver.new_var();
            solver.add_clause(&[taken.negative(), next.positive()]);
            solver.add_clause(&[variable.negative(), next.positive()]);
            taken = next;
        }
    }
}
