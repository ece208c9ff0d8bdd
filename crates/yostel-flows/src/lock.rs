//! Resolve and write the lockfile, telling what moved and because of whom.

use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::Timestamp;
use yostel_core::{
    Arrival, Collision, Lockfile, Move, MoveKind, Outcome, PackageDocument, PackageName, Prefer, Problem, Resolution,
    ResolveError, Resolver, Rules, SearchStats, Step, Version, compare, declarations, nearest,
};
use yostel_sources::SourceSet;
use yostel_store::{for_each_in_parallel, write_atomically};

use crate::error::{FlowError, WishPlace};
use crate::observer::{Event, Observer};
use crate::project::{LoadedProject, Settings, load_lockfile};

/// What to keep of an earlier lockfile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keep {
    /// Every version that can stay.
    Locked,
    /// Nothing: everything as new as can be.
    Nothing,
}

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
    pub prefer: Option<Prefer>,
    /// When there is no set, a folder to write a proof of that into.
    pub proof: Option<PathBuf>,
}

impl Default for LockRequest {
    fn default() -> Self {
        Self { keep: Keep::Locked, write: Write::File, as_of: None, prefer: None, proof: None }
    }
}

/// What locking came to.
#[derive(Debug)]
pub struct LockReport {
    /// The lockfile's file.
    pub path: PathBuf,
    /// Its content.
    pub lockfile: Lockfile,
    /// What moved against the one before, by package.
    pub moves: Vec<Move>,
    /// Whether the file's bytes changed (or would).
    pub changed: bool,
    /// Whether they were written.
    pub written: bool,
    /// Newer releases that nobody holds back but that were kept where they are.
    pub newer: Vec<(PackageName, Version, Version)>,
    /// What the search did; none when there was nothing to search for.
    pub search: Option<SearchStats>,
}

/// Resolves the project and writes its lockfile.
///
/// # Errors
/// `Collision`, `UnknownPackage`, `Unreadable`, `Republished` (when keeping), and whatever reading the project, asking
/// its sources and writing refuse. The lockfile is then as it was.
pub fn lock(
    project: &LoadedProject,
    request: LockRequest,
    settings: &Settings,
    observer: &dyn Observer,
) -> Result<LockReport, FlowError> {
    let path = project.lockfile_path();
    let before = match (load_lockfile(project), request.keep) {
        (Err(FlowError::Lockfile { .. }), Keep::Nothing) => None,
        (before, _) => before?,
    };
    let wishes = project.manifest.requirements();
    if let (Some(lockfile), Keep::Locked) = (&before, request.keep)
        && lockfile.declarations == declarations(&wishes)
        && lockfile.differences(&wishes).is_empty()
    {
        let lockfile = lockfile.clone();
        let (moves, newer) = (Vec::new(), Vec::new());
        return Ok(LockReport { path, lockfile, moves, changed: false, written: false, newer, search: None });
    }
    let keep: BTreeMap<PackageName, Version> = match (&before, request.keep) {
        (Some(lockfile), Keep::Locked) => versions_of(lockfile),
        _ => BTreeMap::new(),
    };
    let rules = rules_of(project, request.as_of, request.prefer, settings);
    let problem = Problem { wishes: wishes.clone(), keep, rules };
    let (resolution, documents, search) = if wishes.is_empty() {
        (Resolution::default(), BTreeMap::new(), None)
    } else {
        let sources = project.sources()?;
        let (outcome, resolver) = drive(Resolver::new(problem), project, &sources, observer)?;
        let search = resolver.stats();
        match outcome {
            Outcome::Resolved(resolution) => (resolution, resolver.into_documents(), Some(search)),
            Outcome::Collision(collision) => {
                let places = places_of(project, &collision);
                let proof = match request.proof {
                    Some(folder) => write_certificate(&resolver, folder)?,
                    None => None,
                };
                return Err(FlowError::Collision { collision, places, proof });
            }
        }
    };
    let lockfile = Lockfile::from_resolution(&wishes, &resolution);
    let moves = compare(before.as_ref(), &lockfile);
    if request.keep == Keep::Locked {
        let is_content = |m: &&Move| matches!(m.kind, MoveKind::Content { .. });
        let republished: Vec<Move> = moves.iter().filter(is_content).cloned().collect();
        if !republished.is_empty() {
            return Err(FlowError::Republished(republished));
        }
    }
    let text = lockfile.write();
    let changed = before.as_ref() != Some(&lockfile);
    let written = changed && request.write == Write::File;
    if written {
        observer.notice(Event::Write("yostel.lock"));
        write_atomically(&path, text.as_bytes())?;
    }
    let newer = kept_below_newest(&lockfile, &documents, &moves);
    Ok(LockReport { path, lockfile, moves, changed, written, newer, search })
}

