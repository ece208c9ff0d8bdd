//! The best set by a general solver, by repeated calls: what our own search is judged by.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use varisat::{ExtendFormula, Lit};
use yostel_documents::PackageName;
use yostel_resolve::{Formula, Resolution};

use crate::World;

/// What a general solver found.
#[derive(Debug)]
pub struct ByGeneralSolver {
    /// The version of each package in the best set (docs/resolution.md §2, newest first); none when there is no set.
    pub best: Option<BTreeMap<PackageName, String>>,
    /// The time until it was known whether there is a set, and until the best was found.
    pub verdict: Duration,
    /// The time until the best was found.
    pub whole: Duration,
}

/// Lists the versions in a set, where each package is there once.
pub fn versions_of(resolution: &Resolution) -> BTreeMap<PackageName, String> {
    let chosen = resolution.chosen.iter();
    chosen.map(|(name, choice)| (name.clone(), choice.release.version.to_string())).collect()
}

/// Solves a whole formula for the verdict, then for the best set: layer by layer, by name, the newest that can hold.
///
/// # Panics
/// When the formula is not one of this world.
pub fn best_by_general_solver(world: &World, formula: &Formula) -> ByGeneralSolver {
    let mut releases: BTreeMap<PackageName, Vec<(String, Lit)>> = BTreeMap::new();
    for line in formula.variables.lines() {
        let mut fields = line.split('\t');
        let (number, kind, text) = (fields.next().unwrap(), fields.next().unwrap(), fields.next().unwrap());
        if kind == "release" {
            let (name, version) = text.split_once(' ').unwrap();
            let releases = releases.entry(PackageName::parse(name).unwrap()).or_default();
            // They are listed newest first.
            releases.push((version.to_owned(), Lit::from_dimacs(number.parse().unwrap())));
        }
    }
    let problem = yostel_check::parse_cnf(&formula.cnf).unwrap();
    let mut general = varisat::Solver::new();
    for clause in &problem.clauses {
        let clause: Vec<Lit> = clause.iter().map(|&l| Lit::from_dimacs(l as isize)).collect();
        general.add_clause(&clause);
    }
    let started = Instant::now();
    let solvable = general.solve().unwrap();
    let verdict = started.elapsed();
    if !solvable {
        return ByGeneralSolver { best: None, verdict, whole: verdict };
    }
    let mut best = BTreeMap::new();
    let mut model: BTreeSet<Lit> = general.model().unwrap().into_iter().collect();
    let mut met: BTreeSet<PackageName> =
        world.requirements.iter().map(|requirement| requirement.package.clone()).collect();
    let mut layer = met.clone();
    while !layer.is_empty() {
        let mut next = BTreeSet::new();
        for name in &layer {
            for (version, literal) in &releases[name] {
                if !model.contains(literal) {
                    general.assume(&[*literal]);
                    if !general.solve().unwrap() {
                        general.add_clause(&[!*literal]);
                        continue;
                    }
                    model = general.model().unwrap().into_iter().collect();
                }
                general.add_clause(&[*literal]);
                best.insert(name.clone(), version.clone());
                let is_it = |release: &&yostel_documents::ListedRelease| release.version.as_str() == version;
                let release = world.documents[name].releases.iter().find(is_it).unwrap();
                next.extend(release.whole().needs.values().flatten().map(|(package, _)| package.clone()));
                break;
            }
        }
        next.retain(|name| met.insert(name.clone()));
        layer = next;
    }
    ByGeneralSolver { best: Some(best), verdict, whole: started.elapsed() }
}
