//! Which of the sets that exist is *the* set: docs/resolution.md §2, carried out by assumptions over one solver.
//!
//! First what is to be reached, by name; then the fewest packages moved, provably; of such sets the one that keeps the first
//! by name; then direct needs as new as can be, by name; then what came along, nearest first. Every question is one call
//! of the solver, and each answer is made a fact before the next question, so what was learned is reused.

mod moved;
mod preferred;

use std::collections::BTreeSet;

use yostel_documents::{Chosen, PackageName};
use yostel_solver::{Lit, Model, Stats};

use crate::assumed::Assumed;
use crate::encode::Encoding;
use crate::fewest::Fewest;
use crate::kept::Kept;
use crate::known::Halt;
use crate::known::{Known, NeedId};
use crate::layers::Layers;
use crate::problem::Problem;
use crate::resolution::{Choice, Resolution};

/// What a search is at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// Whether there is a set at all.
    Any,
    /// How few packages must move.
    Fewest,
    /// Which of them, and how new, or old, each package can be.
    Preferred,
    /// Why there is none.
    Explaining,
}

/// Returns the best resolution, or nothing when there is none at all.
///
/// # Errors
/// [`Halt`]: packages must arrive first, or time is up; start anew then.
pub(super) fn best(problem: &Problem, known: &mut Known) -> Result<Option<Resolution>, Halt> {
    let mut search = Search::new(known);
    Ok(search.advance(problem, known)?.then(|| search.found(problem, known)).flatten())
}

/// A search that can be halted and taken up again.
#[derive(Debug)]
pub(super) struct Search {
    encoding: Encoding,
    /// A model of all facts so far, once there is one.
    model: Option<Model>,
    /// Whether the needs are facts.
    stated: bool,
    stage: Stage,
    /// For each version to keep, what is true when its package left it; once that is asked.
    kept: Option<Kept>,
    /// What holds in this trial only; none when what is found out is a fact for good.
    trial: Option<Assumed>,
    at_once: AtOnce,
}

/// How many conflicts the first attempt to decide everything in one search may take.
const FIRST_ATTEMPT: u64 = 200;

/// How often it is tried to decide all that is left in one search, in the order in which it is to be decided.
///
/// That order is as good as any where little conflicts; where much does, it may lead nowhere, and asking one question at a
/// time lets the search choose. So each of the two may do as much as the other did.
#[derive(Debug)]
struct AtOnce {
    /// How many conflicts the first attempt may take; 0 when there is to be none.
    first: u64,
    /// How many the next one may.
    conflicts: u64,
    /// How many literals are to be forced before the next attempt.
    from: u64,
    under_way: bool,
}

impl AtOnce {
    fn beginning_with(first: u64) -> Self {
        Self { first, conflicts: first, from: 0, under_way: false }
    }
}

#[derive(Debug)]
enum Stage {
    /// Is there a set at all?
    Any,
    /// How new can what is to be reached be? With those that are left to ask about, the last one first.
    Reach(Vec<PackageName>),
    /// How few packages must leave the version to keep?
    Fewest {
        moved: Vec<Lit>,
        fewest: Fewest,
    },
    /// Of the sets with so few, which keeps the first by name?
    Which {
        moved: Vec<Lit>,
        next: usize,
    },
    /// How new can each be?
    Preferred(Layers),
    Done,
}

impl Search {
    pub(super) fn new(known: &Known) -> Self {
        let encoding = Encoding::new(known);
        let at_once = AtOnce::beginning_with(FIRST_ATTEMPT);
        Self { encoding, model: None, stated: false, stage: Stage::Any, kept: None, trial: None, at_once }
    }

    /// Makes a search for trials, which each begin with [`Self::try_again`].
    pub(super) fn for_trials(known: &Known) -> Self {
        let encoding = Encoding::for_trials(known);
        Self { encoding, trial: Some(Assumed::default()), ..Self::new(known) }
    }

    /// Starts anew on other needs, with all that was stated and learned; what is found out from here on holds until this
    /// is called again. The versions to keep and the rules must be the same.
    pub(super) fn try_again(&mut self) {
        debug_assert!(self.trial.is_some(), "it was made for trials");
        self.model = None;
        self.stated = false;
        self.stage = Stage::Any;
        self.trial = Some(Assumed::default());
        self.begin_attempts_with(self.at_once.first);
    }

    /// Sets how many conflicts the first attempt to decide everything in one search may take.
    pub(super) fn begin_attempts_with(&mut self, conflicts: u64) {
        self.at_once = AtOnce::beginning_with(conflicts);
    }

