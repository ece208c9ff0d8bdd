//! Resolving: from wishes to one consistent set of releases, or to the wishes that collide.
//!
//! A step machine: it says which packages' releases it needs next and is handed them, in any order and grouping; it
//! never reaches out itself. Releases are looked at only as far as the search gets. It ends with a resolution that [`crate::satisfies`] has judged, or with a collision. The
//! outcome is a pure function of the wishes, the releases, and the versions to keep (docs/resolution.md).

mod certify;
mod edits;
mod encode;
mod explain;
mod known;
mod objective;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

pub use certify::{Certificate, Formula};
pub use edits::{EditSet, WishEdit};
pub use explain::{Collision, Fact, LinesApart, RoleClash, WithinReach};

use jiff::Timestamp;
use yostel_solver::Config;

use crate::chosen::{AtVersion, Chosen, Numbered};
use crate::constraint::{Accept, BindError};
use crate::manifest::run_purpose;
use crate::name::{PackageName, Word};
use crate::origin::Origin;
use crate::overrides::Overrides;
use crate::release::{PackageDocument, Release};
use crate::requirement::{Asker, Requirement};
use crate::satisfies::{Violation, satisfies};
use crate::version::{Numbering, Version};
use known::{Known, Reach};
use objective::Search;

/// What is to be resolved.
#[derive(Debug, Clone, Default)]
pub struct Problem {
    /// What the projects need; order does not matter.
    pub wishes: Vec<Requirement>,
    /// Versions to keep where possible, as a lockfile has them. A withdrawn release may be kept, never newly chosen.
    pub keep: BTreeMap<PackageName, BTreeSet<Version>>,
    /// Which releases may be chosen at all, and which are the better.
    pub rules: Rules,
}

/// Which releases may be chosen, and which are the better.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rules {
    /// Only releases published by then; versions to keep are exempt. Default: no limit.
    pub published_by: Option<Timestamp>,
    /// Which of the releases that fit to take. Default: the newest.
    pub take: Take,
    /// Only releases that offer something for each of these platforms, versions to keep included. Default: none.
    pub platforms: BTreeSet<String>,
    /// Roles that several packages may fill. Default: none, so each role is filled by one package at most.
    pub shared_roles: BTreeSet<Word>,
    /// Packages of which there may be one release a compatible line. Default: none, so one a package.
    pub coexist: BTreeSet<PackageName>,
    /// What is said about packages wherever they turn up. Default: nothing.
    pub overrides: Overrides,
}

/// Which of the releases that fit to take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Take {
    /// As new as can be.
    #[default]
    Newest,
    /// As old as can be: proves that the lower bounds are true.
    Oldest,
}

impl Problem {
    /// Lists the platforms to be served, of those on which a need counts, for which a release offers nothing.
    pub fn unserved<'a>(&'a self, accept: &'a Accept, release: &'a Release) -> impl Iterator<Item = &'a String> {
        self.rules.platforms.iter().filter(|platform| accept.covers(platform) && !release.serves(platform))
    }

    /// Tells whether a release may be chosen: neither withdrawn nor published too late, or to be kept.
    pub fn may_choose(&self, package: &PackageName, release: &Release) -> bool {
        let kept = self.keep.get(package).is_some_and(|versions| versions.contains(&release.version));
        let early = self.rules.published_by.is_none_or(|by| release.published <= by);
        kept || (release.withdrawn.is_none() && early)
    }
}

/// What one package's sources answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Arrival {
    /// The package asked about.
    pub package: PackageName,
    /// Its releases and where they come from; none when no source knows it.
    pub found: Option<(Origin, PackageDocument)>,
}

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

/// What a search is at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// Whether there is a set at all.
    Any,
    /// How few packages must move, and which.
    Fewest,
    /// How new, or old, each package can be.
    Preferred,
    /// Why there is none.
    Explaining,
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

/// Why a search cannot go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Halt {
    /// Packages must arrive first.
    Missing,
    /// It was told to stop.
    Stopped,
}

/// The chosen releases that meet all requirements.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Resolution {
    /// Exactly what is needed.
    pub chosen: Chosen<Choice>,
}

/// One chosen release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// The release.
    pub release: Arc<Release>,
    /// How its package numbers.
    pub numbering: Numbering,
    /// Where it comes from.
    pub origin: Origin,
}

impl AtVersion for Choice {
    fn version(&self) -> &Version {
        &self.release.version
    }
}

impl Numbered for Choice {
    fn numbering(&self) -> Numbering {
        self.numbering
    }

    fn serves(&self, platform: &str) -> bool {
        self.release.serves(platform)
    }
}

impl Resolution {
    /// Returns what meets a need, as it binds, of a project or of a release in the set.
    pub fn met_by(&self, need: &Requirement, platforms: &BTreeSet<String>) -> Option<(&PackageName, &Choice)> {
        let asker = match &need.asker {
            Asker::Release(name, version) => self.chosen.at(name, version),
            Asker::Project(_) => None,
        };
        let counts = |p: &&String| need.accept.covers(p) && asker.is_none_or(|asker| asker.release.serves(p));
        let on: Vec<&String> = platforms.iter().filter(counts).collect();
        let counts = platforms.is_empty() || !on.is_empty();
        counts.then(|| self.chosen.met_by(&need.package, &need.accept, &on)).flatten()
    }

