//! Why there is no set: a minimal set of needs that cannot be met together, and the facts that make it so.
//!
//! The solver blames needs, and dropping them one by one (deletion-based minimal unsatisfiable subset, Marques-Silva
//! 2010) leaves some of which none can go. Then every need of a release that was looked at gets a switch of its own, and
//! the same leaves facts of which none can go.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Requirement, Word, run_purpose};
use yostel_solver::Lit;

use crate::collision::{Collision, Minimality, RoleClash, Switched, tell};
use crate::encode::Encoding;
use crate::known::Halt;
use crate::known::{Known, PackageId};
use crate::problem::Problem;

/// Collisions beside the first that are looked for.
const MOST_OTHERS: usize = 99;

/// Collisions beside the first that share needs with others; there can be very many of those.
const MOST_OVERLAPPING: usize = 7;

/// Literals that making an explanation smaller may force: about a second.
const MOST_FORCED: u64 = 3_000_000;

/// Literals that looking for others beside it may force.
const MOST_FORCED_BESIDE: u64 = 1_000_000;

/// Finds a collision, and others beside it: those that remain when its needs are set aside, and then those that share
/// some of its needs, or of another's. `verdict` is how many literals were forced until it was known that there is one: to
/// find out once more, with what is to blame, may take as many.
///
/// # Errors
/// [`Halt::Missing`]: packages must arrive first; start anew then. Once it is told to stop, it tells what is known by then.
pub(super) fn collision(problem: &Problem, known: &mut Known, verdict: u64) -> Result<Collision, Halt> {
    let mut patience = Patience::new(MOST_FORCED, verdict);
    let mut first = one_collision(problem, known, &mut patience)?;
    let mut patience = Patience::new(MOST_FORCED_BESIDE, 0);
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
    while first.others.len() < MOST_OTHERS && patience.left > 0 {
        let out = found.iter().flatten().collect();
        let Some(other) = without(&out, &mut patience)? else { break };
        found.push(other.requirements.clone());
        first.others.push(other);
    }
    let apart = found.len();
    let mut at = 0;
    while at < found.len() && found.len() < apart + MOST_OVERLAPPING && patience.left > 0 {
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
    first.more = patience.left == 0 || at < found.len();
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
    let answer = patience.ask(known, |known| encoding.solve_or_blame(&needs, problem, known))?;
    Ok(matches!(answer, Some(Err(_))))
}

fn one_collision(problem: &Problem, known: &mut Known, patience: &mut Patience) -> Result<Collision, Halt> {
    patience.is_sure = true;
    let mut requirements = colliding_requirements(problem, known, patience)?;
    let needed = std::mem::replace(&mut patience.is_sure, true);
    let facts = colliding_facts(&mut requirements, needed, problem, known, patience)?;
    let minimal = match (needed, patience.is_sure) {
        (true, true) => Minimality::Shown,
        (false, true) => Minimality::AsTold,
        (_, false) => Minimality::Unknown,
    };
    Ok(Collision { minimal, ..tell(requirements, facts, problem, known) })
}

/// Literals that making an explanation smaller may still force. Work is counted, not time, so that the same is told on every
/// machine.
struct Patience {
    left: u64,
    /// Literals that one question may force.
    a_question: u64,
    /// Literals that the first question may force: whether all that is to blame collides, and how, must be known.
    first: u64,
    /// Whether each question was answered.
    is_sure: bool,
}

impl Patience {
    fn new(most: u64, verdict: u64) -> Self {
        Self { left: most, a_question: most / 3, first: verdict.max(most / 3), is_sure: true }
    }

    /// Asks whether a part of what is to blame collides. What takes too long, or patience is at its end for, is not known.
    fn ask<T>(
        &mut self,
        known: &mut Known,
        ask: impl FnOnce(&mut Known) -> Result<T, Halt>,
    ) -> Result<Option<T>, Halt> {
        let before = known.work();
        let answer = self.answer(known, self.a_question.min(self.left), ask);
        self.left = self.left.saturating_sub(known.work() - before);
        answer
    }

    /// Asks whether all that is to blame collides, which the search found already.
    fn ask_first<T>(
        &mut self,
        known: &mut Known,
        ask: impl FnOnce(&mut Known) -> Result<T, Halt>,
    ) -> Result<Option<T>, Halt> {
        self.answer(known, self.first, ask)
    }

    fn answer<T>(
        &mut self,
        known: &mut Known,
        most: u64,
        ask: impl FnOnce(&mut Known) -> Result<T, Halt>,
    ) -> Result<Option<T>, Halt> {
        if self.left > 0 && !known.is_stopped() {
            match known.within(most, ask) {
                Ok(answer) => return Ok(Some(answer)),
                Err(Halt::Missing) => return Err(Halt::Missing),
                Err(Halt::Stopped) => {}
            }
        }
        self.is_sure = false;
        if known.is_stopped() {
            self.left = 0;
        }
        Ok(None)
    }
}

/// Finds needs that collide and of which none can go: as few as can be is what a reader has to hold in mind.
fn colliding_requirements(
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Result<Vec<Requirement>, Halt> {
    let mut encoding = Encoding::for_trials(known);
    let mut switches: BTreeMap<Lit, Vec<&Requirement>> = BTreeMap::new();
    for requirement in &problem.requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        switches.entry(encoding.need(need, problem, known)).or_default().push(requirement);
    }
    let all: Vec<Lit> = switches.keys().copied().collect();
    // That all of them collide is known already.
    let kept = minimise(&all, &mut encoding, problem, known, patience)?.unwrap_or(all);
    // Of two needs that say the same of one package, one is enough.
    Ok(switches
        .into_iter()
        .filter(|(on, _)| kept.contains(on))
        .filter_map(|(_, of)| of.first().copied().cloned())
        .collect())
}

/// Finds, among what the releases that were looked at need, facts that make the needs collide and of which none can
/// go. What was looked at is enough: the collision was found with it. Unless each need is known to be `needed`, those go
/// without which the others collide because of the same facts.
fn colliding_facts(
    requirements: &mut Vec<Requirement>,
    needed: bool,
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Result<Vec<Switched>, Halt> {
    let mut encoding = Encoding::for_trials(known);
    let mut all = Vec::new();
    for requirement in &*requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        let need = encoding.need(need, problem, known);
        match needed {
            true => encoding.solver.add_clause(&[need]),
            false => all.push(need),
        }
    }
    let needs = all.clone();
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
    all.extend(switches.keys());
    encoding.state_no_more();
    let Some(kept) = minimise(&all, &mut encoding, problem, known, patience)? else { return Ok(Vec::new()) };
    let kept: BTreeSet<Lit> = kept.into_iter().collect();
    let mut stays = needs.iter().map(|need| kept.contains(need));
    requirements.retain(|_| stays.next().unwrap_or(true));
    Ok(kept.iter().filter_map(|on| switches.remove(on)).collect())
}

/// Drops, from the last, every candidate without which the rest still cannot hold; nothing when it would take too long to
/// find out how all of them collide.
///
/// What turned out to be needed becomes a fact, and what is left to look at is assumed in the same order each time, so a
/// question goes on where the one before left off.
fn minimise(
    candidates: &[Lit],
    encoding: &mut Encoding,
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Result<Option<Vec<Lit>>, Halt> {
    let first = patience.ask_first(known, |known| encoding.solve_or_blame(candidates, problem, known))?;
    let Some(first) = first else { return Ok(None) };
    let mut open = first.err().unwrap_or_default();
    open.sort_unstable();
    let mut kept = Vec::new();
    while let Some(last) = open.pop() {
        let answer = patience.ask(known, |known| encoding.solve_or_blame(&open, problem, known))?;
        match answer.and_then(Result::err) {
            Some(core) => {
                let core: BTreeSet<Lit> = core.into_iter().collect();
                open.retain(|candidate| core.contains(candidate));
                encoding.solver.add_clause_held(&[!last]);
            }
            None => {
                encoding.solver.add_clause_held(&[last]);
                kept.push(last);
            }
        }
    }
    kept.sort_unstable();
    Ok(Some(kept))
}
