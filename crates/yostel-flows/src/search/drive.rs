//! Driving a resolver to its end: it says which packages it needs, the sources are asked, and the answers go back in.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, mpsc};
use std::time::{Duration, Instant};

use yostel_documents::{PackageDocument, PackageName, nearest};
use yostel_resolve::{Ahead, Arrival, EditRules, EditSet, Outcome, Phase, Resolution, ResolveError, Resolver, Step};
use yostel_sources::SourceSet;

use crate::content::ask::{ask, ask_hearing};
use crate::error::{FlowError, RequirementPlace, SearchError};
use crate::observer::{Event, Observer, go_on};
use crate::project::LoadedProject;

/// A resolver driven to its end.
pub(crate) struct Driven {
    pub(crate) outcome: Outcome,
    pub(crate) resolver: Resolver,
    /// What it was at, and for how long in all.
    pub(crate) phases: Vec<(&'static str, Duration)>,
}

/// How often somebody looks whether a search is to stop.
const LOOK: Duration = Duration::from_millis(20);

/// How many sets of edits are looked for.
pub const MOST_EDIT_SETS: usize = 8;

/// Drives a resolver to its end, asking the sources for what it needs.
pub(crate) fn drive(
    resolver: Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<Driven, FlowError> {
    drive_within(resolver, project, sources, observer, None)
}

/// Like [`drive`], for so long at most; asking the sources is not counted.
pub(crate) fn drive_within(
    resolver: Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
    limit: Option<Duration>,
) -> Result<Driven, FlowError> {
    let stop = resolver.stop_flag();
    watched(&stop, observer, || search(resolver, project, sources, observer, limit))?
}

/// Works beside a guard that raises the flag once the observer wants to stop.
///
/// # Errors
/// `Stopped`, when it wanted to, whatever the work came to.
pub(crate) fn watched<T>(stop: &AtomicBool, observer: &dyn Observer, work: impl FnOnce() -> T) -> Result<T, FlowError> {
    let (done, ended) = mpsc::channel::<()>();
    let came = std::thread::scope(|scope| {
        let watch = move || {
            while ended.recv_timeout(LOOK) == Err(mpsc::RecvTimeoutError::Timeout) {
                if observer.stops() {
                    stop.store(true, Ordering::Relaxed);
                }
            }
        };
        // A machine that has no thread left works to the end rather than not at all.
        std::thread::Builder::new().spawn_scoped(scope, watch).ok();
        let came = work();
        drop(done);
        came
    });
    go_on(observer).map(|()| came)
}

fn search(
    mut resolver: Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
    limit: Option<Duration>,
) -> Result<Driven, FlowError> {
    let mut arrived = Vec::new();
    let mut times: BTreeMap<Phase, Duration> = BTreeMap::new();
    let mut asking = Duration::ZERO;
    let mut phase = Phase::Any;
    observer.notice(Event::Begin("resolving", 0));
    // Sources that answer late are asked about what will be wanted next while the others are still heard.
    let ahead = sources.is_far().then(|| Mutex::new(Ahead::new(resolver.problem())));
    let hear = |document: &PackageDocument| {
        if let Some(ahead) = &ahead {
            let next = ahead.lock().expect("nobody panics while holding it").hear(document);
            sources.expect(&next);
        }
    };
    loop {
        let began = Instant::now();
        let step = match limit {
            Some(limit) => {
                let stop = resolver.stop_flag();
                within(&stop, limit.saturating_sub(times.values().sum()), || resolver.step(arrived))
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
                let answers = ask_hearing(&packages, sources, observer, &hear)?.into_iter();
                arrived = answers.map(|(package, found)| Arrival { package, found }).collect();
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

/// What a trial came to.
pub(crate) enum Tried {
    /// The best set.
    Resolved(Resolution),
    /// There is none; why is not asked.
    Refuted,
    /// It was told to stop, or did all the work that it may.
    Stopped,
}

/// Drives one trial of a resolver made for many to its end, asking the sources for what it needs.
pub(crate) fn drive_trial(
    resolver: &mut Resolver,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<Tried, FlowError> {
    let mut arrived = Vec::new();
    loop {
        go_on(observer)?;
        match resolver.step(arrived).map_err(|error| explain_error(error, project, sources))? {
            Step::Going(Phase::Explaining) | Step::Done(Outcome::Collision(_)) => return Ok(Tried::Refuted),
            Step::Going(_) => arrived = Vec::new(),
            Step::Need(packages) => {
                let answers = ask(&packages, sources, observer)?.into_iter();
                arrived = answers.map(|(package, found)| Arrival { package, found }).collect();
            }
            Step::Done(Outcome::Resolved(resolution)) => return Ok(Tried::Resolved(resolution)),
            Step::Done(Outcome::Stopped(_)) => return Ok(Tried::Stopped),
        }
    }
}

/// Lists sets of edits that end a collision, as [`Resolver::edit_sets`] does, unless the observer wants to stop.
pub(crate) fn edit_sets(
    resolver: &mut Resolver,
    rules: &EditRules,
    observer: &dyn Observer,
) -> Result<Vec<EditSet>, FlowError> {
    observer.notice(Event::Begin("looking for edits", 0));
    let edit_sets = edit_sets_within(resolver, rules, observer, None);
    observer.notice(Event::End);
    edit_sets
}

/// The same, for so long at most; those that were found by then are listed.
pub(crate) fn edit_sets_within(
    resolver: &mut Resolver,
    rules: &EditRules,
    observer: &dyn Observer,
    left: Option<Duration>,
) -> Result<Vec<EditSet>, FlowError> {
    let stop = resolver.stop_flag();
    watched(&stop, observer, || match left {
        Some(left) => within(&stop, left, || resolver.edit_sets(rules)),
        None => resolver.edit_sets(rules),
    })
}

/// Works with a guard beside it that says stop when the time left is up. That is said of this work alone.
fn within<T>(stop: &AtomicBool, left: Duration, work: impl FnOnce() -> T) -> T {
    let (done, wait) = mpsc::channel::<()>();
    let came = std::thread::scope(|scope| {
        let watch = move || {
            if wait.recv_timeout(left) == Err(mpsc::RecvTimeoutError::Timeout) {
                stop.store(true, Ordering::Relaxed);
            }
        };
        // A machine that has no thread left searches without a limit rather than not at all.
        std::thread::Builder::new().spawn_scoped(scope, watch).ok();
        let came = work();
        drop(done);
        came
    });
    stop.store(false, Ordering::Relaxed);
    came
}

fn name_of(phase: Phase) -> &'static str {
    match phase {
        Phase::Any => "finding a set",
        Phase::Fewest => "moving the fewest",
        Phase::Preferred => "choosing versions",
        Phase::Explaining => "explaining",
    }
}

fn explain_error(error: ResolveError, project: &LoadedProject, sources: &SourceSet) -> SearchError {
    match error {
        ResolveError::UnknownPackage(requirement) => {
            unknown_package(&requirement.package, project.place_of(&requirement).map(Box::new), project, sources)
        }
        ResolveError::Unreadable { requirement, cause } => SearchError::Unreadable {
            package: requirement.package.clone(),
            accept: requirement.accept.clone(),
            requirement: project.place_of(&requirement).map(Box::new),
            cause,
        },
        error @ (ResolveError::WrongAnswer(_) | ResolveError::NothingCollides) => SearchError::WrongAnswer(error),
    }
}

/// Says that no source knows a package, with the nearest name that one does know.
pub(crate) fn unknown_package(
    package: &PackageName,
    requirement: Option<Box<RequirementPlace>>,
    project: &LoadedProject,
    sources: &SourceSet,
) -> SearchError {
    if project.manifest().sources.is_empty() {
        return SearchError::NoSources;
    }
    let names = sources.names();
    let near = nearest(package.as_str(), names.iter().map(PackageName::as_str));
    let near = near.and_then(|near| names.iter().find(|name| name.as_str() == near)).cloned();
    let sources = project.manifest().sources.keys().cloned().collect();
    SearchError::UnknownPackage { package: package.clone(), requirement, near, sources }
}
