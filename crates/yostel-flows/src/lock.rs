//! Resolve and write the lockfile, telling what moved and because of whom.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use yostel_documents::{
    Claims, Declared, Dispute, Disputed, Glance, LockedPackage, Lockfile, Origin, PackageDocument, PackageName, Seal,
    Take, nearest,
};
use yostel_files::{Disk, Folder};
use yostel_findings::Move;
use yostel_resolve::{
    Arrival, Collision, Outcome, Overridden, Phase, Problem, Resolution, ResolveError, Resolver, Rules, SearchStats,
    Step, Unfinished, overridden,
};
use yostel_sources::SourceSet;
use yostel_store::{Cache, for_each_in_parallel};
use yostel_versions::Version;

use crate::error::{FlowError, RulePlace, WishPlace};
use crate::observer::{Event, Observer};
use crate::project::{LoadedProject, Settings, glance_at_lockfile, line_of, load_lockfile};
use crate::proposal::{Basis, Proposal};

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
    pub take: Option<Take>,
    /// When there is no set, a folder to write a proof of that into.
    pub proof: Option<PathBuf>,
    /// How long to search, asking the sources not counted, before the best found so far will do.
    pub time_limit: Option<Duration>,
    /// Whether to refuse a lockfile with packages that only this machine has.
    pub shareable: bool,
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
    /// Newer releases that nobody holds back but that were kept where they are.
    pub newer: Vec<(PackageName, Version, Version)>,
    /// Needs that get another package, or a version that they do not admit, because the manifest says so.
    pub overridden: Vec<Overridden>,
    /// Packages that only this machine has.
    pub only_here: Vec<(PackageName, Origin)>,
    /// Patches that the manifest names for packages that are not locked.
    pub unused_patches: BTreeSet<PackageName>,
    /// What the search did; none when there was nothing to search for.
    pub search: Option<SearchReport>,
    /// Releases that were locked, and that their sources do not have any more.
    pub gone: Vec<(PackageName, Version)>,
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
        }
    }
}

/// What a search did, how long each part took, and what is known of its answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchReport {
    /// Counts.
    pub stats: SearchStats,
    /// What it was at, and for how long in all.
    pub phases: Vec<(&'static str, Duration)>,
    /// What is known of its answer.
    pub standing: Standing,
}

/// What is known of the answer of a search.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It is the best there is.
    Best,
    /// No other moves fewer packages; newer versions might have been found with more time.
    FewestMoves,
    /// It is right, and what was found in time.
    Found,
}

