//! Resolving: from needs to one consistent set of releases, or to the needs that collide.
//!
//! A step machine: it says which packages' releases it needs next and is handed them, in any order and grouping; it
//! never reaches out itself. Releases are looked at only as far as the search gets. It ends with a resolution that
//! [`crate::satisfies`] has judged, or with a collision. The outcome is a pure function of the needs, the releases, and
//! the versions to keep (docs/resolution.md).

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use yostel_documents::{PackageDocument, PackageName, Requirement};
use yostel_versions::{BindError, Version};

use crate::certify::{self, Certificate, Formula};
use crate::collision::Collision;
use crate::edits::{self, EditRules, EditSet, Written};
use crate::explain;
use crate::known::{Arrival, Halt, Known, Reach};
use crate::objective::{Phase, Search};
use crate::problem::{Problem, Rules};
use crate::resolution::Resolution;
use crate::satisfies::{Violation, satisfies};

/// What the resolver wants next, or what it found.
#[derive(Debug)]
pub enum Step {
    /// The releases of these packages; answer with [`Resolver::step`] in any order, all at once or one by one.
    Need(BTreeSet<PackageName>),
    /// Nothing: it is still at it. Go on with [`Resolver::step`], bringing nothing.
    Going(Phase),
    /// The end.
    Done(Outcome),
}

/// How a resolution ended.
#[derive(Debug)]
pub enum Outcome {
    /// One consistent set: the best.
    Resolved(Resolution),
    /// There is none.
    Collision(Box<Collision>),
    /// It was told to stop.
    Stopped(Unfinished),
}

/// How far a search came that was told to stop.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unfinished {
    /// A consistent set, not known to be the best; none when none was found yet.
    pub found: Option<Resolution>,
    /// Whether no set moves fewer packages.
    pub fewest_moves: bool,
}

/// Why a resolution could not be tried to its end.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ResolveError {
    /// A project needs a package that no source has.
    #[error("{} is in none of the sources", .0.package)]
    UnknownPackage(Requirement),
    /// A project's constraint does not fit the package's numbering.
    #[error("{requirement}: {cause}")]
    Unreadable {
        /// Who wants what.
        requirement: Requirement,
        /// Why it does not fit.
        cause: BindError,
    },
    /// Our own fault: the search gave an answer that breaks the rules. Never written to a lockfile.
    #[error("the search gave an answer that breaks the rules ({})", .0.first().map(ToString::to_string).unwrap_or_default())]
    WrongAnswer(Vec<Violation>),
    /// Our own fault: the search found that there is no set, although no needs collide.
    #[error("the search found that nothing can be had, although no needs collide")]
    NothingCollides,
}

/// How many literals are forced in the time that a trial takes for each need and each version to keep, by measurement.
const TRIED: u64 = 20;

/// The step machine.
#[derive(Debug)]
pub struct Resolver {
    problem: Problem,
    written: Written,
    known: Known,
    search: Search,
    /// Whether it is known that there is no set.
    refuted: bool,
    /// The collision that is told first, once it is known.
    collision: Option<Collision>,
    stats: SearchStats,
}

/// What a resolution took.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SearchStats {
    /// Packages whose releases were asked for.
    pub packages: usize,
    /// Releases of those packages.
    pub releases: usize,
    /// Releases whose needs were followed.
    pub looked_at: usize,
    /// Questions put to the search.
    pub questions: u64,
    /// Literals chosen freely.
    pub decisions: u64,
    /// Literals forced by a clause.
    pub propagations: u64,
    /// Clauses found falsified.
    pub conflicts: u64,
    /// Clauses learned.
    pub learned: u64,
}

impl Resolver {
    /// Starts on a problem.
    pub fn new(problem: Problem) -> Self {
        Self::with_reach(problem, Reach::AsNeeded)
    }

    /// Starts on a problem whose edit sets will be asked for: everything in reach of any release of a needed package is
    /// looked at.
    pub fn with_edits(problem: Problem) -> Self {
        Self::with_reach(problem, Reach::Whole)
    }

    /// Makes a resolver for many problems that differ only in their needs: [`Self::try_with`] begins each.
    pub fn for_trials(keep: BTreeMap<PackageName, BTreeSet<Version>>, rules: Rules) -> Self {
        let made = Self::new(Problem { keep, rules, ..Problem::default() });
        Self { search: Search::for_trials(&made.known), ..made }
    }

