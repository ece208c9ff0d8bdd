//! How far behind a project was, over time: its lockfile as git has it, each as of its own date.

use std::collections::BTreeSet;

use jiff::Timestamp;
use yostel_documents::{Lockfile, PackageName, SourceName};
use yostel_findings::{Drift, Lag, LockedRelease, Told, UnreadAdvisory};
use yostel_sources::{FileHistory, GitError, Revision, file_of, history_of};

use crate::content::trust::told_by_sources;
use crate::context::Context;
use crate::error::FlowError;
use crate::look::gather::{Sought, gather};
use crate::observer::go_on;
use crate::project::LoadedProject;
use crate::project::files::{LOCKFILE_NAME, MOST_LOCKFILE};
use crate::project::prepared::Prepared;
use crate::search::rules::Keep;

/// Most times that are looked at: of a longer history, as many are left out evenly as it takes.
const MOST_POINTS: usize = 200;

/// Times at which a curve is told.
const STEPS: i64 = 60;

/// How far behind a project was, over time.
#[derive(Debug)]
pub struct DriftReport {
    /// The project that is worked on.
    pub project: PackageName,
    /// Each time that was looked at, rising; the last is now.
    pub points: Vec<DriftPoint>,
    /// The same between those, at times as far from each other as the next, each with what was locked then: a lockfile falls
    /// behind while nobody touches it. The first is that of the first point, the last that of the last; none when there is
    /// one point only.
    pub curve: Vec<(Timestamp, Lag)>,
    /// How many commits of the lockfile are left out between those.
    pub left_out: usize,
    /// How many commits have a lockfile that cannot be read, or are of no time before now.
    pub unreadable: usize,
    /// Whether only a part of git's history is here.
    pub is_shallow: bool,
    /// Why there is no history, when there is none.
    pub no_history: Option<String>,
    /// Advisories that could not be read.
    pub unread: Vec<UnreadAdvisory>,
}

/// How far behind a project was at a time.
#[derive(Debug)]
pub struct DriftPoint {
    /// When.
    pub at: Timestamp,
    /// The commit; nothing for what is here now.
    pub commit: Option<String>,
    /// How far behind.
    pub drift: Drift,
}

/// Tells how far behind what is locked is, and was at each commit that changed the lockfile.
///
/// # Errors
/// As loading a lockfile and asking the sources. What git cannot tell is told.
pub fn drift(project: &LoadedProject, context: &Context<'_>) -> Result<DriftReport, FlowError> {
    let Prepared { lockfile, .. } = project.prepare_to_look(context.observer)?;
    let mut past = past(project, context)?;
    let read = past.lockfiles.len();
    past.lockfiles.retain(|(_, at, _)| *at <= context.settings.now);
    past.unreadable += read - past.lockfiles.len();
    let locked = LockedRelease::all(&lockfile);
    let all = past.lockfiles.iter().flat_map(|(_, _, locked)| locked).chain(&locked);
    // The same packages come up again and again.
    let of_sources: BTreeSet<(&PackageName, &SourceName)> = all.map(|one| (&one.package, &one.source)).collect();
    let names: BTreeSet<PackageName> = of_sources.iter().map(|(name, _)| (*name).clone()).collect();
    let documents = told_by_sources(project, &names, context.observer)?;
    let sources = project.sources_and_elsewhere(None, &Keep::Nothing, context)?;
    let mut sought = Sought::default();
    of_sources.into_iter().for_each(|(package, source)| sought.add_package(package, source));
    let (advisories, unread) = gather(&sought, &documents, (project, &sources), context)?;
    let told = Told::new(&documents, &advisories);
    let mut points = Vec::with_capacity(past.lockfiles.len() + 1);
    for (commit, at, locked) in &past.lockfiles {
        go_on(context.observer)?;
        points.push(DriftPoint { at: *at, commit: Some(commit.clone()), drift: told.drift(locked, *at) });
    }
    // Clocks of those who commit need not agree with each other.
    points.sort_by_key(|point| point.at);
    past.lockfiles.sort_by_key(|(_, at, _)| *at);
    let now = context.settings.now;
    let curve = curve(&past.lockfiles, &locked, now, &told);
    points.push(DriftPoint { at: now, commit: None, drift: told.drift(&locked, now) });
    Ok(DriftReport {
        project: project.here().name().clone(),
        points,
        curve,
        left_out: past.left_out,
        unreadable: past.unreadable,
        is_shallow: past.is_shallow,
        no_history: past.missing,
        unread,
    })
}