    /// Tells whether it is for trials.
    pub(super) fn is_trial(&self) -> bool {
        self.trial.is_some()
    }

    /// Makes something a fact: for good, or for this trial.
    fn assert(&mut self, literal: Lit) {
        match &mut self.trial {
            Some(assumed) => assumed.add(literal),
            None => self.encoding.solver.add_clause(&[literal]),
        }
    }

    /// Tells whether something is known to be false, as far as that can be told without asking.
    fn is_out(&self, literal: Lit) -> bool {
        is_out(literal, &self.encoding, self.trial.as_ref())
    }

    /// Asks for a set in which these hold beside all facts.
    fn ask(
        &mut self,
        assumptions: &[Lit],
        problem: &Problem,
        known: &mut Known,
    ) -> Result<Result<Model, Vec<Lit>>, Halt> {
        let all = self.trial.as_ref().map(|assumed| assumed.and(assumptions));
        self.encoding.solve_or_blame(all.as_deref().unwrap_or(assumptions), problem, known)
    }

    /// Asks for a set in which this is kept beside all facts.
    fn ask_keeping(
        &mut self,
        hopes: &[Lit],
        problem: &Problem,
        known: &mut Known,
    ) -> Result<Result<Model, Vec<Lit>>, Halt> {
        let all = self.trial.as_ref().map(|assumed| assumed.hoping(hopes));
        self.encoding.solve_or_blame(all.as_deref().unwrap_or(hopes), problem, known)
    }

    pub(super) fn stats(&self) -> Stats {
        self.encoding.solver.stats()
    }

    /// Tells what the search is at.
    pub(super) fn phase(&self) -> Phase {
        match self.stage {
            Stage::Any => Phase::Any,
            Stage::Fewest { .. } => Phase::Fewest,
            Stage::Reach(_) | Stage::Which { .. } | Stage::Preferred(_) | Stage::Done => Phase::Preferred,
        }
    }

    /// Tells whether no set moves fewer packages than the one found so far.
    pub(super) fn moves_fewest(&self) -> bool {
        matches!(self.stage, Stage::Which { .. } | Stage::Preferred(_) | Stage::Done)
    }

    /// Tells whether there is a set, and finds one.
    ///
    /// # Errors
    /// [`Halt`]; call again once what is missing arrived.
    pub(super) fn find_any(&mut self, problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        self.state(problem, known);
        self.model = self.ask(&[], problem, known)?.ok();
        Ok(self.model.is_some())
    }

    /// States what is needed, once.
    fn state(&mut self, problem: &Problem, known: &mut Known) {
        if !std::mem::replace(&mut self.stated, true) {
            for requirement in &problem.requirements {
                let need = known.requirement(&requirement.package, &requirement.accept);
                let need = self.encoding.need(need, problem, known);
                match &mut self.trial {
                    Some(assumed) => assumed.need(need),
                    None => self.encoding.solver.add_clause(&[need]),
                }
            }
            self.state_not_all_moved(problem, known);
        }
    }

    /// States that not all of some packages leave the version to keep.
    fn state_not_all_moved(&mut self, problem: &Problem, known: &mut Known) {
        if problem.not_all_moved.is_empty() {
            return;
        }
        debug_assert!(self.trial.is_none(), "trials do not ask for others");
        let encoding = &mut self.encoding;
        let kept = self.kept.get_or_insert_with(|| Kept::of(encoding, problem, known));
        for versions in &problem.not_all_moved {
            let one_stays: Vec<Lit> = kept.moved_from(versions).map(|moved| !moved).collect();
            encoding.solver.add_clause(&one_stays);
        }
    }

