//! Find which of the moves between two locks makes a check fail, by trying consistent sets in between.
//!
//! Each set that is tried is a real resolution: some packages are to be where the bad lock has them, the others where the good
//! one has them, and the fewest leave these places. So moves that cannot be parted stay together. It is installed into a copy
//! of the project, and the check is run there.

mod between;
mod tries;

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Lockfile, PackageName, Sha256, to_hex};
use yostel_findings::{Advisories, Blame, CheckVerdict, Comparison, Move, MoveKind, News, compare, comparison};
use yostel_store::KeptVerdicts;

use self::between::{Between, TriedSet};
use self::tries::{CheckOfSet, Memory, Tries};
use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::error::FlowError;
use crate::look::compare::{Side, lockfile_of};
use crate::moving::news::news_of;
use crate::moving::scratch::{CheckRoom, Ran, fingerprint};
use crate::project::LoadedProject;
use crate::search::rules::{Keep, versions_of};

/// What judges a set in a copy of the project; it is told too how many of the moves were made, and how many there are. Called
/// from several threads where several are tried at once.
pub type CheckInRoom<'c> = dyn Fn(&CheckRoom<'_>, (usize, usize)) -> Result<Ran, FlowError> + Sync + 'c;

/// What judges a set by what is locked.
pub type CheckOfLock<'c> = dyn Fn(&Lockfile, (usize, usize)) -> Result<CheckVerdict, FlowError> + Sync + 'c;

/// Between which locks to look, and how.
#[derive(Debug)]
pub struct CulpritRequest {
    /// The lock with which the check passes, and the one with which it fails.
    pub sides: [Side; 2],
    /// How many sets to try at the same time, at most.
    pub at_once: usize,
    /// What is asked, in words that say all of it but the locks and the project's files: then what was found out is kept until
    /// the end is reached. None when nothing is to be kept.
    pub question: Option<String>,
    /// Whether to take up what is kept of a search that asked the same.
    pub resume: bool,
}

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
    /// How many of the sets were tried before, by a search that was taken up.
    pub resumed: usize,
    /// What came of it.
    pub blame: Blamed,
    /// What the releases say that are to blame, by package.
    pub news: BTreeMap<PackageName, Vec<News>>,
    /// What the check said with those moves alone, or without any where it fails then too; empty where neither is so.
    pub said: String,
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
    request: CulpritRequest,
    check: &CheckInRoom<'_>,
    context: &Context<'_>,
) -> Result<CulpritReport, FlowError> {
    let in_copy: &CheckOfSet<'_> = &|TriedSet { edited, proposal }, moved, unwanted, context| {
        let room = CheckRoom::with(edited, proposal.text(), &proposal.followed_texts(), context)?;
        check(&room.until(unwanted), moved)
    };
    search(project, request, in_copy, context)
}

/// Finds the moves that make a check fail, which goes by what is locked alone; it is told how many of the moves were made.
///
/// # Errors
/// Those of reading the locks and asking sources, and what the check returns.
pub fn culprit_by(
    project: &LoadedProject,
    request: CulpritRequest,
    check: &CheckOfLock<'_>,
    context: &Context<'_>,
) -> Result<CulpritReport, FlowError> {
    let by_lock: &CheckOfSet<'_> = &|tried, moved, _, _| Ok(Ran::of(check(tried.proposal.lockfile(), moved)?));
    search(project, request, by_lock, context)
}

fn search(
    project: &LoadedProject,
    request: CulpritRequest,
    check: &CheckOfSet<'_>,
    context: &Context<'_>,
) -> Result<CulpritReport, FlowError> {
    let sides = request.sides;
    let (good, bad) = (lockfile_of(project, &sides[0], context)?, lockfile_of(project, &sides[1], context)?);
    let (at_good, at_bad) = (versions_of(&good), versions_of(&bad));
    let names: BTreeSet<&PackageName> = at_good.keys().chain(at_bad.keys()).collect();
    let moved: Vec<PackageName> =
        names.into_iter().filter(|name| at_good.get(*name) != at_bad.get(*name)).cloned().collect();
    let sources = project.sources_and_elsewhere(Some(&bad), &Keep::Locked, context)?;
    let patches = project.patches()?;
    let between = Between { project, patches: &patches, at_good, at_bad, moved: &moved, sources: &sources, context };
    let memory = match &request.question {
        Some(question) => {
            let asked = asked(question, [&good, &bad], project, context)?;
            Some(Memory::of(KeptVerdicts::new(&project.root, &asked), request.resume, &context.cache))
        }
        None => None,
    };
    let mut tries = Tries::new(&between, check, request.at_once, memory);
    let resumed = tries.known();
    let found = tries.blame()?;
    let named = |set: &BTreeSet<usize>| set.iter().map(|at| moved[*at].clone()).collect::<BTreeSet<_>>();
    let (mut news, mut said) = (BTreeMap::new(), String::new());
    let blame = match found {
        Blame::FailsBefore => {
            said = tries.said(&BTreeSet::new())?;
            Blamed::GoodFails
        }
        Blame::PassesAfter => Blamed::BadPasses,
        Blame::CannotTell(set) => Blamed::CannotTell(named(&set)),
        Blame::Moves(set) => {
            let set = narrowed(set, &between, &mut tries)?;
            said = tries.said(&set)?;
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
    let runs = tries.end();
    Ok(CulpritReport { sides, moves: moved.len(), untried, unlike_good, runs, resumed, blame, news, said })
}

/// Writes what all of a search goes by that its verdicts do not name: a digest.
fn asked(
    question: &str,
    sides: [&Lockfile; 2],
    project: &LoadedProject,
    context: &Context<'_>,
) -> Result<String, FlowError> {
    let mut digest = Sha256::default();
    let [good, bad] = sides.map(|lockfile| lockfile.sealed().0);
    for part in [question, &good, &bad, &fingerprint(project, context.observer)?] {
        digest.update(&part.len().to_le_bytes());
        digest.update(part.as_bytes());
    }
    Ok(to_hex(&digest.finish()))
}

/// Where one move is to blame that others cannot be parted from, looks whether it is rather one of those, which can be made
/// without it.
fn narrowed(
    mut set: BTreeSet<usize>,
    between: &Between<'_>,
    tries: &mut Tries<'_>,
) -> Result<BTreeSet<usize>, FlowError> {
    'smaller: while set.len() == 1 {
        let there = between.set_with(&set)?;
        let moved = between.moved_in(there.proposal.lockfile());
        for other in moved.difference(&set) {
            let alone: BTreeSet<usize> = [*other].into();
            let with_it = between.moved_in(between.set_with(&alone)?.proposal.lockfile());
            if !with_it.is_subset(&moved) || with_it.len() >= moved.len() {
                continue;
            }
            if tries.verdict(&alone)? == CheckVerdict::Fails {
                set = alone;
                continue 'smaller;
            }
        }
        break;
    }
    Ok(set)
}