/// Says how far behind was what was locked at times that are evenly apart.
fn curve(
    past: &[(String, Timestamp, Vec<LockedRelease>)],
    locked_now: &[LockedRelease],
    now: Timestamp,
    told: &Told<'_>,
) -> Vec<(Timestamp, Lag)> {
    let Some((_, first, _)) = past.first() else { return Vec::new() };
    let span = now.as_second() - first.as_second();
    let at_step = |step: i64| first.as_second() + span / (STEPS - 1) * step + span % (STEPS - 1) * step / (STEPS - 1);
    let times = (0..STEPS).filter_map(|step| Timestamp::from_second(at_step(step)).ok());
    let mut curve: Vec<(Timestamp, Lag)> = times
        .map(|at| {
            let then = past.iter().rfind(|(_, since, _)| *since <= at);
            let locked = then.map_or(locked_now, |(_, _, locked)| locked.as_slice());
            (at, told.drift(locked, at).total)
        })
        .collect();
    // What is locked now may be in no commit yet.
    if let Some(last) = curve.last_mut() {
        *last = (now, told.drift(locked_now, now).total);
    }
    curve
}

/// What git has of the lockfile.
#[derive(Default)]
struct Past {
    lockfiles: Vec<(String, Timestamp, Vec<LockedRelease>)>,
    left_out: usize,
    unreadable: usize,
    is_shallow: bool,
    missing: Option<String>,
}

fn past(project: &LoadedProject, context: &Context<'_>) -> Result<Past, FlowError> {
    let config = project.git_config();
    let history = match history_of(&project.root, LOCKFILE_NAME, &config) {
        Ok(history) => history,
        Err(GitError::Stopped(_)) => return Err(FlowError::Stopped),
        Err(error) => return Ok(Past { missing: Some(why_none(&error)), ..Past::default() }),
    };
    let FileHistory { revisions, is_shallow } = history;
    let mut past = Past { is_shallow, ..Past::default() };
    if revisions.is_empty() {
        past.missing = Some(format!("{LOCKFILE_NAME} is in no commit"));
    }
    let chosen = evenly(&revisions, MOST_POINTS);
    past.left_out = revisions.len() - chosen.len();
    for revision in chosen {
        go_on(context.observer)?;
        let text = match file_of(&project.root, revision, MOST_LOCKFILE, &config) {
            Ok(text) => text,
            Err(GitError::Stopped(_)) => return Err(FlowError::Stopped),
            Err(_) => {
                past.unreadable += 1;
                continue;
            }
        };
        // Where the file was taken away, nothing was locked.
        let Some(text) = text else { continue };
        let read = String::from_utf8(text).ok().and_then(|text| Lockfile::parse(&text).ok());
        match (read, Timestamp::from_second(revision.at)) {
            (Some(lockfile), Ok(at)) => {
                past.lockfiles.push((revision.commit.clone(), at, LockedRelease::all(&lockfile)));
            }
            _ => past.unreadable += 1,
        }
    }
    Ok(past)
}

/// Says why git tells of no history, without naming a folder of this machine: it is handed round on pages.
fn why_none(error: &GitError) -> String {
    let says = match error {
        GitError::NoProgram(_) => "there is no git program here",
        GitError::OutOfTime { .. } => "git took too long",
        GitError::Unreachable { said, .. } if said.contains("not a git repository") => {
            "the project is in no git repository"
        }
        _ => "git cannot read the repository; `git log yostel.lock` says why",
    };
    says.to_owned()
}

/// Picks at most so many, the first and the last among them, as evenly as can be.
fn evenly(all: &[Revision], most: usize) -> Vec<&Revision> {
    match all.len() {
        few if few <= most => all.iter().collect(),
        many => (0..most).map(|at| &all[at * (many - 1) / (most - 1)]).collect(),
    }
}