    /// Begins on these needs, with all that arrived and was learned before. The outcome is that of a resolver made by
    /// [`Self::new`] for them, only sooner. Only for a resolver made by [`Self::for_trials`].
    pub fn try_with(&mut self, requirements: Vec<Requirement>) {
        self.problem.requirements = bound(requirements, &self.problem.rules);
        for requirement in &self.problem.requirements {
            let id = self.known.package(&requirement.package);
            self.known.want(id);
        }
        // Stating the needs and judging the outcome take time too, however little is searched.
        self.known.count_forced(TRIED * (self.problem.requirements.len() + self.problem.keep.len()) as u64);
        self.search.try_again();
        (self.refuted, self.collision) = (false, None);
    }

    /// Returns a flag; once it is set, from anywhere, the search ends with [`Outcome::Stopped`]; a collision that is known
    /// by then is told as far as it is understood. What is asked afterwards looks at the flag too.
    pub fn stop_flag(&self) -> Arc<AtomicBool> {
        self.known.stop().clone()
    }

    /// Lets the search, and what is asked afterwards, do so much work in all: literals that are forced, which take the
    /// time. Then it ends with [`Outcome::Stopped`], on every machine at the same place; a collision that is known by then
    /// is told as far as it is understood.
    pub fn allow(&mut self, work: u64) {
        self.known.allow(work);
    }

    /// Sets how many conflicts the first attempt to decide in one search everything that is left may take; with 0, each
    /// question is asked by itself. The outcome is the same, and comes sooner or later. Default: 200.
    pub fn begin_attempts_with(&mut self, conflicts: u64) {
        self.search.begin_attempts_with(conflicts);
    }

    /// Lets so many releases be looked at, when all in reach are. Then it ends with [`Outcome::Stopped`].
    pub fn look_at_most(&mut self, releases: usize) {
        self.known.look_at_most(releases);
    }

    /// Tells whether it did all the work that it may.
    pub fn is_worn_out(&self) -> bool {
        self.known.left() == Some(0) || self.known.is_too_wide()
    }

    /// Returns how much work it did, counted as [`Self::allow`] counts.
    pub fn work(&self) -> u64 {
        self.known.work()
    }

    fn with_reach(mut problem: Problem, reach: Reach) -> Self {
        let written = match reach {
            Reach::AsNeeded => {
                problem.requirements = bound(problem.requirements, &problem.rules);
                Written::new()
            }
            Reach::Whole => {
                let mut all = edits::written(&problem);
                all.retain(|(bound, _)| counts(bound, &problem.rules));
                let (bound, written) = all.into_iter().unzip();
                problem.requirements = bound;
                written
            }
        };
        let requirements = problem.requirements.iter().map(|requirement| (&requirement.package, &requirement.accept));
        let mut known = Known::new(requirements, reach, &problem.rules);
        // What was locked is needed again, as a rule, so it is asked for at once.
        for name in problem.keep.keys().chain(problem.reach.keys()) {
            let id = known.package(name);
            known.want(id);
        }
        let search = Search::new(&known);
        Self { problem, written, known, search, refuted: false, collision: None, stats: SearchStats::default() }
    }

    /// Returns what it was asked, with the needs as they bind.
    pub fn problem(&self) -> &Problem {
        &self.problem
    }

    /// Lists the smallest sets of edits to the needs that make the problem solvable: those that leave wished needs alone
    /// first, then the smallest, and then those after which the fewest packages move; each was resolved. Empty when no
    /// edit of what may be edited helps. Ask after [`Outcome::Collision`], of a resolver made by
    /// [`Self::with_edits`]. When it is told to stop, it lists those that it found by then.
    pub fn edit_sets(&mut self, rules: &EditRules) -> Vec<EditSet> {
        edits::edit_sets(&self.problem, &self.written, &mut self.known, rules)
    }

    /// Proves that there is no set, in open formats; nothing when there is one, or it was told to stop. Ask after
    /// [`Outcome::Collision`].
    pub fn certificate(&mut self) -> Option<Certificate> {
        certify::certify(&self.problem, &mut self.known)
    }

    /// Writes the problem as clauses, as much of it as was looked at: all of it, when made by [`Self::with_edits`]. Ask
    /// after the end.
    pub fn formula(&mut self) -> Formula {
        certify::formula(&self.problem, &mut self.known)
    }

