//! Move what is locked to newer releases: everything, some packages, or only what ends advisories.
//!
//! What is asked for is as new as can be first; then the fewest others move. Where constraints of the project's own move
//! too, the set is found with them loosened, each is then written so that it accepts what was found, and what the manifests
//! say by then is resolved: so what is told was proved with the very texts that are written.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_documents::{Lockfile, PackageName};
use yostel_findings::{Advisories, Comparison, News, Outdated, Threat, UnreadAdvisory, comparison, outdated};

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::{FlowError, LockError};
use crate::look::gather::{Sought, gather};
use crate::look::statements::sorted;
use crate::look::trials::try_all;
use crate::moving::aim::{Aim, UpdateRequest, asked_for, demands, refuse_unaccepted};
use crate::moving::alternatives::{Alternative, other_sets};
use crate::moving::constraints::ConstraintMove;
use crate::moving::news::news_of;
use crate::moving::planned::{PlannedUpdate, StartingPoint};
use crate::moving::reach::{WaysOut, find};
use crate::moving::tested::{Tested, Tester, try_out};
use crate::project::LoadedProject;
use crate::project::read::load_lockfile;
use crate::using::checks::checks_of;

/// What updating came to.
#[derive(Debug)]
pub struct UpdateReport {
    /// The lockfile's file.
    pub path: PathBuf,
    /// How many packages are locked.
    pub packages: usize,
    /// The packages that were to move; none when everything was.
    pub asked: Option<BTreeSet<PackageName>>,
    /// What moved, because of whom, and what that means.
    pub comparison: Comparison,
    /// Other sets that it could have come to, the best first, where they were asked for.
    pub alternatives: Vec<Alternative>,
    /// The projects' own constraints that moved.
    pub edits: Vec<ConstraintMove>,
    /// What the releases say that are new, by package.
    pub news: BTreeMap<PackageName, Vec<News>>,
    /// Of what was to move, what has newer releases still, and who is in the way.
    pub stayed: Vec<Outdated>,
    /// Of what stayed, what the manifest says of it wherever it turns up: `force` or `agreed`.
    pub ruled: BTreeMap<PackageName, &'static str>,
    /// Advisories that were to end and could not.
    pub standing: Vec<Threat>,
    /// Advisories that could not be read.
    pub unread: Vec<UnreadAdvisory>,
    /// Other files of the project that mention what is locked, and change with it.
    pub followed: Vec<String>,
    /// The files that change, by their paths relative to the root, as they would be.
    pub files: BTreeMap<String, String>,
    /// What the checks came to, where it was tried.
    pub tested: Option<Tested>,
    /// Whether files changed, or would.
    pub changed: bool,
    /// Whether they were written.
    pub written: bool,
}

/// Moves what is asked for to newer releases, and writes lockfile and manifests.
///
/// # Errors
/// `NoLockfile`, `NotLocked`, `Collision`, `NotAccepted`, and whatever reading the project, asking its sources and writing
/// refuse. Everything is then as it was.
pub fn update(
    project: &LoadedProject,
    request: &UpdateRequest,
    context: &Context<'_>,
) -> Result<UpdateReport, FlowError> {
    update_tested(project, request, None, context)
}

