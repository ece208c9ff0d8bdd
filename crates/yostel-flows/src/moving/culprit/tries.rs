//! Which sets were tried, and what the check said: one after the other, or some at once, kept for a search that is taken up.

use std::collections::{BTreeMap, BTreeSet};
use std::panic::resume_unwind;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, Builder, Scope, ScopedJoinHandle};
use std::time::Duration;

use yostel_documents::Seal;
use yostel_files::FileError;
use yostel_findings::{Blame, CheckVerdict, NextTries, Verdicts, next_tries};
use yostel_store::{Cache, KeptVerdict, KeptVerdicts};

use super::between::{Between, TriedSet};
use crate::context::Context;
use crate::error::FlowError;
use crate::moving::scratch::Ran;
use crate::observer::{Observer, go_on};

/// What judges a set: with how many of how many moves, what is set once nobody wants to know any more, and what it works with.
pub(super) type CheckOfSet<'c> =
    dyn Fn(&TriedSet, (usize, usize), Arc<AtomicBool>, &Context<'_>) -> Result<Ran, FlowError> + Sync + 'c;

/// How often one looks whether a check came to its end.
const LOOK: Duration = Duration::from_millis(5);

/// How much of what a check said is kept, in bytes from the end.
const MOST_SAID: usize = 16 * 1024;

/// Sets that were tried.
pub(super) struct Tries<'t> {
    between: &'t Between<'t>,
    check: &'t CheckOfSet<'t>,
    at_once: usize,
    memory: Option<Memory<'t>>,
    /// What sets come to, some of them to the same.
    seals: BTreeMap<BTreeSet<usize>, Seal>,
    verdicts: Verdicts,
    tried: BTreeMap<Seal, (CheckVerdict, String)>,
    runs: usize,
}

/// A check that runs.
struct Running<'s> {
    seal: Seal,
    unwanted: Arc<AtomicBool>,
    handle: ScopedJoinHandle<'s, Result<Ran, FlowError>>,
}

impl<'t> Tries<'t> {
    pub(super) fn new(
        between: &'t Between<'t>,
        check: &'t CheckOfSet<'t>,
        at_once: usize,
        memory: Option<Memory<'t>>,
    ) -> Self {
        let kept = memory.iter().flat_map(|memory| &memory.kept.verdicts);
        let tried = kept.filter_map(|(seal, kept)| {
            Some((Seal::parse(seal).ok()?, (verdict_of(&kept.verdict)?, kept.said.clone())))
        });
        let tried = tried.collect();
        let (seals, verdicts) = (BTreeMap::new(), Verdicts::new());
        Self { between, check, at_once: at_once.max(1), memory, seals, verdicts, tried, runs: 0 }
    }

    /// Counts the sets that are known.
    pub(super) fn known(&self) -> usize {
        self.tried.len()
    }

    /// Ends the search: what was kept is of no use any more. Returns how often the check was run.
    pub(super) fn end(self) -> usize {
        if let Some(memory) = self.memory {
            memory.cache.forget_verdicts(&memory.kept.project);
        }
        self.runs
    }

    /// Returns what the check said of a set that was tried.
    pub(super) fn said(&mut self, set: &BTreeSet<usize>) -> Result<String, FlowError> {
        let seal = self.seal_of(set)?.0;
        Ok(self.tried.get(&seal).map(|(_, said)| said.clone()).unwrap_or_default())
    }

    /// Tells what the check says of a set.
    pub(super) fn verdict(&mut self, set: &BTreeSet<usize>) -> Result<CheckVerdict, FlowError> {
        let (seal, tried) = self.seal_of(set)?;
        if let Some((verdict, _)) = self.tried.get(&seal) {
            return Ok(*verdict);
        }
        let tried = tried.map_or_else(|| self.between.set_with(set), Ok)?;
        let moved = (set.len(), self.between.moved.len());
        let ran = (self.check)(&tried, moved, Arc::default(), self.between.context)?;
        self.note(seal, ran)
    }