    /// Takes in what arrived and says what is needed next, or what was found. The first call brings nothing.
    ///
    /// # Errors
    /// [`ResolveError`] when a need names an unknown package or does not fit its numbering.
    pub fn step(&mut self, arrived: Vec<Arrival>) -> Result<Step, ResolveError> {
        self.known.take(arrived);
        if self.known.is_too_wide() {
            return Ok(Step::Done(Outcome::Stopped(Unfinished { found: None, fewest_moves: false })));
        }
        if !self.known.missing().is_empty() {
            return Ok(Step::Need(self.known.missing().clone()));
        }
        for requirement in &self.problem.requirements {
            let Some(document) = self.known.document(&requirement.package) else {
                return Err(ResolveError::UnknownPackage(requirement.clone()));
            };
            if let Err(cause) = requirement.accept.bind(&document.numbering) {
                return Err(ResolveError::Unreadable { requirement: requirement.clone(), cause });
            }
        }
        let step = self.go_on();
        let counts = self.search.stats();
        self.stats = SearchStats {
            packages: self.known.counts().packages,
            releases: self.known.counts().releases,
            looked_at: self.known.counts().looked_at,
            questions: counts.calls,
            decisions: counts.decisions,
            propagations: counts.propagations,
            conflicts: counts.conflicts,
            learned: counts.learned,
        };
        match step {
            Ok(step) => step,
            Err(Halt::Missing) => Ok(Step::Need(self.known.missing().clone())),
            Err(Halt::Stopped) => {
                let found = self.search.found(&self.problem, &mut self.known);
                let fewest_moves = self.search.moves_fewest();
                if let Some(found) = &found {
                    self.check(found)?;
                }
                Ok(Step::Done(Outcome::Stopped(Unfinished { found, fewest_moves })))
            }
        }
    }

    fn go_on(&mut self) -> Result<Result<Step, ResolveError>, Halt> {
        if self.refuted {
            debug_assert!(self.problem.not_all_moved.is_empty(), "why there is no other set is not told");
            let Some(first) = &self.collision else {
                let verdict = self.search.stats().propagations;
                let collision = explain::collision(&self.problem, &mut self.known, verdict)?;
                // Where nothing is needed, nothing is a right set.
                if collision.requirements.is_empty() {
                    return Ok(Err(ResolveError::NothingCollides));
                }
                self.collision = Some(collision);
                return Ok(Ok(Step::Going(Phase::Explaining)));
            };
            let (others, more) = explain::others(first, &self.problem, &mut self.known)?;
            let collision = Collision { others, more, ..first.clone() };
            return Ok(Ok(Step::Done(Outcome::Collision(Box::new(collision)))));
        }
        if !self.search.step(&self.problem, &mut self.known)? {
            self.refuted = true;
            return Ok(Ok(Step::Going(Phase::Explaining)));
        }
        if !self.search.is_done() {
            return Ok(Ok(Step::Going(self.search.phase())));
        }
        let resolution = self.search.found(&self.problem, &mut self.known).unwrap_or_default();
        // What a trial finds is told as possible, and never written down: there, tests judge it.
        if self.search.is_trial() && !cfg!(debug_assertions) {
            return Ok(Ok(Step::Done(Outcome::Resolved(resolution))));
        }
        Ok(self.check(&resolution).map(|()| Step::Done(Outcome::Resolved(resolution))))
    }

    /// Has a set judged before anyone sees it.
    fn check(&self, resolution: &Resolution) -> Result<(), ResolveError> {
        let violations = satisfies(&self.problem, resolution);
        if violations.is_empty() { Ok(()) } else { Err(ResolveError::WrongAnswer(violations)) }
    }

    /// Returns what the resolution took; zeros before it ended.
    pub fn stats(&self) -> SearchStats {
        self.stats
    }

    /// Returns what is known of a package, once it arrived.
    pub fn document(&self, name: &PackageName) -> Option<&PackageDocument> {
        self.known.document(name)
    }

    /// Lists what arrived, by package.
    pub fn documents(&self) -> impl Iterator<Item = &PackageDocument> {
        self.known.documents().map(|(_, document)| document)
    }

    /// Hands over all that arrived.
    pub fn into_documents(self) -> BTreeMap<PackageName, PackageDocument> {
        self.known.into_documents()
    }
}

/// Tells whether a need counts on one of the listed platforms; one that does not is none.
fn counts(requirement: &Requirement, rules: &Rules) -> bool {
    rules.platforms.is_empty() || rules.platforms.iter().any(|platform| requirement.accept.covers(platform))
}

/// Rewrites needs as they bind, each once.
fn bound(requirements: Vec<Requirement>, rules: &Rules) -> Vec<Requirement> {
    let mut bound = rules.overrides.bound_all(&requirements, &rules.coexist);
    bound.sort();
    bound.dedup();
    bound.retain(|requirement| counts(requirement, rules));
    bound
}