/// Like [`update`]; where there is somebody who runs checks, the update is tried in a copy first, and nothing is written
/// unless the checks pass that its moves reach.
///
/// # Errors
/// As there; and `NoChecks`, `CheckNowhere`, `ChangedMeanwhile`, those of copying and installing, and what running a check
/// returns.
pub fn update_tested(
    project: &LoadedProject,
    request: &UpdateRequest,
    tester: Option<Tester<'_, '_>>,
    context: &Context<'_>,
) -> Result<UpdateReport, FlowError> {
    if tester.is_some() {
        // Before anything is asked for.
        checks_of(project, &[])?;
    }
    let path = project.lockfile_path();
    let before = load_lockfile(project)?.ok_or_else(|| LockError::NoLockfile(path.clone()))?;
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    let mut aim = Aim { packages: asked_for(project, &before, &declared, request)?, demands: Vec::new(), request };
    refuse_unaccepted(project, &before, &declared, request, context)?;
    aim.demands.extend(demands(project, request));
    let sources = project.sources_and_elsewhere(Some(&before), &aim.keep(), context)?;
    let WaysOut { found, threats, unread } = find(&mut aim, (&before, &declared), project, &sources, context)?;
    // Where nothing is to be done, what is locked is told as it is.
    let Some((resolution, mut documents)) = found else { return Ok(nothing(path, before, aim, threats, unread)) };
    let start = StartingPoint { project, before: &before, declared: &declared, patches: &patches, sources: &sources };
    let planned = PlannedUpdate::of(&resolution, &aim, &start, context)?;
    let others = other_sets(request.alternatives, &resolution, &aim, &start, context)?;
    let (edited, proposal) = (&planned.edited, &planned.proposal);
    let changed = proposal.changes_lockfile() || !proposal.manifests().is_empty();
    let after = proposal.lockfile().clone();
    let missing = &(&from_sources(&before) | &from_sources(&after)) - &documents.keys().cloned().collect();
    documents.extend(told_by_sources(project, &missing, context.observer)?);
    let mut sought = Sought::on(&before);
    sought.add(&after);
    for other in &others {
        other.lend_to(&mut documents);
        sought.add(&other.lockfile);
    }
    let (advisories, unread) = gather(&sought, &documents, (project, &sources), context)?;
    let platform = &context.settings.platform;
    let comparison = comparison(&before, &after, &documents, &advisories, platform);
    let alternatives = others.into_iter().map(|other| other.compared(&aim, &before, &documents, &advisories, platform));
    let alternatives = alternatives.collect();
    let mut stayed = outdated(&after, &documents);
    stayed.retain(|one| aim.is_for(&one.package) && !request.advisories);
    // Of several versions side by side another may be affected still: what ended is looked at.
    let mut standing = sorted(&advisories, (&after, &documents), edited, context)?.stand;
    standing.retain(|now| threats.iter().any(|threat| threat.id == now.id && threat.package == now.package));
    if request.tries_what_stayed {
        try_all(&mut stayed, &after, edited, &sources, context)?;
    }
    let moved = comparison.moves.iter().map(|one| &one.moved.package).collect();
    let tested = match tester.filter(|_| changed) {
        Some(tester) => Some(try_out(&planned.trial(&start, moved), tester, context)?),
        None => None,
    };
    let written = changed && request.write == Write::File && tested.as_ref().is_none_or(Tested::passes);
    if written {
        proposal.apply(edited, context)?;
    }
    Ok(UpdateReport {
        path,
        files: planned.files(),
        followed: proposal.followed().to_vec(),
        packages: after.chosen.len(),
        asked: aim.packages,
        news: news_of(&comparison, &documents),
        comparison,
        alternatives,
        edits: planned.edits,
        ruled: ruled(&stayed, edited),
        stayed,
        standing,
        unread,
        tested,
        changed,
        written,
    })
}

/// Finds what the manifest says of packages wherever they turn up.
fn ruled(stayed: &[Outdated], project: &LoadedProject) -> BTreeMap<PackageName, &'static str> {
    let manifest = project.manifest();
    let rule = |one: &Outdated| match (
        manifest.force.contains_key(&one.package),
        manifest.agreed.contains_key(&one.package),
    ) {
        (true, _) => Some((one.package.clone(), "force")),
        (_, true) => Some((one.package.clone(), "agreed")),
        _ => None,
    };
    stayed.iter().filter_map(rule).collect()
}

/// Tells of an update that has nothing to do.
fn nothing(
    path: PathBuf,
    lockfile: Lockfile,
    aim: Aim<'_>,
    standing: Vec<Threat>,
    unread: Vec<UnreadAdvisory>,
) -> UpdateReport {
    let nobody = (BTreeMap::new(), Advisories::default());
    UpdateReport {
        path,
        packages: lockfile.chosen.len(),
        asked: aim.packages,
        comparison: comparison(&lockfile, &lockfile, &nobody.0, &nobody.1, ""),
        alternatives: Vec::new(),
        edits: Vec::new(),
        news: BTreeMap::new(),
        stayed: Vec::new(),
        ruled: BTreeMap::new(),
        standing,
        unread,
        files: BTreeMap::new(),
        followed: Vec::new(),
        tested: None,
        changed: false,
        written: false,
    }
}
