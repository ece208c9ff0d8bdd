//! Resolve and write the lockfile, telling what moved and because of whom.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::time::Duration;

use jiff::Timestamp;
use yostel_documents::{
    Declared, Dispute, Disputed, Lockfile, LockfileHeader, Origin, PackageDocument, PackageName, Seal, SourceName, Take,
};
use yostel_files::{Disk, Folder};
use yostel_findings::{BothMoved, Merged, Move, MoveKind, Notice, compare, notices};
use yostel_resolve::{Outcome, Overridden, Problem, Resolution, Resolver, Unfinished, overridden};
use yostel_sources::SourceSet;
use yostel_versions::Version;

use crate::content::trust::disputes_with;
use crate::context::Context;
use crate::decide::doubts::{Doubt, doubts};
use crate::decide::merge::{Sides, read_sides};
use crate::error::{FlowError, LockError, SearchError, SearchReport, Standing};
use crate::observer::{Event, Observer};
use crate::project::LoadedProject;
use crate::project::mentions::has_mentions;
use crate::project::read::{load_lockfile, lockfile_header};
use crate::search::drive::{Driven, drive_within, watched};
use crate::search::fresh::fresh;
use crate::search::places::{places_of, rules_about};
use crate::search::proposal::{Basis, Proposal, moves_to};
use crate::search::rules::{Keep, kept_versions, rules_of};

/// Whether to write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Write {
    /// Write the lockfile.
    File,
    /// Only tell what would be written.
    Nothing,
}

/// How to lock.
#[derive(Debug, Clone)]
pub struct LockRequest {
    /// What to keep.
    pub keep: Keep,
    /// Whether to write.
    pub write: Write,
    /// Only releases published by then; versions that are kept are exempt.
    pub as_of: Option<Timestamp>,
    /// Which of the releases that fit to take; the manifest's policy when left out.
    pub take: Option<Take>,
    /// When there is no set, a folder to write a proof of that into.
    pub proof: Option<PathBuf>,
    /// How long to search, asking the sources not counted, before the best found so far will do.
    pub time_limit: Option<Duration>,
    /// Whether to refuse a lockfile with packages that only this machine has.
    pub shareable: bool,
    /// The lockfiles of two sides, which this one takes the place of; none when the project's own is kept.
    pub merge: Option<Sides>,
}

impl Default for LockRequest {
    fn default() -> Self {
        Self {
            keep: Keep::Locked,
            write: Write::File,
            as_of: None,
            take: None,
            proof: None,
            time_limit: None,
            shareable: false,
            merge: None,
        }
    }
}

/// What locking came to.
#[derive(Debug)]
pub struct LockReport {
    /// The lockfile's file.
    pub path: PathBuf,
    /// How many packages it locks.
    pub packages: usize,
    /// Its seal.
    pub seal: Seal,
    /// Its content; none when it fits as it is, which its seal tells without reading all of it.
    pub lockfile: Option<Lockfile>,
    /// What moved against the one before, by package.
    pub moves: Vec<Move>,
    /// Whether the file's bytes changed (or would).
    pub changed: bool,
    /// Whether they were written.
    pub written: bool,
    /// Releases that would be chosen if nothing were kept, above those that were kept.
    pub newer: Vec<(PackageName, Version, Version)>,
    /// Needs that get another package, or a version that they do not accept, because the manifest says so.
    pub overridden: Vec<Overridden>,
    /// Packages that only this machine has.
    pub only_here: Vec<(PackageName, Origin)>,
    /// Patches that the manifest names for packages that are not locked.
    pub unused_patches: BTreeSet<PackageName>,
    /// What the search did; none when there was nothing to search for.
    pub search: Option<SearchReport>,
    /// Whether this machine can install it.
    pub for_here: bool,
    /// What is probably not meant.
    pub doubts: Vec<Doubt>,
    /// What is said of locked releases since they were published.
    pub notices: Vec<Notice>,
    /// The same of releases that were locked and are not any more, as far as they were withdrawn.
    pub left: Vec<Notice>,
    /// Releases that were locked, and that their sources do not have any more.
    pub gone: Vec<(PackageName, Version)>,
    /// What would move by `as_of` or `take` if nothing were kept; nothing where neither was asked for.
    pub held: Vec<Move>,
    /// Other files of the project that mention what is locked, and change with it.
    pub followed: Vec<String>,
    /// With `offline`: when the servers of each source were last reached, as far as that was kept.
    pub cached: Vec<(SourceName, Option<Timestamp>)>,
    /// When two sides were merged: packages that both moved, each to another version. `moves` are against ours then.
    pub both_moved: Option<Vec<BothMoved>>,
}

