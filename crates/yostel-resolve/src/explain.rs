//! Why there is no set: a minimal set of needs that cannot be met together, and the facts that make it so.
//!
//! The solver blames needs, and dropping them one by one (deletion-based minimal unsatisfiable subset, Marques-Silva
//! 2010) leaves some of which none can go. Then every need of a release that was looked at gets a switch of its own, and
//! the same leaves facts of which none can go.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Requirement, Word, run_purpose};
use yostel_solver::{Lit, Model};

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

/// What is to blame, of some candidates.
enum Blame<T> {
    /// Nothing: they hold together.
    Nothing,
    /// It would take too long to find out.
    Unknown,
    /// These, which do not hold together; and whether it was shown that none of them can go.
    These(Vec<T>, bool),
}

/// Finds a collision. `verdict` is how many literals were forced until it was known that there is one: to find out once
/// more, with what is to blame, may take as many.
///
/// # Errors
/// [`Halt::Missing`]: packages must arrive first; start anew then. Once it is told to stop, it tells what is known by then.
pub(super) fn collision(problem: &Problem, known: &mut Known, verdict: u64) -> Result<Collision, Halt> {
    let mut explaining = Explaining::new(known, MOST_FORCED, verdict);
    let (requirements, needed) = match explaining.needs_to_blame(problem)? {
        Blame::These(requirements, needed) => (requirements, needed),
        Blame::Nothing => (Vec::new(), true),
        // That all of them collide is known already.
        Blame::Unknown => (different(&problem.requirements), false),
    };
    explaining.told(requirements, needed, problem)
}

/// Finds others beside a collision: those that remain when its needs are set aside, and then those that share some of its
/// needs, or of another's. Tells, too, whether there may be more.
///
/// # Errors
/// As [`collision`].
pub(super) fn others(first: &Collision, problem: &Problem, known: &mut Known) -> Result<(Vec<Collision>, bool), Halt> {
    let mut others: Vec<Collision> = Vec::new();
    let mut explaining = Explaining::new(known, MOST_FORCED_BESIDE, 0);
    let mut found: Vec<Vec<Requirement>> = vec![first.requirements.clone()];
    let mut without = |out: &BTreeSet<&Requirement>| {
        // Those that are known will do.
        if explaining.left == 0 {
            return Ok(None);
        }
        let requirements = problem.requirements.iter().filter(|requirement| !out.contains(requirement));
        let rest = Problem { requirements: requirements.cloned().collect(), ..problem.clone() };
        match explaining.needs_to_blame(&rest)? {
            Blame::These(requirements, needed) => explaining.told(requirements, needed, &rest).map(Some),
            Blame::Nothing => Ok(None),
            Blame::Unknown => {
                explaining.left = 0;
                Ok(None)
            }
        }
    };
    while others.len() < MOST_OTHERS {
        let Some(other) = without(&found.iter().flatten().collect())? else { break };
        found.push(other.requirements.clone());
        others.push(other);
    }
    let apart = found.len();
    let mut at = 0;
    while at < found.len() && found.len() < apart + MOST_OVERLAPPING {
        for need in found[at].clone() {
            // Whatever is left of the others is set aside too, so what is found is none of them.
            let kept: BTreeSet<&Requirement> = found[at].iter().filter(|other| **other != need).collect();
            let out = found.iter().flatten().filter(|other| !kept.contains(other)).collect();
            let Some(other) = without(&out)? else { continue };
            found.push(other.requirements.clone());
            others.push(other);
            if found.len() == apart + MOST_OVERLAPPING {
                break;
            }
        }
        at += 1;
    }
    Ok((others, explaining.left == 0 || at < found.len()))
}

/// Work on an explanation. It is counted, not timed, so that the same is told on every machine.
struct Explaining<'k> {
    known: &'k mut Known,
    /// Literals that may still be forced.
    left: u64,
    /// Literals that one question may force.
    a_question: u64,
    /// Literals that finding out once more that there is a collision may force beside.
    verdict: u64,
}

impl<'k> Explaining<'k> {
    fn new(known: &'k mut Known, most: u64, verdict: u64) -> Self {
        Self { known, left: most, a_question: most / 3, verdict }
    }

    /// Tells of needs that collide; of fewer, unless each is known to be `needed`, where the same facts make those collide.
    fn told(&mut self, mut requirements: Vec<Requirement>, needed: bool, problem: &Problem) -> Result<Collision, Halt> {
        let (facts, is_sure) = match self.facts_to_blame(&mut requirements, needed, problem)? {
            Blame::These(facts, is_sure) => (facts, is_sure),
            Blame::Nothing | Blame::Unknown => (Vec::new(), false),
        };
        let minimal = match (needed, is_sure) {
            (true, true) => Minimality::Shown,
            (false, true) => Minimality::AsTold,
            (_, false) => Minimality::Unknown,
        };
        Ok(Collision { minimal, ..tell(requirements, facts, problem, self.known) })
    }

