//! Why there is no set: a minimal set of needs that cannot be met together, and the facts that make it so.
//!
//! The solver blames needs, and dropping them one by one (deletion-based minimal unsatisfiable subset, Marques-Silva
//! 2010) leaves some of which none can go. Then every need of a release that was looked at gets a switch of its own, and
//! the same leaves facts of which none can go.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Requirement, Word, run_purpose};
use yostel_solver::{Lit, Outcome};

use crate::collision::{Collision, RoleClash, Switched, tell};
use crate::encode::Encoding;
use crate::known::Halt;
use crate::known::{Known, PackageId};
use crate::problem::Problem;

/// Collisions beside the first that are looked for.
const MOST_OTHERS: usize = 99;

/// Collisions beside the first that share needs with others; there can be very many of those.
const MOST_OVERLAPPING: usize = 7;

/// Literals that making an explanation smaller may force: some seconds.
const MOST_FORCED: u64 = 10_000_000;

/// Conflicts that one question of that may cost.
const MOST_CONFLICTS: u64 = 2_000;

/// Finds a collision, and others beside it: those that remain when its needs are set aside, and then those that share
/// some of its needs, or of another's.
///
/// # Errors
/// [`Halt::Missing`]: packages must arrive first; start anew then. Once it is told to stop, it tells what is known by then.
pub(super) fn collision(problem: &Problem, known: &mut Known) -> Result<Collision, Halt> {
    let mut patience = Patience(MOST_FORCED);
    let mut first = one_collision(problem, known, &mut patience)?;
    // What is beside it is worth as much again.
    let mut patience = Patience(MOST_FORCED);
    let mut found: Vec<Vec<Requirement>> = vec![first.requirements.clone()];
    let mut without = |out: &BTreeSet<&Requirement>, patience: &mut Patience| {
        let requirements = problem.requirements.iter().filter(|requirement| !out.contains(requirement));
        let rest = Problem { requirements: requirements.cloned().collect(), ..problem.clone() };
        match collides(&rest, known, patience) {
            Ok(true) => one_collision(&rest, known, patience).map(Some),
            // Those that are known will do.
            Ok(false) | Err(Halt::Stopped) => Ok(None),
            Err(Halt::Missing) => Err(Halt::Missing),
        }
    };
    while first.others.len() < MOST_OTHERS && patience.0 > 0 {
        let out = found.iter().flatten().collect();
        let Some(other) = without(&out, &mut patience)? else { break };
        found.push(other.requirements.clone());
        first.others.push(other);
    }
    let apart = found.len();
    let mut at = 0;
    while at < found.len() && found.len() < apart + MOST_OVERLAPPING && patience.0 > 0 {
        for need in found[at].clone() {
            // Whatever is left of the others is set aside too, so what is found is none of them.
            let kept: BTreeSet<&Requirement> = found[at].iter().filter(|other| **other != need).collect();
            let out = found.iter().flatten().filter(|other| !kept.contains(other)).collect();
            let Some(other) = without(&out, &mut patience)? else { continue };
            found.push(other.requirements.clone());
            first.others.push(other);
            if found.len() == apart + MOST_OVERLAPPING {
                break;
            }
        }
        at += 1;
    }
    first.more = patience.0 == 0 || at < found.len();
    Ok(first)
}

/// Tells whether needs collide, as far as patience goes.
fn collides(problem: &Problem, known: &mut Known, patience: &mut Patience) -> Result<bool, Halt> {
    let mut encoding = Encoding::new(known);
    let mut needs = Vec::new();
    for requirement in &problem.requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        needs.push(encoding.need(need, problem, known));
    }
    let answer = patience.ask(&mut encoding, |encoding| encoding.solve_or_blame(&needs, problem, known))?;
    Ok(matches!(answer, Some(Err(_))))
}

fn one_collision(problem: &Problem, known: &mut Known, patience: &mut Patience) -> Result<Collision, Halt> {
    let requirements = colliding_requirements(problem, known, patience)?;
    let facts = colliding_facts(&requirements, problem, known, patience);
    let minimal = patience.0 > 0;
    Ok(Collision { minimal, ..tell(requirements, facts, problem, known) })
}

/// Literals that making an explanation smaller may still force.
struct Patience(u64);

impl Patience {
    /// Asks a question unless patience is at its end, which counts as "not known".
    fn ask<T>(
        &mut self,
        encoding: &mut Encoding,
        ask: impl FnOnce(&mut Encoding) -> Result<T, Halt>,
    ) -> Result<Option<T>, Halt> {
        if self.0 == 0 {
            return Ok(None);
        }
        let before = encoding.solver.stats().propagations;
        encoding.solver.limit_conflicts(Some(MOST_CONFLICTS));
        let answer = ask(encoding);
        self.0 = self.0.saturating_sub(encoding.solver.stats().propagations - before);
        match answer {
            Ok(answer) => Ok(Some(answer)),
            Err(Halt::Stopped) => {
                self.0 = 0;
                Ok(None)
            }
            Err(Halt::Missing) => Err(Halt::Missing),
        }
    }
}