impl LockReport {
    /// Of a lockfile that fits as it is.
    fn nothing_new(path: PathBuf, packages: usize, seal: Seal) -> Self {
        Self {
            path,
            packages,
            seal,
            lockfile: None,
            moves: Vec::new(),
            changed: false,
            written: false,
            newer: Vec::new(),
            overridden: Vec::new(),
            only_here: Vec::new(),
            unused_patches: BTreeSet::new(),
            search: None,
            gone: Vec::new(),
            for_here: true,
            cached: Vec::new(),
            doubts: Vec::new(),
            notices: Vec::new(),
            left: Vec::new(),
            held: Vec::new(),
            followed: Vec::new(),
            both_moved: None,
        }
    }
}

/// Resolves the project and writes its lockfile.
///
/// # Errors
/// `Collision`, `UnknownPackage`, `Unreadable`, `Republished` (when keeping), and whatever reading the project, asking
/// its sources and writing refuse. The lockfile is then as it was.
pub fn lock(project: &LoadedProject, request: LockRequest, context: &Context<'_>) -> Result<LockReport, FlowError> {
    // Long: the order of these steps is what the command promises, and each is a call or a few lines.
    let path = project.lockfile_path();
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    // Whether it can be shared is for its content to tell.
    let asks_for_others = request.keep == Keep::Locked && (request.as_of.is_some() || request.take.is_some());
    if request.keep == Keep::Locked
        && request.merge.is_none()
        && !has_mentions(project)
        && !(request.shareable || asks_for_others)
        && let Some(LockfileHeader { seal, declarations: locked, packages, sources }) = lockfile_header(project)
        && locked == declared.seal()
        && sources.iter().all(|source| project.manifest().sources.contains_key(source))
    {
        return Ok(LockReport::nothing_new(path, packages, seal));
    }
    let sides = request.merge.as_ref().map(|sides| read_sides(project, sides)).transpose()?;
    let (before, sides) = match (sides, &request.keep) {
        (Some(read), _) => {
            let Merged { lockfile, both } = read.merged;
            (Some(lockfile), Some((read.ours, both)))
        }
        (None, keep) => match (load_lockfile(project), keep) {
            (Err(FlowError::Lock(LockError::Lockfile { .. })), Keep::Nothing) => (None, None),
            (before, _) => (before?, None),
        },
    };
    let keep = before.as_ref().map(|lockfile| kept_versions(lockfile, &declared, &request.keep)).unwrap_or_default();
    let rules = rules_of(project, request.as_of, request.take, context.settings);
    let problem = Problem { requirements: declared.requirements.clone(), keep, rules, ..Problem::default() };
    let (mut held, mut taken_anew, mut cached) = (Vec::new(), None, Vec::new());
    let (resolution, documents, search) = if declared.requirements.is_empty() {
        (Resolution::default(), BTreeMap::new(), None)
    } else {
        let sources = project.sources_and_elsewhere(before.as_ref(), &request.keep, context)?;
        cached = project.cached_sources_seen(&sources);
        let again = problem.clone();
        let keeping_nothing = asks_for_others.then(|| Problem { keep: BTreeMap::new(), ..problem.clone() });
        let resolver = Resolver::new(problem);
        let Driven { outcome, mut resolver, phases } =
            drive_within(resolver, project, &sources, context.observer, request.time_limit)?;
        let stats = resolver.stats();
        let report = |standing| Some(SearchReport { stats, phases, standing });
        match outcome {
            Outcome::Resolved(resolution) => {
                if let (Some(before), Some(problem)) = (&before, keeping_nothing) {
                    held = moves_without(problem, project, &sources, (before, &declared), &request, context)?;
                }
                if may_be_newer(&resolution, &resolver) && before.is_some() && request.keep != Keep::Nothing {
                    taken_anew = fresh(&again, project, &sources, context.observer)?;
                }
                (resolution, resolver.into_documents(), report(Standing::Best))
            }
            Outcome::Stopped(Unfinished { found: Some(resolution), fewest_moves }) => {
                let standing = if fewest_moves { Standing::FewestMoves } else { Standing::Found };
                (resolution, resolver.into_documents(), report(standing))
            }
            Outcome::Stopped(Unfinished { found: None, .. }) => {
                return Err(SearchError::OutOfTime(request.time_limit.unwrap_or_default()).into());
            }
            Outcome::Collision(collision) => {
                let places = places_of(project, &collision);
                let (proof, unproved) =
                    match request.proof.map(|folder| write_proof(&mut resolver, folder, context.observer)) {
                        None | Some(Ok(None)) => (None, None),
                        Some(Ok(proof)) => (proof, None),
                        // What collides is told all the same.
                        Some(Err(FlowError::Store(error))) => (None, Some(Box::new(error))),
                        Some(Err(error)) => return Err(error),
                    };
                let rules = rules_about(project, &collision);
                let search = report(Standing::NoSet).map(Box::new);
                return Err(SearchError::Collision { collision, places, rules, proof, unproved, search }.into());
            }
        }
    };
    // What two sides come to together, nobody wrote: who asks for what may be of neither.
    if let Some(written) = sides.as_ref().map(|(ours, _)| ours).or(before.as_ref()) {
        refuse_other_needs(written, &declared, &documents, &request.keep)?;
    }
    let basis = Basis {
        project,
        declared: &declared,
        patches: &patches,
        before: before.as_ref(),
        keep: &request.keep,
        manifests: BTreeMap::new(),
        shareable: request.shareable,
    };
    let proposal = Proposal::of(&resolution, &basis, context)?;
    // What two sides left in its place is never what comes of them.
    let followed = proposal.followed().to_vec();
    let changed = proposal.changes_lockfile() || sides.is_some() || !followed.is_empty();
    let written = changed && request.write == Write::File;
    if written {
        proposal.apply(project, context)?;
    }
    let gone = before.as_ref().map(|before| gone_from_sources(before, &documents)).unwrap_or_default();
    let only_here = proposal.only_here();
    let seal = proposal.seal();
    let (lockfile, mut moves) = proposal.into_parts();
    let both_moved = sides.map(|(ours, both)| {
        moves = compare(Some(&ours), &lockfile);
        both
    });
    let newer = taken_anew.map(|anew| kept_below(&lockfile, &anew, &moves)).unwrap_or_default();
    let left = before.as_ref().map(|before| left_withdrawn(before, &moves, &documents)).unwrap_or_default();
    let notices = notices(&lockfile, &documents);
    let platform = &context.settings.platform;
    let doubts = doubts(project, &declared, &lockfile, platform);
    let (overridden, unused_patches) = (overridden(&declared, &resolution), patches.unused(&lockfile));
    let told = LockReport::nothing_new(path, lockfile.chosen.len(), seal);
    let lockfile = Some(lockfile);
    Ok(LockReport {
        only_here,
        lockfile,
        moves,
        changed,
        written,
        newer,
        overridden,
        unused_patches,
        search,
        gone,
        held,
        followed,
        cached,
        both_moved,
        for_here: match declared.platforms.is_empty() {
            true => !doubts.iter().any(|doubt| matches!(doubt, Doubt::NotForHere { .. })),
            false => declared.platforms.contains(platform),
        },
        doubts,
        notices,
        left,
        ..told
    })
}