impl Standing {
    /// Returns the word for it in documents.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Best => "best",
            Self::FewestMoves => "fewest-moves",
            Self::Found => "found-in-time",
        }
    }
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
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    // Whether it can be shared is for its content to tell.
    if request.keep == Keep::Locked
        && !request.shareable
        && let Some(Glance { seal, declarations: locked, packages }) = glance_at_lockfile(project)
        && locked == declared.seal()
    {
        return Ok(LockReport::nothing_new(path, packages, seal));
    }
    let before = match (load_lockfile(project), request.keep) {
        (Err(FlowError::Lockfile { .. }), Keep::Nothing) => None,
        (before, _) => before?,
    };
    let keep: Kept = match (&before, request.keep) {
        (Some(lockfile), Keep::Locked) => kept_versions(lockfile, &declared),
        _ => BTreeMap::new(),
    };
    let rules = rules_of(project, request.as_of, request.take, settings);
    let problem = Problem { wishes: declared.wishes.clone(), keep, rules };
    let (resolution, documents, search) = if declared.wishes.is_empty() {
        (Resolution::default(), BTreeMap::new(), None)
    } else {
        let cache = Cache::open(&settings.cache);
        let sources = project.sources_and_elsewhere(before.as_ref(), request.keep, &cache, observer)?;
        let stop = Arc::new(AtomicBool::new(false));
        let resolver = Resolver::with_stop(problem, stop.clone());
        let alarm = request.time_limit.map(|limit| Alarm { limit, stop });
        let Driven { outcome, mut resolver, phases } = drive_within(resolver, project, &sources, observer, alarm)?;
        let stats = resolver.stats();
        let report = |standing| Some(SearchReport { stats, phases, standing });
        match outcome {
            Outcome::Resolved(resolution) => (resolution, resolver.into_documents(), report(Standing::Best)),
            Outcome::Stopped(Unfinished { found: Some(resolution), fewest_moves }) => {
                let standing = if fewest_moves { Standing::FewestMoves } else { Standing::Found };
                (resolution, resolver.into_documents(), report(standing))
            }
            Outcome::Stopped(Unfinished { found: None, .. }) => {
                return Err(FlowError::OutOfTime(request.time_limit.unwrap_or_default()));
            }
            Outcome::Collision(collision) => {
                let places = places_of(project, &collision);
                let proof = match request.proof {
                    Some(folder) => write_certificate(&mut resolver, folder)?,
                    None => None,
                };
                let rules = rules_about(project, &collision);
                return Err(FlowError::Collision { collision, places, rules, proof });
            }
        }
    };
    let cache = Cache::open(&settings.cache);
    if let Some(before) = before.as_ref().filter(|_| request.keep == Keep::Locked) {
        refuse_other_needs(before, &declared, &documents)?;
    }
    let (keep, shareable) = (request.keep, request.shareable);
    let basis = Basis { project, declared: &declared, patches: &patches, before: before.as_ref(), keep, shareable };
    let proposal = Proposal::of(&resolution, &basis, &cache, observer)?;
    let changed = proposal.changes_lockfile();
    let written = changed && request.write == Write::File;
    if written {
        proposal.write(project, observer)?;
    }
    let gone = before.as_ref().map(|before| gone_from_sources(before, &documents)).unwrap_or_default();
    let only_here = proposal.only_here();
    let (lockfile, moves) = proposal.into_parts();
    let newer = kept_below_newest(&lockfile, &documents, &moves);
    let (overridden, unused_patches) = (overridden(&declared, &resolution), patches.unused(&lockfile));
    let told = LockReport::nothing_new(path, lockfile.chosen.len(), lockfile.seal());
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
        ..told
    })
}