/// Finds where the wishes of a collision, and of those beside it, stand.
pub(crate) fn places_of(project: &LoadedProject, collision: &Collision) -> Vec<WishPlace> {
    let all = std::iter::once(collision).chain(&collision.others);
    all.flat_map(|collision| &collision.wishes).filter_map(|wish| project.place_of(wish)).collect()
}

/// Writes the proof that there is no set; returns its folder.
fn write_certificate(resolver: &Resolver, folder: PathBuf) -> Result<Option<PathBuf>, FlowError> {
    let Some(certificate) = resolver.certificate() else { return Ok(None) };
    std::fs::create_dir_all(&folder).map_err(yostel_store::StoreError::when("make the folder", &folder))?;
    let files = [
        ("problem.cnf", &certificate.cnf),
        ("variables.tsv", &certificate.variables),
        ("proof.drat", &certificate.proof),
    ];
    for (name, text) in files {
        write_atomically(&folder.join(name), text.as_bytes())?;
    }
    Ok(Some(folder))
}

/// Joins the manifest's policy with what was asked for.
pub(crate) fn rules_of(
    project: &LoadedProject,
    as_of: Option<Timestamp>,
    prefer: Option<Prefer>,
    settings: &Settings,
) -> Rules {
    let policy = &project.manifest.policy;
    let old_enough = policy.minimum_age_days.and_then(|days| {
        let seconds = i64::from(days) * 86_400;
        Timestamp::from_second(settings.now.as_second() - seconds).ok()
    });
    let published_by = [as_of, old_enough].into_iter().flatten().min();
    Rules { published_by, prefer: prefer.or(policy.prefer).unwrap_or_default() }
}

/// Reads a lockfile's versions as versions to keep.
pub(crate) fn versions_of(lockfile: &Lockfile) -> BTreeMap<PackageName, Version> {
    lockfile.chosen.iter().map(|(name, locked)| (name.clone(), locked.version.clone())).collect()
}

/// Drives a resolver to its end, asking the sources for what it needs.
pub(crate) fn drive(
    mut resolver: Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<(Outcome, Resolver), FlowError> {
    let mut arrived = Vec::new();
    observer.notice(Event::Begin("resolving", 0));
    loop {
        match resolver.step(arrived).map_err(|error| explain_error(error, project, sources))? {
            Step::Need(packages) => {
                observer.notice(Event::Ask(packages.len()));
                let packages: Vec<PackageName> = packages.into_iter().collect();
                let answers = for_each_in_parallel(&packages, |name| sources.document(name));
                observer.notice(Event::Advance(packages.len() as u64));
                arrived = Vec::new();
                for (package, answer) in packages.into_iter().zip(answers) {
                    arrived.push(Arrival { package, found: answer? });
                }
            }
            Step::Done(outcome) => {
                observer.notice(Event::End);
                return Ok((outcome, resolver));
            }
        }
    }
}

fn explain_error(error: ResolveError, project: &LoadedProject, sources: &SourceSet) -> FlowError {
    match error {
        ResolveError::UnknownPackage(wish) => {
            unknown_package(&wish.package, project.place_of(&wish).map(Box::new), project, sources)
        }
        ResolveError::Unreadable { wish, cause } => FlowError::Unreadable {
            package: wish.package.clone(),
            accept: wish.accept.clone(),
            wish: project.place_of(&wish).map(Box::new),
            cause,
        },
        error @ ResolveError::WrongAnswer(_) => FlowError::WrongAnswer(error),
    }
}

/// Says that no source knows a package, with the nearest name that one does know.
pub(crate) fn unknown_package(
    package: &PackageName,
    wish: Option<Box<WishPlace>>,
    project: &LoadedProject,
    sources: &SourceSet,
) -> FlowError {
    let names = sources.names();
    let near = nearest(package.as_str(), names.iter().map(PackageName::as_str));
    let near = near.and_then(|near| names.iter().find(|name| name.as_str() == near)).cloned();
    let sources = project.manifest.sources.keys().cloned().collect();
    FlowError::UnknownPackage { package: package.clone(), wish, near, sources }
}

/// Lists packages that stayed where they were although everyone who asks admits something newer.
fn kept_below_newest(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    moves: &[Move],
) -> Vec<(PackageName, Version, Version)> {
    yostel_core::outdated(lockfile, documents)
        .into_iter()
        .filter(|outdated| !moves.iter().any(|m| m.package == outdated.package))
        .filter_map(|outdated| Some((outdated.package, outdated.locked, outdated.admitted?)))
        .collect()
}