/// Refuses a lockfile that says of a release that it needs something else than its source says: one of the two was changed
/// after the release was published.
fn refuse_other_needs(
    before: &Lockfile,
    declared: &Declared,
    documents: &BTreeMap<PackageName, PackageDocument>,
    keep: &Keep,
) -> Result<(), FlowError> {
    let same = before.declarations == declared.seal();
    // What is declared now rewrites needs otherwise than what was declared then.
    if !same {
        return Ok(());
    }
    let disputes = disputes_with(before, declared, documents);
    let kept = disputes.into_iter().filter(|one| keep.keeps(&one.package));
    let needs: Vec<Dispute> = kept.filter(|one| matches!(one.about, Disputed::Needs { .. })).collect();
    if needs.is_empty() { Ok(()) } else { Err(LockError::Disputed(needs).into()) }
}

/// Lists locked releases that their sources, as far as they were asked, do not have any more.
fn gone_from_sources(
    before: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Vec<(PackageName, Version)> {
    let from_source = before.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    let gone = from_source.filter(|(name, locked)| {
        documents.get(*name).is_some_and(|document| document.release(&locked.version).is_none())
    });
    gone.map(|(name, locked)| (name.clone(), locked.version.clone())).collect()
}

/// Tells what would move if nothing were kept; nothing where there is no such set, or none was found in time.
fn moves_without(
    problem: Problem,
    project: &LoadedProject,
    sources: &SourceSet,
    (before, declared): (&Lockfile, &Declared),
    request: &LockRequest,
    context: &Context<'_>,
) -> Result<Vec<Move>, FlowError> {
    let driven = drive_within(Resolver::new(problem), project, sources, context.observer, request.time_limit)?;
    Ok(match driven.outcome {
        Outcome::Resolved(resolution) => moves_to(&resolution, declared, before),
        Outcome::Collision(_) | Outcome::Stopped(_) => Vec::new(),
    })
}

/// Writes the proof that there is no set; returns its folder.
fn write_proof(
    resolver: &mut Resolver,
    folder: PathBuf,
    observer: &dyn Observer,
) -> Result<Option<PathBuf>, FlowError> {
    observer.notice(Event::Begin("proving that there is no set", 0));
    let certificate = watched(&resolver.stop_flag(), observer, || resolver.certificate())?;
    observer.notice(Event::End);
    let Some(certificate) = certificate else { return Ok(None) };
    let at = Folder::make_on(&Disk::default(), &folder)?;
    let files = [
        ("problem.cnf", &certificate.formula.cnf),
        ("variables.tsv", &certificate.formula.variables),
        ("proof.drat", &certificate.proof),
    ];
    for (name, text) in files {
        at.write_atomically(name, text.as_bytes())?;
    }
    Ok(Some(folder))
}

/// Tells whether some package of a set has a release above the chosen one that might be chosen: cheap, and not the whole
/// truth.
fn may_be_newer(resolution: &Resolution, resolver: &Resolver) -> bool {
    resolution.chosen.iter().any(|(name, choice)| {
        let newest = resolver.document(name).and_then(|document| document.newest());
        newest.is_some_and(|newest| newest.version > choice.release.version)
    })
}

/// Lists packages that stayed where they were, with the newer release that they would have if nothing were kept.
fn kept_below(lockfile: &Lockfile, anew: &Resolution, moves: &[Move]) -> Vec<(PackageName, Version, Version)> {
    let stayed = lockfile.chosen.iter().filter(|(name, _)| !moves.iter().any(|m| m.package == **name));
    let newer = stayed.filter_map(|(name, locked)| {
        let is_alone = lockfile.chosen.all(name).len() == 1;
        // Of several versions each moves along its own line.
        let own = anew.chosen.all(name).iter().map(|choice| &choice.release.version);
        let own = own.filter(|version| is_alone || locked.numbering.is_same_line(version, &locked.version));
        let version = own.max()?;
        (*version > locked.version).then(|| (name.clone(), locked.version.clone(), version.clone()))
    });
    newer.collect()
}

/// Tells of releases that were locked and moved, as far as they are withdrawn.
fn left_withdrawn(
    before: &Lockfile,
    moves: &[Move],
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Vec<Notice> {
    let mut left = notices(before, documents);
    left.retain(|notice| {
        let moved = |m: &Move| match &m.kind {
            MoveKind::Moved { from, .. } | MoveKind::Dropped { from } => *from == notice.version,
            _ => false,
        };
        notice.withdrawn.is_some() && moves.iter().any(|m| m.package == notice.package && moved(m))
    });
    left
}
