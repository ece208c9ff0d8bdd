//! One audit over all projects below a folder.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use yostel_documents::PackageName;
use yostel_files::{Folder, Kind, for_each_in_parallel};
use yostel_findings::AuditReport;
use yostel_versions::Version;

use crate::context::Context;
use crate::error::FlowError;
use crate::look::audit::{AuditRequest, audit};
use crate::observer::{Event, Observer, go_on};
use crate::project::files::{LOCKFILE_NAME, MANIFEST_NAME};
use crate::project::read::{load_lockfile, load_project};

/// What all audits below a folder found.
#[derive(Debug)]
pub struct UnderReport {
    /// Projects and workspaces that have a lockfile, by folder.
    pub projects: Vec<AuditedProject>,
    /// Those that have none, by folder.
    pub without_lockfile: Vec<PathBuf>,
    /// How many folders could not be read.
    pub unreadable: usize,
}

/// A project or a workspace, and what was found.
#[derive(Debug)]
pub struct AuditedProject {
    /// Its folder, from the one that was named; empty when it is that one.
    pub folder: PathBuf,
    /// What was found, or why it cannot be audited.
    pub outcome: Result<Audited, FlowError>,
}

/// What was found in a project.
#[derive(Debug)]
pub struct Audited {
    /// What was found.
    pub report: AuditReport,
    /// What is locked.
    pub locked: Vec<(PackageName, Version)>,
}

/// Audits every project and workspace below a folder, several at the same time. Links are not followed, and folders whose
/// names begin with a dot are not looked into.
///
/// # Errors
/// `Store` when the folder itself cannot be read, `Stopped`. What is wrong with one project is told of it.
pub fn audit_under(top: &Path, request: &AuditRequest, context: &Context<'_>) -> Result<UnderReport, FlowError> {
    let (found, unreadable) = find(top, context.observer)?;
    let quiet = Quiet(context.observer);
    context.observer.notice(Event::Begin("auditing", found.len() as u64));
    let outcomes = for_each_in_parallel(&found, |folder| {
        let outcome = audit_one(&top.join(folder), request, &Context::new(context.settings, &quiet));
        context.observer.notice(Event::Advance(1));
        outcome
    });
    context.observer.notice(Event::End);
    go_on(context.observer)?;
    let mut report = UnderReport { projects: Vec::new(), without_lockfile: Vec::new(), unreadable };
    for (folder, outcome) in found.into_iter().zip(outcomes) {
        match outcome {
            Ok(Found::Below) => {}
            Ok(Found::WithoutLockfile) => report.without_lockfile.push(folder),
            Ok(Found::Audited(audited)) => report.projects.push(AuditedProject { folder, outcome: Ok(*audited) }),
            Err(FlowError::Stopped) => return Err(FlowError::Stopped),
            Err(error) => report.projects.push(AuditedProject { folder, outcome: Err(error) }),
        }
    }
    Ok(report)
}

enum Found {
    /// It belongs to a workspace that is found too.
    Below,
    WithoutLockfile,
    Audited(Box<Audited>),
}

fn audit_one(folder: &Path, request: &AuditRequest, context: &Context<'_>) -> Result<Found, FlowError> {
    go_on(context.observer)?;
    let has_lockfile = context.settings.files.is_file(&folder.join(LOCKFILE_NAME));
    let project = match load_project(folder, context.settings) {
        Ok(project) => project,
        // Without a lockfile, it is a package or an example as often as not.
        Err(FlowError::Project(_)) if !has_lockfile => return Ok(Found::WithoutLockfile),
        Err(error) => return Err(error),
    };
    if project.root != folder {
        return Ok(Found::Below);
    }
    let Some(lockfile) = load_lockfile(&project)? else { return Ok(Found::WithoutLockfile) };
    let report = audit(&project, request, context)?;
    let locked = lockfile.chosen.iter().map(|(package, locked)| (package.clone(), locked.version.clone()));
    Ok(Found::Audited(Box::new(Audited { report, locked: locked.collect() })))
}

/// Finds the folders that have a manifest, sorted, and counts those that could not be read.
fn find(top: &Path, observer: &dyn Observer) -> Result<(Vec<PathBuf>, usize), FlowError> {
    let folder = Folder::open(top)?;
    let mut open = vec![PathBuf::new()];
    let mut found = BTreeSet::new();
    let mut unreadable = 0;
    while let Some(at) = open.pop() {
        go_on(observer)?;
        let listed = if at.as_os_str().is_empty() { folder.entries() } else { folder.entries_of(&at) };
        let Ok(entries) = listed else {
            unreadable += 1;
            continue;
        };
        for entry in entries {
            match entry.kind {
                Kind::File if entry.name == MANIFEST_NAME => drop(found.insert(at.clone())),
                Kind::Folder if !entry.text().starts_with('.') => open.push(at.join(&entry.name)),
                _ => {}
            }
        }
    }
    Ok((found.into_iter().collect(), unreadable))
}

/// Passes on the wish to stop, and nothing else: what several audits tell at the same time nobody can follow.
struct Quiet<'o>(&'o dyn Observer);

impl Observer for Quiet<'_> {
    fn stops(&self) -> bool {
        self.0.stops()
    }
}
