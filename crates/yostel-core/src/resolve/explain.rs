//! Why there is no set: a minimal set of wishes that cannot be met together, and the facts that make it so.
//!
//! Every wish and every need of a release gets a switch of its own; the solver blames switches, and dropping them one
//! by one (deletion-based minimal unsatisfiable subset, Marques-Silva 2010) leaves wishes of which none can go, then
//! facts of which none can go.

use std::collections::{BTreeMap, BTreeSet};

use yostel_solver::{Lit, Outcome};

use super::Problem;
use super::encode::{Encoding, all_needs};
use super::known::Known;
use super::objective::best;
use crate::constraint::Accept;
use crate::name::PackageName;
use crate::requirement::Requirement;
use crate::version::Version;

/// Wishes that no resolution meets together; without any one of them there is one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Collision {
    /// The wishes, sorted.
    pub wishes: Vec<Requirement>,
    /// What releases say that makes them collide, in the order in which a reader meets the packages.
    pub facts: Vec<Fact>,
    /// What the constraints in the story admit.
    pub reach: Vec<WithinReach>,
    /// Collisions beside this one that share no wish with it or with each other: ending one leaves the others.
    pub others: Vec<Collision>,
}

/// Releases of one package that all need the same thing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Fact {
    /// The package whose releases ask.
    pub asker: PackageName,
    /// Those releases, rising.
    pub versions: Vec<Version>,
    /// The package they need.
    pub package: PackageName,
    /// Which of its versions will do for them.
    pub accept: Accept,
}

/// Which releases a constraint of the story admits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WithinReach {
    /// The package.
    pub package: PackageName,
    /// The constraint.
    pub accept: Accept,
    /// The releases it admits that may be chosen, rising.
    pub versions: Vec<Version>,
    /// How many more it admits that may not be chosen: withdrawn, or published too late.
    pub barred: usize,
    /// Whether any source has the package.
    pub known: bool,
}

struct Switch {
    on: Lit,
    requirement: Requirement,
}

/// Collisions beside the first that are looked for.
const MOST_OTHERS: usize = 4;

/// Finds a collision, and those that remain when its wishes are set aside.
pub(super) fn collision(problem: &Problem, known: &Known) -> Collision {
    let mut first = one_collision(problem, known);
    let mut rest = problem.clone();
    let mut found = first.wishes.clone();
    while first.others.len() < MOST_OTHERS {
        rest.wishes.retain(|wish| !found.contains(wish));
        if best(&rest, known).is_some() {
            break;
        }
        let other = one_collision(&rest, known);
        found.clone_from(&other.wishes);
        first.others.push(other);
    }
    first
}

fn one_collision(problem: &Problem, known: &Known) -> Collision {
    let mut encoding = Encoding::new(problem, known);
    let switch = |encoding: &mut Encoding<'_>, asker: Option<Lit>, requirement: Requirement| {
        let on = encoding.solver.new_var().positive();
        let mut clause = vec![!on];
        clause.extend(asker);
        if let Some(constraint) = known.bind(&requirement.package, &requirement.accept) {
            let candidates = encoding.packages.get(&requirement.package).map_or(&[][..], |c| &c.releases);
            clause.extend(
                candidates.iter().filter(|(r, _)| constraint.admits(&r.version)).map(|(_, var)| var.positive()),
            );
        }
        encoding.solver.add_clause(&clause);
        Switch { on, requirement }
    };
    let wishes: Vec<Switch> = problem.wishes.iter().map(|wish| switch(&mut encoding, None, wish.clone())).collect();
    let needs: Vec<Switch> = all_needs(&encoding)
        .into_iter()
        .map(|(var, requirement)| switch(&mut encoding, Some(var.negative()), requirement))
        .collect();
    let all: Vec<Lit> = wishes.iter().chain(&needs).map(|switch| switch.on).collect();
    let core = blamed(&mut encoding, &all).unwrap_or_default();
    // Wishes first: as few as can be is what a reader has to hold in mind.
    let is_wish: BTreeSet<Lit> = wishes.iter().map(|switch| switch.on).collect();
    let need_switches: Vec<Lit> = needs.iter().map(|switch| switch.on).collect();
    let kept_wishes =
        minimise(&mut encoding, core.iter().copied().filter(|l| is_wish.contains(l)).collect(), &need_switches);
    let with_wishes: Vec<Lit> = kept_wishes.iter().chain(&need_switches).copied().collect();
    let core = blamed(&mut encoding, &with_wishes).unwrap_or_default();
    let kept_needs =
        minimise(&mut encoding, core.iter().copied().filter(|l| !is_wish.contains(l)).collect(), &kept_wishes);
    let pick = |switches: &[Switch], kept: &[Lit]| -> Vec<Requirement> {
        let kept: BTreeSet<Lit> = kept.iter().copied().collect();
        switches.iter().filter(|s| kept.contains(&s.on)).map(|s| s.requirement.clone()).collect()
    };
    tell(pick(&wishes, &kept_wishes), pick(&needs, &kept_needs), problem, known)
}

