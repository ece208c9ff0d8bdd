//! Find which of the moves between two locks makes a check fail, by trying consistent sets in between.
//!
//! Each set that is tried is a real resolution: some packages are to be where the bad lock has them, the others where the good
//! one has them, and the fewest leave these places. So moves that cannot be parted stay together. It is installed into a copy
//! of the project, and the check is run there.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Lockfile, PackageName, Requirement, Seal, run_purpose};
use yostel_findings::{Advisories, Blame, CheckVerdict, Comparison, Move, MoveKind, News, blame, compare, comparison};
use yostel_resolve::{Collision, Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::ConstraintText;

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::FlowError;
use crate::look::compare::{Side, lockfile_of};
use crate::moving::aim::{Aim, UpdateRequest};
use crate::moving::constraints::with_edits;
use crate::moving::news::news_of;
use crate::moving::scratch::CheckRoom;
use crate::project::LoadedProject;
use crate::project::patches::Patches;
use crate::search::drive::drive;
use crate::search::places::told;
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, KeptVersions, rules_of, versions_in, versions_of};

/// What judges a set in a copy of the project; it is told too how many of the moves were made, and how many there are.
pub type CheckInRoom<'c> = dyn FnMut(&CheckRoom<'_>, (usize, usize)) -> Result<CheckVerdict, FlowError> + 'c;

/// What judges a set; it is told too how many of the moves were made, and how many there are.
pub type CheckOf<'c, T> = dyn FnMut(&T, (usize, usize)) -> Result<CheckVerdict, FlowError> + 'c;

/// What a search for a culprit came to.
#[derive(Debug)]
pub struct CulpritReport {
    /// What was compared with what.
    pub sides: [Side; 2],
    /// How many packages moved between the two.
    pub moves: usize,
    /// How many packages differ otherwise (their place, content or patch): that is not tried.
    pub untried: usize,
    /// How many packages are not where the good lock has them even without any move, since what is needed now does not let
    /// them.
    pub unlike_good: usize,
    /// How often the check was run.
    pub runs: usize,
    /// What came of it.
    pub blame: Blamed,
    /// What the releases say that are to blame, by package.
    pub news: BTreeMap<PackageName, Vec<News>>,
}

/// What came of it.
#[derive(Debug)]
pub enum Blamed {
    /// These moves, and with them what cannot be parted from them.
    Moves {
        /// From the good lock to the set with these moves alone.
        comparison: Comparison,
        /// The packages that are to blame; what else moved cannot be parted from them.
        packages: BTreeSet<PackageName>,
    },
    /// The check fails with the good lock too.
    GoodFails,
    /// The check passes with the bad lock too.
    BadPasses,
    /// One of these, and nobody can tell which.
    CannotTell(BTreeSet<PackageName>),
}

/// Finds the moves that make a check fail, which is run in a copy of the project with each set installed.
///
/// # Errors
/// Those of reading the locks, asking sources, installing, and what the check returns. The project is not touched.
pub fn culprit(
    project: &LoadedProject,
    sides: [Side; 2],
    check: &mut CheckInRoom<'_>,
    context: &Context<'_>,
) -> Result<CulpritReport, FlowError> {
    let mut in_copy = |TriedSet { edited, proposal }: &TriedSet, moved| {
        check(&CheckRoom::with(edited, proposal.text(), &proposal.followed_texts(), context)?, moved)
    };
    search(project, sides, &mut in_copy, context)
}

/// Finds the moves that make a check fail, which goes by what is locked alone; it is told how many of the moves were made.
///
/// # Errors
/// Those of reading the locks and asking sources, and what the check returns.
pub fn culprit_by(
    project: &LoadedProject,
    sides: [Side; 2],
    check: &mut CheckOf<'_, Lockfile>,
    context: &Context<'_>,
) -> Result<CulpritReport, FlowError> {
    search(project, sides, &mut |tried: &TriedSet, moved| check(tried.proposal.lockfile(), moved), context)
}

/// A set that is tried.
struct TriedSet {
    /// The project, with its constraints as they accept the set.
    edited: LoadedProject,
    proposal: Proposal,
}