    /// Finds needs that collide and of which none can go: as few as can be is what a reader has to hold in mind.
    fn needs_to_blame(&mut self, problem: &Problem) -> Result<Blame<Requirement>, Halt> {
        let mut encoding = Encoding::for_trials(self.known);
        // Of two needs that say the same of one package, one is enough.
        let mut switches: BTreeMap<Lit, &Requirement> = BTreeMap::new();
        for requirement in &problem.requirements {
            let need = self.known.requirement(&requirement.package, &requirement.accept);
            switches.entry(encoding.need(need, problem, self.known)).or_insert(requirement);
        }
        let all: Vec<Lit> = switches.keys().copied().collect();
        Ok(match self.minimise(&all, &mut encoding, problem)? {
            Blame::These(kept, is_sure) => Blame::These(kept.iter().map(|on| switches[on].clone()).collect(), is_sure),
            Blame::Nothing => Blame::Nothing,
            Blame::Unknown => Blame::Unknown,
        })
    }

    /// Finds, among what the releases that were looked at need, facts that make the needs collide and of which none can
    /// go. What was looked at is enough: the collision was found with it. Unless each need is known to be `needed`, those go
    /// without which the others collide because of the same facts.
    fn facts_to_blame(
        &mut self,
        requirements: &mut Vec<Requirement>,
        needed: bool,
        problem: &Problem,
    ) -> Result<Blame<Switched>, Halt> {
        let mut encoding = Encoding::for_trials(self.known);
        let mut all = Vec::new();
        for requirement in &*requirements {
            let need = self.known.requirement(&requirement.package, &requirement.accept);
            let need = encoding.need(need, problem, self.known);
            match needed {
                true => encoding.solver.add_clause(&[need]),
                false => all.push(need),
            }
        }
        let needs = all.clone();
        let mut switches = switches_of_facts(&mut encoding, problem, self.known);
        all.extend(switches.keys());
        encoding.state_no_more();
        Ok(match self.minimise(&all, &mut encoding, problem)? {
            Blame::These(kept, is_sure) => {
                let kept: BTreeSet<Lit> = kept.into_iter().collect();
                let mut stays = needs.iter().map(|need| kept.contains(need));
                requirements.retain(|_| stays.next().unwrap_or(true));
                Blame::These(kept.iter().filter_map(|on| switches.remove(on)).collect(), is_sure)
            }
            Blame::Nothing => Blame::Nothing,
            Blame::Unknown => Blame::Unknown,
        })
    }

    /// Drops, from the last, every candidate without which the rest still cannot hold. Where that takes too long to find out,
    /// the candidate stays.
    ///
    /// What stays becomes a fact, and what is left to look at is assumed in the same order each time, so a question goes on
    /// where the one before left off.
    fn minimise(&mut self, candidates: &[Lit], encoding: &mut Encoding, problem: &Problem) -> Result<Blame<Lit>, Halt> {
        // Without this answer there is nothing to tell, so it is asked even where nothing is left.
        let free = if self.left > 0 { self.verdict } else { 0 };
        let mut open = match self.ask((self.a_question.max(free), free), candidates, encoding, problem)? {
            None => return Ok(Blame::Unknown),
            Some(Ok(_)) => return Ok(Blame::Nothing),
            Some(Err(core)) => core,
        };
        open.sort_unstable();
        let (mut kept, mut is_sure) = (Vec::new(), true);
        while let Some(last) = open.pop() {
            let answer = self.ask((self.a_question.min(self.left), 0), &open, encoding, problem)?;
            is_sure &= answer.is_some();
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
        Ok(Blame::These(kept, is_sure))
    }

    /// Asks whether candidates hold together, forcing at most so many literals, of which so many do not count; nothing when
    /// that is too little, or nobody waits any more.
    fn ask(
        &mut self,
        (most, free): (u64, u64),
        candidates: &[Lit],
        encoding: &mut Encoding,
        problem: &Problem,
    ) -> Result<Option<Result<Model, Vec<Lit>>>, Halt> {
        let before = self.known.work();
        let answer = match most > 0 && !self.known.is_stopped() {
            true => self.known.within(most, |known| encoding.solve_or_blame(candidates, problem, known)),
            false => Err(Halt::Stopped),
        };
        self.left = self.left.saturating_sub((self.known.work() - before).saturating_sub(free));
        if self.known.is_stopped() {
            self.left = 0;
        }
        match answer {
            Ok(answer) => Ok(Some(answer)),
            Err(Halt::Stopped) => Ok(None),
            Err(Halt::Missing) => Err(Halt::Missing),
        }
    }
}

/// Lists needs without those that say the same of one package as another.
fn different(requirements: &[Requirement]) -> Vec<Requirement> {
    let mut met = BTreeSet::new();
    requirements.iter().filter(|need| met.insert((&need.package, &need.accept))).cloned().collect()
}

/// Gives each fact a switch: what releases that were looked at need, and roles that two packages fill.
fn switches_of_facts(encoding: &mut Encoding, problem: &Problem, known: &Known) -> BTreeMap<Lit, Switched> {
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
    switches
}