    /// Finds the moves that make the check fail.
    pub(super) fn blame(&mut self) -> Result<Blame, FlowError> {
        thread::scope(|scope| {
            let mut running = Vec::new();
            let blame = self.search(scope, &mut running);
            // The scope waits for those that still run.
            running.iter().for_each(|one: &Running<'_>| one.unwanted.store(true, Ordering::Relaxed));
            blame
        })
    }

    fn search<'s>(&mut self, scope: &'s Scope<'s, '_>, running: &mut Vec<Running<'s>>) -> Result<Blame, FlowError>
    where
        't: 's,
    {
        loop {
            go_on(self.between.context.observer)?;
            let sets = match next_tries(self.between.moved.len(), &self.verdicts, self.at_once) {
                NextTries::End(blame) => return Ok(blame),
                NextTries::Ask(sets) => sets,
            };
            let mut wanted = BTreeSet::new();
            let mut is_news = false;
            for set in sets {
                let (seal, tried) = self.seal_of(&set)?;
                if let Some((verdict, _)) = self.tried.get(&seal) {
                    self.verdicts.insert(set, *verdict);
                    is_news = true;
                } else if self.at_once == 1 {
                    let verdict = self.verdict(&set)?;
                    self.verdicts.insert(set, verdict);
                    is_news = true;
                } else if wanted.insert(seal)
                    && running.len() < self.at_once
                    && !running.iter().any(|one| one.seal == seal)
                {
                    let tried = tried.map_or_else(|| self.between.set_with(&set), Ok)?;
                    running.push(self.start(seal, tried, set.len(), scope)?);
                }
            }
            if !is_news {
                running.iter().filter(|one| !wanted.contains(&one.seal)).for_each(|one| {
                    one.unwanted.store(true, Ordering::Relaxed);
                });
                self.await_one(running)?;
            }
        }
    }

    /// Starts to try a set beside others.
    fn start<'s>(
        &self,
        seal: Seal,
        tried: TriedSet,
        moves: usize,
        scope: &'s Scope<'s, '_>,
    ) -> Result<Running<'s>, FlowError>
    where
        't: 's,
    {
        let unwanted = Arc::new(AtomicBool::new(false));
        let (check, context, all) = (self.check, self.between.context, self.between.moved.len());
        let work = {
            let unwanted = unwanted.clone();
            move || {
                let observer = ParallelObserver { observer: context.observer, unwanted: &unwanted };
                check(&tried, (moves, all), unwanted.clone(), &Context::new(context.settings, &observer))
            }
        };
        let handle = Builder::new().spawn_scoped(scope, work);
        let root = &self.between.project.root;
        let handle = handle.map_err(FileError::when("start another thread for", root))?;
        Ok(Running { seal, unwanted, handle })
    }

    /// Waits until one of those that run came to its end, and takes in what it said.
    fn await_one(&mut self, running: &mut Vec<Running<'_>>) -> Result<(), FlowError> {
        let at = loop {
            match running.iter().position(|one| one.handle.is_finished()) {
                Some(at) => break at,
                None => thread::sleep(LOOK),
            }
        };
        let Running { seal, unwanted, handle } = running.swap_remove(at);
        match handle.join().unwrap_or_else(|panic| resume_unwind(panic)) {
            Ok(ran) => self.note(seal, ran).map(drop),
            Err(_) if unwanted.load(Ordering::Relaxed) => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// Takes in what the check said.
    fn note(&mut self, seal: Seal, ran: Ran) -> Result<CheckVerdict, FlowError> {
        self.runs += 1;
        let said = if ran.verdict == CheckVerdict::Fails { ran.said } else { String::new() };
        if let Some(memory) = &mut self.memory {
            memory.note(&seal, ran.verdict, &said);
        }
        self.tried.insert(seal, (ran.verdict, said));
        Ok(ran.verdict)
    }

    /// Tells what a set comes to; with the set, where that was not known before.
    fn seal_of(&mut self, set: &BTreeSet<usize>) -> Result<(Seal, Option<TriedSet>), FlowError> {
        if let Some(seal) = self.seals.get(set) {
            return Ok((*seal, None));
        }
        let tried = self.between.set_with(set)?;
        let seal = tried.proposal.seal();
        self.seals.insert(set.clone(), seal);
        Ok((seal, Some(tried)))
    }
}

/// What is kept for a search that is taken up.
pub(super) struct Memory<'m> {
    kept: KeptVerdicts,
    cache: &'m Cache,
}

impl<'m> Memory<'m> {
    /// Takes up what is kept, where that is wanted and the same was asked; else nothing is.
    pub(super) fn of(asked: KeptVerdicts, resume: bool, cache: &'m Cache) -> Self {
        let kept = cache.verdicts(&asked.project).filter(|kept| resume && kept.asked == asked.asked);
        Self { kept: kept.unwrap_or(asked), cache }
    }

    /// Keeps what a check said of a set; where that cannot be written down, the set is tried once more another time.
    fn note(&mut self, seal: &Seal, verdict: CheckVerdict, said: &str) {
        let from = (said.len().saturating_sub(MOST_SAID)..).find(|at| said.is_char_boundary(*at)).unwrap_or_default();
        let kept = KeptVerdict { verdict: word_of(verdict).to_owned(), said: said[from..].to_owned() };
        self.kept.verdicts.insert(seal.to_string(), kept);
        if let Err(error) = self.cache.write_verdicts(&self.kept) {
            tracing::debug!(%error, "what a check said is not kept");
        }
    }
}

fn word_of(verdict: CheckVerdict) -> &'static str {
    match verdict {
        CheckVerdict::Passes => "passes",
        CheckVerdict::Fails => "fails",
        CheckVerdict::Unknown => "cannot-tell",
    }
}

fn verdict_of(word: &str) -> Option<CheckVerdict> {
    [CheckVerdict::Passes, CheckVerdict::Fails, CheckVerdict::Unknown].into_iter().find(|one| word_of(*one) == word)
}

/// Looks on at one of several checks at once: progress of several would mix, and it ends when nobody wants to know any more.
struct ParallelObserver<'b> {
    observer: &'b dyn Observer,
    unwanted: &'b AtomicBool,
}

impl Observer for ParallelObserver<'_> {
    fn stops(&self) -> bool {
        self.unwanted.load(Ordering::Relaxed) || self.observer.stops()
    }
}