    /// Lists what the chosen releases need.
    pub fn requirements(&self) -> Vec<Requirement> {
        self.chosen.iter().flat_map(|(name, choice)| requirements_of(name, &choice.release)).collect()
    }
}

/// Lists what a release needs of others: its `run` needs; those of other purposes are its author's own affair.
pub fn requirements_of(name: &PackageName, release: &Release) -> Vec<Requirement> {
    let purpose = run_purpose();
    let needs = release.needs.get(&purpose).into_iter().flatten();
    needs
        .map(|(package, accept)| Requirement {
            asker: Asker::Release(name.clone(), release.version.clone()),
            package: package.clone(),
            accept: accept.clone(),
            purpose: purpose.clone(),
        })
        .collect()
}

/// Why a resolution could not be tried to its end.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ResolveError {
    /// A project needs a package that no source has.
    #[error("{} is in none of the sources", .0.package)]
    UnknownPackage(Requirement),
    /// A project's constraint does not fit the package's numbering.
    #[error("{wish}: {cause}")]
    Unreadable {
        /// Who wants what.
        wish: Requirement,
        /// Why it does not fit.
        cause: BindError,
    },
    /// Our own fault: the search gave an answer that breaks the rules. Never written to a lockfile.
    #[error("the search gave an answer that breaks the rules ({})", .0.first().map(ToString::to_string).unwrap_or_default())]
    WrongAnswer(Vec<Violation>),
}

/// The step machine.
#[derive(Debug)]
pub struct Resolver {
    problem: Problem,
    known: Known,
    search: Search,
    /// Whether it is known that there is no set.
    refuted: bool,
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
        Self::with_reach(problem, Reach::AsNeeded, None)
    }

    /// Starts on a problem; once the flag is set, from anywhere, the search ends with [`Outcome::Stopped`].
    pub fn with_stop(problem: Problem, stop: Arc<AtomicBool>) -> Self {
        Self::with_reach(problem, Reach::AsNeeded, Some(stop))
    }

    /// Starts on a problem whose edit sets will be asked for: everything in reach of any release of a wished package is
    /// looked at.
    pub fn with_edits(problem: Problem) -> Self {
        Self::with_reach(problem, Reach::Whole, None)
    }

    fn with_reach(mut problem: Problem, reach: Reach, stop: Option<Arc<AtomicBool>>) -> Self {
        problem.wishes = problem.rules.overrides.bound_all(&problem.wishes, &problem.rules.coexist);
        problem.wishes.sort();
        problem.wishes.dedup();
        // A wish that counts on none of the listed platforms is none.
        let platforms = &problem.rules.platforms;
        problem.wishes.retain(|wish| platforms.is_empty() || platforms.iter().any(|p| wish.accept.covers(p)));
        let wishes = problem.wishes.iter().map(|wish| (&wish.package, &wish.accept));
        let mut known = Known::new(wishes, reach, &problem.rules);
        // What was locked is needed again, as a rule, so it is asked for at once.
        for name in problem.keep.keys() {
            let id = known.package(name);
            known.want(id);
        }
        let search = Search::new(Config { stop, ..Config::default() });
        Self { problem, known, search, refuted: false, stats: SearchStats::default() }
    }

    /// Lists the smallest sets of edits to the wishes that make the problem solvable, smallest first and then those
    /// after which the fewest packages move; each was resolved. Ask after [`Outcome::Collision`], of a resolver made by
    /// [`Self::with_edits`].
    pub fn edit_sets(&mut self, most: usize) -> Vec<EditSet> {
        edits::edit_sets(&self.problem, &mut self.known, most)
    }

    /// Proves that there is no set, in open formats; nothing when there is one. Ask after [`Outcome::Collision`].
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
    /// [`ResolveError`] when a wish names an unknown package or does not fit its numbering.
    pub fn step(&mut self, arrived: Vec<Arrival>) -> Result<Step, ResolveError> {
        self.known.take(arrived);
        if !self.known.missing().is_empty() {
            return Ok(Step::Need(self.known.missing().clone()));
        }
        for wish in &self.problem.wishes {
            let Some(document) = self.known.document(&wish.package) else {
                return Err(ResolveError::UnknownPackage(wish.clone()));
            };
            if let Err(cause) = wish.accept.bind(document.numbering) {
                return Err(ResolveError::Unreadable { wish: wish.clone(), cause });
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
                let fewest_moves = self.search.phase() == Phase::Preferred;
                if let Some(found) = &found {
                    self.check(found)?;
                }
                Ok(Step::Done(Outcome::Stopped(Unfinished { found, fewest_moves })))
            }
        }
    }

    fn go_on(&mut self) -> Result<Result<Step, ResolveError>, Halt> {
        if self.refuted {
            let collision = explain::collision(&self.problem, &mut self.known)?;
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

    /// Hands over all that arrived.
    pub fn into_documents(self) -> BTreeMap<PackageName, PackageDocument> {
        self.known.into_documents()
    }
}