/// Finds needs that collide and of which none can go: as few as can be is what a reader has to hold in mind.
fn colliding_requirements(
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Result<Vec<Requirement>, Halt> {
    let mut encoding = Encoding::new(known);
    let mut switches: BTreeMap<Lit, Vec<&Requirement>> = BTreeMap::new();
    for requirement in &problem.requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        switches.entry(encoding.need(need, problem, known)).or_default().push(requirement);
    }
    let all: Vec<Lit> = switches.keys().copied().collect();
    let kept = minimise(&all, |on| {
        if on.len() == all.len() {
            // This much must be known, whatever it takes, unless nobody waits for it any more: that all of them collide is
            // known already.
            return match encoding.solve_or_blame(on, problem, known) {
                Err(Halt::Stopped) => {
                    patience.0 = 0;
                    Ok(Some(on.to_vec()))
                }
                answer => Ok(answer?.err()),
            };
        }
        let answer = patience.ask(&mut encoding, |encoding| encoding.solve_or_blame(on, problem, known))?;
        Ok(answer.and_then(Result::err))
    })?;
    // Of two needs that say the same of one package, one is enough.
    Ok(switches
        .into_iter()
        .filter(|(on, _)| kept.contains(on))
        .filter_map(|(_, of)| of.first().copied().cloned())
        .collect())
}

/// Finds, among what the releases that were looked at need, facts that make the needs collide and of which none can
/// go. What was looked at is enough: the collision was found with it.
fn colliding_facts(
    requirements: &[Requirement],
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Vec<Switched> {
    let mut encoding = Encoding::new(known);
    for requirement in requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        let need = encoding.need(need, problem, known);
        encoding.solver.add_clause(&[need]);
    }
    let mut switches: BTreeMap<Lit, Switched> = BTreeMap::new();
    let mut fillers: BTreeMap<&Word, Vec<(PackageId, Lit)>> = BTreeMap::new();
    for (id, _) in known.documents() {
        for (at, release, needs) in known.looked_at(id) {
            let Some(asker) = encoding.release(id, at, problem, known) else { continue };
            for role in known.roles_of(id, at).iter().filter(|role| !problem.rules.shared_roles.contains(*role)) {
                let of_role = fillers.entry(role).or_default();
                let fills = match of_role.last() {
                    Some((package, fills)) if *package == id => *fills,
                    _ => {
                        let fills = encoding.helper();
                        of_role.push((id, fills));
                        fills
                    }
                };
                encoding.solver.add_clause(&[!asker, fills]);
            }
            for &need in needs {
                let (package, accept) = known.text_of(need);
                let requirement = Requirement {
                    asker: Asker::Release(known.name(id).clone(), release.version.clone()),
                    package: package.clone(),
                    accept: accept.clone(),
                    purpose: run_purpose(),
                };
                let (on, need) = (encoding.helper(), encoding.need(need, problem, known));
                encoding.solver.add_clause(&[!on, !asker, need]);
                switches.insert(on, Switched::Need(requirement));
            }
        }
    }
    for (role, of_role) in fillers {
        for (at, (one, fills)) in of_role.iter().enumerate() {
            for (other, also) in &of_role[at + 1..] {
                let on = encoding.helper();
                encoding.solver.add_clause(&[!on, !*fills, !*also]);
                let (one, other) = (known.name(*one).clone(), known.name(*other).clone());
                switches.insert(on, Switched::Role(RoleClash { role: role.clone(), one, other }));
            }
        }
    }
    let all: Vec<Lit> = switches.keys().copied().collect();
    let solve = |encoding: &mut Encoding, on: &[Lit]| match encoding.solver.solve(on) {
        Outcome::Unsatisfiable(core) => Ok(Some(core)),
        Outcome::Satisfiable(_) | Outcome::Paused => Ok(None),
        Outcome::Stopped => Err(Halt::Stopped),
    };
    let blamed = |on: &[Lit]| {
        if on.len() == all.len() {
            encoding.solver.limit_conflicts(None);
            return solve(&mut encoding, on).inspect_err(|_| patience.0 = 0);
        }
        Ok(patience.ask(&mut encoding, |encoding| solve(encoding, on))?.flatten())
    };
    let kept = minimise(&all, blamed).unwrap_or_default();
    kept.iter().filter_map(|on| switches.remove(on)).collect()
}

/// Drops, from the last, every candidate without which the rest still cannot hold. `blamed` says which of some
/// candidates cannot hold together, or nothing when they can.
fn minimise(
    candidates: &[Lit],
    mut blamed: impl FnMut(&[Lit]) -> Result<Option<Vec<Lit>>, Halt>,
) -> Result<Vec<Lit>, Halt> {
    let mut kept = blamed(candidates)?.unwrap_or_default();
    kept.sort_unstable();
    let mut at = kept.len();
    while at > 0 {
        at -= 1;
        let dropped = kept[at];
        let trial: Vec<Lit> = kept.iter().copied().filter(|l| *l != dropped).collect();
        if let Some(core) = blamed(&trial)? {
            kept.retain(|l| core.contains(l));
            at = at.min(kept.len());
        }
    }
    Ok(kept)
}