/// Refuses a lockfile that says of a release that it needs something else than its source says: one of the two was changed
/// after the release was published.
fn refuse_other_needs(
    before: &Lockfile,
    declared: &Declared,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Result<(), FlowError> {
    let same = before.declarations == declared.seal();
    // What is declared now rewrites needs otherwise than what was declared then.
    if !same {
        return Ok(());
    }
    let disputes = disputes_with(before, declared, documents);
    let needs: Vec<Dispute> = disputes.into_iter().filter(|one| matches!(one.about, Disputed::Needs { .. })).collect();
    if needs.is_empty() { Ok(()) } else { Err(FlowError::Disputed(needs)) }
}

/// Compares what is locked with what sources say of it, as far as they were asked.
pub(crate) fn disputes_with(
    lockfile: &Lockfile,
    declared: &Declared,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Vec<Dispute> {
    let claims = Claims::of(lockfile, declared);
    let from_source = lockfile.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    let dispute = |(name, locked): (&PackageName, &LockedPackage)| {
        let about = claims.against_document(name, locked, documents.get(name))?;
        Some(Dispute { package: name.clone(), version: locked.version.clone(), about })
    };
    from_source.filter_map(dispute).collect()
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

/// Finds where the wishes of a collision, and of those beside it, stand.
pub(crate) fn places_of(project: &LoadedProject, collision: &Collision) -> Vec<WishPlace> {
    let all = std::iter::once(collision).chain(&collision.others);
    all.flat_map(|collision| &collision.wishes).filter_map(|wish| project.place_of(wish)).collect()
}

/// Finds what the manifest says, wherever they turn up, about the packages of a collision.
fn rules_about(project: &LoadedProject, collision: &Collision) -> Vec<RulePlace> {
    let manifest = project.manifest();
    let all = std::iter::once(collision).chain(&collision.others);
    let met: BTreeSet<&PackageName> = all
        .flat_map(|one| one.wishes.iter().map(|wish| &wish.package).chain(one.facts.iter().map(|fact| &fact.package)))
        .collect();
    let place = |span, table, package: &PackageName, says| RulePlace {
        line: line_of(&project.top.text, span),
        table,
        package: package.clone(),
        says,
    };
    let agreed = project.overrides().agreed;
    let mut rules: Vec<RulePlace> = Vec::new();
    for (package, accept) in agreed.iter().filter(|(package, _)| met.contains(package)) {
        rules.push(place(&manifest.agreed[package].span, "agreed", package, accept.to_string()));
    }
    for (package, force) in manifest.force.iter().filter(|(package, _)| met.contains(package)) {
        rules.push(place(&force.span, "force", package, force.accept.to_string()));
    }
    for (package, swap) in manifest.swap.iter().filter(|(_, swap)| met.contains(&swap.by)) {
        rules.push(place(&swap.span, "swap", package, format!("for {}", swap.by)));
    }
    rules
}

/// Writes the proof that there is no set; returns its folder.
fn write_certificate(resolver: &mut Resolver, folder: PathBuf) -> Result<Option<PathBuf>, FlowError> {
    let Some(certificate) = resolver.certificate() else { return Ok(None) };
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

/// Joins the manifest's policy with what was asked for.
pub(crate) fn rules_of(
    project: &LoadedProject,
    as_of: Option<Timestamp>,
    take: Option<Take>,
    settings: &Settings,
) -> Rules {
    let policy = &project.manifest().policy;
    let old_enough = policy.minimum_age_days.and_then(|days| {
        let seconds = i64::from(days) * 86_400;
        Timestamp::from_second(settings.now.as_second() - seconds).ok()
    });
    let published_by = [as_of, old_enough].into_iter().flatten().min();
    let platforms = project.manifest().project.platforms.clone();
    let shared_roles = policy.share_roles.clone();
    let overrides = project.overrides();
    let coexist = policy.coexist.clone();
    let take = take.or(policy.take).unwrap_or_default();
    Rules { published_by, take, platforms, shared_roles, coexist, overrides }
}

/// Versions to keep, by package.
pub(crate) type Kept = BTreeMap<PackageName, BTreeSet<Version>>;

/// Reads a lockfile's versions as versions to keep: all but those that were forced and are not any more, since nobody
/// chose them.
pub(crate) fn kept_versions(lockfile: &Lockfile, declared: &Declared) -> Kept {
    let mut keep = versions_of(lockfile);
    keep.retain(|name, _| !lockfile.chosen[name].forced || declared.overrides.forced.contains_key(name));
    keep
}

/// Reads a lockfile's versions as versions to keep.
pub(crate) fn versions_of(lockfile: &Lockfile) -> Kept {
    let mut kept = Kept::new();
    for (name, locked) in lockfile.chosen.iter() {
        kept.entry(name.clone()).or_default().insert(locked.version.clone());
    }
    kept
}

/// A resolver driven to its end.
pub(crate) struct Driven {
    pub(crate) outcome: Outcome,
    pub(crate) resolver: Resolver,
    /// What it was at, and for how long in all.
    pub(crate) phases: Vec<(&'static str, Duration)>,
}

/// Stops a search when its time is up.
struct Alarm {
    limit: Duration,
    stop: Arc<AtomicBool>,
}

/// Drives a resolver to its end, asking the sources for what it needs.
pub(crate) fn drive(
    resolver: Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<Driven, FlowError> {
    drive_within(resolver, project, sources, observer, None)
}

fn drive_within(
    mut resolver: Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
    alarm: Option<Alarm>,
) -> Result<Driven, FlowError> {
    let mut arrived = Vec::new();
    let mut times: BTreeMap<Phase, Duration> = BTreeMap::new();
    let mut asking = Duration::ZERO;
    let mut phase = Phase::Any;
    observer.notice(Event::Begin("resolving", 0));
    loop {
        let began = Instant::now();
        let step = match &alarm {
            Some(alarm) => {
                let left = alarm.limit.saturating_sub(times.values().sum());
                step_within(&mut resolver, arrived, left, &alarm.stop)
            }
            None => resolver.step(arrived),
        };
        let took = began.elapsed();
        *times.entry(phase).or_default() += took;
        tracing::trace!(?phase, ?took, stats = ?resolver.stats(), "a step of the search");
        match step.map_err(|error| explain_error(error, project, sources))? {
            Step::Going(next) => {
                tracing::debug!(from = ?phase, to = ?next, "the search comes to its next phase");
                phase = next;
                arrived = Vec::new();
            }
            Step::Need(packages) => {
                tracing::debug!(packages = packages.len(), "asking the sources");
                observer.notice(Event::Ask(packages.len()));
                let began = Instant::now();
                let packages: Vec<PackageName> = packages.into_iter().collect();
                let answers = for_each_in_parallel(&packages, |name| sources.document(name));
                observer.notice(Event::Advance(packages.len() as u64));
                arrived = Vec::new();
                for (package, answer) in packages.into_iter().zip(answers) {
                    arrived.push(Arrival { package, found: answer? });
                }
                asking += began.elapsed();
            }
            Step::Done(outcome) => {
                observer.notice(Event::End);
                tracing::debug!(stats = ?resolver.stats(), "the search ended");
                let mut phases = vec![("asking the sources", asking)];
                phases.extend(times.into_iter().map(|(phase, took)| (name_of(phase), took)));
                return Ok(Driven { outcome, resolver, phases });
            }
        }
    }
}

/// Steps with a guard beside it that says stop when the time left is up.
fn step_within(
    resolver: &mut Resolver,
    arrived: Vec<Arrival>,
    left: Duration,
    stop: &AtomicBool,
) -> Result<Step, ResolveError> {
    let (done, wait) = mpsc::channel::<()>();
    std::thread::scope(|scope| {
        let watch = move || {
            if wait.recv_timeout(left) == Err(mpsc::RecvTimeoutError::Timeout) {
                stop.store(true, Ordering::Relaxed);
            }
        };
        // A machine that has no thread left searches without a limit rather than not at all.
        std::thread::Builder::new().spawn_scoped(scope, watch).ok();
        let step = resolver.step(arrived);
        drop(done);
        step
    })
}

fn name_of(phase: Phase) -> &'static str {
    match phase {
        Phase::Any => "finding a set",
        Phase::Fewest => "moving the fewest",
        Phase::Preferred => "choosing versions",
        Phase::Explaining => "explaining",
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
    if project.manifest().sources.is_empty() {
        return FlowError::NoSources;
    }
    let names = sources.names();
    let near = nearest(package.as_str(), names.iter().map(PackageName::as_str));
    let near = near.and_then(|near| names.iter().find(|name| name.as_str() == near)).cloned();
    let sources = project.manifest().sources.keys().cloned().collect();
    FlowError::UnknownPackage { package: package.clone(), wish, near, sources }
}

/// Lists packages that stayed where they were although everyone who asks admits something newer.
fn kept_below_newest(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    moves: &[Move],
) -> Vec<(PackageName, Version, Version)> {
    yostel_findings::outdated(lockfile, documents)
        .into_iter()
        .filter(|outdated| !moves.iter().any(|m| m.package == outdated.package))
        .filter_map(|outdated| Some((outdated.package, outdated.locked, outdated.admitted?)))
        .collect()
}