fn search(
    project: &LoadedProject,
    sides: [Side; 2],
    check: &mut CheckOf<'_, TriedSet>,
    context: &Context<'_>,
) -> Result<CulpritReport, FlowError> {
    let (good, bad) = (lockfile_of(project, &sides[0], context)?, lockfile_of(project, &sides[1], context)?);
    let (at_good, at_bad) = (versions_of(&good), versions_of(&bad));
    let names: BTreeSet<&PackageName> = at_good.keys().chain(at_bad.keys()).collect();
    let moved: Vec<PackageName> =
        names.into_iter().filter(|name| at_good.get(*name) != at_bad.get(*name)).cloned().collect();
    let sources = project.sources_and_elsewhere(Some(&bad), &Keep::Locked, context)?;
    let patches = project.patches()?;
    let between = Between { project, patches: &patches, at_good, at_bad, moved: &moved, sources: &sources, context };
    let mut tried: BTreeMap<Seal, CheckVerdict> = BTreeMap::new();
    let found = blame(moved.len(), |set| {
        let there = between.set_with(set)?;
        // Sets that were asked about may come to the same.
        if let Some(verdict) = tried.get(&there.proposal.seal()) {
            return Ok(*verdict);
        }
        let verdict = check(&there, (set.len(), moved.len()))?;
        tried.insert(there.proposal.seal(), verdict);
        Ok::<_, FlowError>(verdict)
    })?;
    let named = |set: &BTreeSet<usize>| set.iter().map(|at| moved[*at].clone()).collect::<BTreeSet<_>>();
    let mut news = BTreeMap::new();
    let blame = match found {
        Blame::FailsBefore => Blamed::GoodFails,
        Blame::PassesAfter => Blamed::BadPasses,
        Blame::CannotTell(set) => Blamed::CannotTell(named(&set)),
        Blame::Moves(set) => {
            let set = narrowed(set, &between, &mut tried, check)?;
            let there = between.set_with(&set)?;
            let after = there.proposal.lockfile();
            let names = &from_sources(&good) | &from_sources(after);
            let documents = told_by_sources(project, &names, context.observer)?;
            let nothing = Advisories::default();
            let comparison = comparison(&good, after, &documents, &nothing, &context.settings.platform);
            news = news_of(&comparison, &documents);
            Blamed::Moves { comparison, packages: named(&set) }
        }
    };
    let is_move = |one: &Move| {
        matches!(
            one.kind,
            MoveKind::Moved { .. } | MoveKind::Added { .. } | MoveKind::Dropped { .. } | MoveKind::Purposes { .. }
        )
    };
    let untried = compare(Some(&good), &bad).iter().filter(|one| !is_move(one)).count();
    let none = versions_of(between.set_with(&BTreeSet::new())?.proposal.lockfile());
    let unlike_good = between.at_good.iter().filter(|(name, there)| none.get(*name) != Some(*there)).count();
    Ok(CulpritReport { sides, moves: moved.len(), untried, unlike_good, runs: tried.len(), blame, news })
}

/// Where one move is to blame that others cannot be parted from, looks whether it is rather one of those, which can be made
/// without it.
fn narrowed(
    mut set: BTreeSet<usize>,
    between: &Between<'_>,
    tried: &mut BTreeMap<Seal, CheckVerdict>,
    check: &mut CheckOf<'_, TriedSet>,
) -> Result<BTreeSet<usize>, FlowError> {
    'smaller: while set.len() == 1 {
        let there = between.set_with(&set)?;
        let moved = between.moved_in(there.proposal.lockfile());
        for other in moved.difference(&set) {
            let alone = between.set_with(&[*other].into())?;
            let with_it = between.moved_in(alone.proposal.lockfile());
            if !with_it.is_subset(&moved) || with_it.len() >= moved.len() {
                continue;
            }
            let seal = alone.proposal.seal();
            let verdict = match tried.get(&seal) {
                Some(verdict) => *verdict,
                None => check(&alone, (1, between.moved.len()))?,
            };
            tried.insert(seal, verdict);
            if verdict == CheckVerdict::Fails {
                set = [*other].into();
                continue 'smaller;
            }
        }
        break;
    }
    Ok(set)
}