/// Returns the switches to blame when all of `on` cannot hold together, or nothing when they can.
fn blamed(encoding: &mut Encoding<'_>, on: &[Lit]) -> Option<Vec<Lit>> {
    match encoding.solver.solve(on) {
        Outcome::Unsatisfiable(core) => Some(core),
        Outcome::Satisfiable(_) | Outcome::Stopped => None,
    }
}

/// Drops, from the last, every candidate without which the rest (and `fixed`) still cannot hold.
fn minimise(encoding: &mut Encoding<'_>, candidates: Vec<Lit>, fixed: &[Lit]) -> Vec<Lit> {
    let mut kept = candidates;
    kept.sort_unstable();
    let mut at = kept.len();
    while at > 0 {
        at -= 1;
        let dropped = kept[at];
        let trial: Vec<Lit> = kept.iter().copied().filter(|l| *l != dropped).chain(fixed.iter().copied()).collect();
        if let Some(core) = blamed(encoding, &trial) {
            kept.retain(|l| *l != dropped && core.contains(l));
            at = at.min(kept.len());
        }
    }
    kept
}

/// Joins needs of several releases into facts and orders them as a reader follows them from the wishes.
fn tell(wishes: Vec<Requirement>, needs: Vec<Requirement>, problem: &Problem, known: &Known) -> Collision {
    let mut joined: BTreeMap<(PackageName, PackageName, Accept), Vec<Version>> = BTreeMap::new();
    for need in needs {
        if let crate::Asker::Release(asker, version) = need.asker {
            joined.entry((asker, need.package, need.accept)).or_default().push(version);
        }
    }
    let mut rest: Vec<Fact> = joined
        .into_iter()
        .map(|((asker, package, accept), mut versions)| {
            versions.sort();
            Fact { asker, versions, package, accept }
        })
        .collect();
    let mut met: BTreeSet<PackageName> = wishes.iter().map(|wish| wish.package.clone()).collect();
    let mut facts: Vec<Fact> = Vec::new();
    while !rest.is_empty() {
        let at = rest.iter().position(|fact| met.contains(&fact.asker)).unwrap_or(0);
        let fact = rest.remove(at);
        met.insert(fact.package.clone());
        facts.push(fact);
    }
    let mut reach: Vec<WithinReach> = Vec::new();
    let said = wishes.iter().map(|w| (&w.package, &w.accept)).chain(facts.iter().map(|f| (&f.package, &f.accept)));
    for (package, accept) in said {
        if reach.iter().any(|r| r.package == *package && r.accept == *accept) {
            continue;
        }
        let constraint = known.bind(package, accept);
        let releases = known.document(package).map_or(&[][..], |document| &document.releases);
        let admitted = releases.iter().filter(|r| constraint.as_ref().is_some_and(|c| c.admits(&r.version)));
        let (open, barred): (Vec<_>, Vec<_>) = admitted.partition(|release| problem.may_choose(package, release));
        reach.push(WithinReach {
            package: package.clone(),
            accept: accept.clone(),
            versions: open.iter().map(|release| release.version.clone()).collect(),
            barred: barred.len(),
            known: known.document(package).is_some(),
        });
    }
    Collision { wishes, facts, reach, others: Vec::new() }
}