    /// Carries out all stages that are left; tells whether there is a set.
    ///
    /// # Errors
    /// [`Halt`]; call again once what is missing arrived.
    pub(super) fn advance(&mut self, problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        while !matches!(self.stage, Stage::Done) {
            if !self.step(problem, known)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Carries out one stage, which is left as it is when the search is halted; tells whether there is a set.
    ///
    /// # Errors
    /// As [`Self::advance`].
    pub(super) fn step(&mut self, problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        let mut stage = std::mem::replace(&mut self.stage, Stage::Done);
        let carried = match &mut stage {
            // A trial asks for a set that keeps what it can right away.
            Stage::Any if self.trial.is_some() && !problem.keep.is_empty() => {
                self.state(problem, known);
                Ok(true)
            }
            Stage::Any => self.find_any(problem, known),
            Stage::Reach(names) => self.reach(names, problem, known).map(|()| true),
            Stage::Fewest { fewest, .. } => self.fewest(fewest, problem, known),
            Stage::Which { moved, next } => match self.which(moved, next, problem, known) {
                Ok(true) => return Ok(true),
                which => which.map(|_| true),
            },
            Stage::Preferred(layers) => self.preferred(layers, problem, known).map(|()| true),
            Stage::Done => Ok(true),
        };
        if carried.is_err() {
            self.stage = stage;
            return carried;
        }
        self.stage = match stage {
            Stage::Any if !problem.reach.is_empty() => Stage::Reach(problem.reach.keys().rev().cloned().collect()),
            Stage::Any | Stage::Reach(_) if problem.keep.is_empty() => Stage::Preferred(Layers::of(problem)),
            Stage::Any | Stage::Reach(_) => {
                let encoding = &mut self.encoding;
                let moved = self.kept.get_or_insert_with(|| Kept::of(encoding, problem, known)).moved.clone();
                Stage::Fewest { fewest: Fewest::of(&moved), moved }
            }
            Stage::Fewest { moved, .. } => Stage::Which { moved, next: 0 },
            Stage::Which { .. } => Stage::Preferred(Layers::of(problem)),
            Stage::Preferred(_) | Stage::Done => Stage::Done,
        };
        carried
    }

    /// Tells whether nothing is left to decide.
    pub(super) fn is_done(&self) -> bool {
        matches!(self.stage, Stage::Done)
    }

    /// Decides in one search which of the literals are false, the first before others, and then how new each package is;
    /// tells whether that came to an end.
    fn all_at_once(&mut self, moved: &[Lit], problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        let work = self.stats().propagations;
        let never = self.at_once.conflicts == 0 || !problem.rules.coexist.is_empty();
        if never || work < self.at_once.from && !self.at_once.under_way {
            return Ok(false);
        }
        let stay: Vec<Lit> = moved.iter().map(|moved| !*moved).collect();
        let facts = self.trial.as_ref().map(|assumed| assumed.and(&[])).unwrap_or_default();
        self.at_once.under_way = true;
        let best = self.encoding.solve_in_order((&facts, &stay), self.at_once.conflicts, problem, known)?;
        self.at_once.under_way = false;
        let Some(best) = best else {
            let now = self.stats().propagations;
            self.at_once.from = now + (now - work);
            self.at_once.conflicts *= 2;
            return Ok(false);
        };
        self.model = Some(best);
        Ok(true)
    }

    /// Makes it a fact which packages stay, the first by name before others; tells whether everything else was decided too.
    fn which(&mut self, moved: &[Lit], next: &mut usize, problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        while let Some(&first) = moved.get(*next) {
            if self.all_at_once(&moved[*next..], problem, known)? {
                return Ok(true);
            }
            if self.holds(!first, problem, known)? {
                self.assert(!first);
            }
            *next += 1;
        }
        Ok(false)
    }

    /// Tells whether a literal can hold beside all facts, and if so takes over the model that shows it.
    fn holds(&mut self, literal: Lit, problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        if self.model.as_ref().is_some_and(|model| model.is_true(literal)) {
            return Ok(true);
        }
        let model = self.ask(&[literal], problem, known)?.ok();
        let holds = model.is_some();
        self.model = model.or(self.model.take());
        Ok(holds)
    }

    /// Reads the best set found so far; none before there is one.
    pub(super) fn found(&self, problem: &Problem, known: &mut Known) -> Option<Resolution> {
        let model = self.model.as_ref()?;
        let mut chosen = Chosen::default();
        let mut open: Vec<NeedId> = Vec::new();
        for requirement in &problem.requirements {
            open.push(known.requirement(&requirement.package, &requirement.accept));
        }
        let mut met = BTreeSet::new();
        while let Some(need) = open.pop() {
            let (id, accepted) = known.accepted(need);
            // Where several lines are, a need is met by the newest that it accepts.
            let there = self.encoding.chosen(id, model);
            let at = *there.iter().rfind(|at| accepted.binary_search(at).is_ok())?;
            if !met.insert((id.index(), at)) {
                continue;
            }
            open.extend_from_slice(known.look_at(id, at));
            let document = known.document_of(id)?;
            let choice = Choice {
                release: document.releases.get(at as usize)?.whole().clone(),
                numbering: document.numbering.clone(),
                origin: known.origin_of(id)?.clone(),
            };
            chosen.insert(known.name(id).clone(), choice);
        }
        Some(Resolution { chosen })
    }
}

/// Tells whether a fact, or a trial, has it that something is false.
fn is_out(literal: Lit, encoding: &Encoding, trial: Option<&Assumed>) -> bool {
    encoding.solver.fixed(literal) == Some(false) || trial.is_some_and(|assumed| assumed.has(!literal))
}