/// What lies between two locks.
struct Between<'b> {
    project: &'b LoadedProject,
    patches: &'b Patches,
    at_good: KeptVersions,
    at_bad: KeptVersions,
    moved: &'b [PackageName],
    sources: &'b SourceSet,
    context: &'b Context<'b>,
}

impl Between<'_> {
    /// Returns a need that holds a package where the bad lock has it; nothing where it has none of it, or several.
    fn demand(&self, package: &PackageName) -> Option<Requirement> {
        let versions = self.at_bad.get(package).filter(|versions| versions.len() == 1)?;
        Some(Requirement {
            asker: Asker::Project(self.project.here().name().clone()),
            purpose: run_purpose(),
            package: package.clone(),
            accept: ConstraintText::parse(&format!("={}", versions.first()?)).ok()?,
        })
    }

    /// Lists the moved packages that a set does not have where the good lock has them.
    fn moved_in(&self, lockfile: &Lockfile) -> BTreeSet<usize> {
        let there = versions_of(lockfile);
        let is_moved = |at: &usize| there.get(&self.moved[*at]) != self.at_good.get(&self.moved[*at]);
        (0..self.moved.len()).filter(is_moved).collect()
    }

    /// Resolves the set in which these of the moved packages are where the bad lock has them, and the rest where the good one
    /// has it, as far as that is consistent. The projects' own constraints give way, since either lock was right once.
    fn set_with(&self, set: &BTreeSet<usize>) -> Result<TriedSet, FlowError> {
        let Self { project, patches, context, .. } = self;
        let at_bad: BTreeSet<&PackageName> = set.iter().map(|at| &self.moved[*at]).collect();
        let mut keep = self.at_good.clone();
        for name in at_bad {
            match self.at_bad.get(name) {
                Some(versions) => drop(keep.insert(name.clone(), versions.clone())),
                None => drop(keep.remove(name)),
            }
        }
        let declared = project.declared_with(patches);
        let mut rules = rules_of(project, None, None, context.settings);
        let mut requirements = declared.requirements.clone();
        requirements.iter_mut().for_each(|need| need.accept = need.accept.loosened());
        rules.overrides.agreed.values_mut().for_each(|accept| *accept = accept.loosened());
        let problem = Problem { requirements, keep, rules, ..Problem::default() };
        let demands = set.iter().filter_map(|at| self.demand(&self.moved[*at]));
        let demanding =
            Problem { requirements: problem.requirements.iter().cloned().chain(demands).collect(), ..problem.clone() };
        let resolved = |problem: Problem| -> Result<Result<Resolution, Box<Collision>>, FlowError> {
            match drive(Resolver::new(problem), project, self.sources, context.observer)?.outcome {
                Outcome::Resolved(resolution) => Ok(Ok(resolution)),
                Outcome::Collision(collision) => Ok(Err(collision)),
                Outcome::Stopped(_) => Err(FlowError::Stopped),
            }
        };
        // What is to be where the bad lock has it is there, if that can be; what nobody needs then is left out.
        let problem = match resolved(demanding)? {
            Ok(resolution) => Problem { keep: versions_in(&resolution), ..problem },
            Err(_) => problem,
        };
        let resolution = match resolved(problem)? {
            Ok(resolution) => resolution,
            Err(collision) => return Err(told(project, collision).into()),
        };
        let request = UpdateRequest::of_everything(Write::Nothing);
        let aim = Aim { packages: None, demands: Vec::new(), request: &UpdateRequest { edit: true, ..request } };
        let (edited, _) = with_edits(project, &aim, &resolution)?;
        let declared = edited.declared_with(patches);
        let basis = Basis {
            project: &edited,
            declared: &declared,
            patches,
            before: None,
            keep: &Keep::Nothing,
            manifests: BTreeMap::new(),
            shareable: false,
        };
        let proposal = Proposal::of(&resolution, &basis, context)?;
        Ok(TriedSet { edited, proposal })
    }
}
