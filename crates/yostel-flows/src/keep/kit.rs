//! Carry-kits: all that a lockfile needs in one file.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::BufReader;
use std::path::Path;

use yostel_documents::{Lockfile, Origin, PackageName};
use yostel_files::for_each_in_parallel;
use yostel_files::write_atomically_with;
use yostel_store::{Carried, KitError, Loaded};

use crate::content::fetch::{fetch, note_use};
use crate::context::Context;
use crate::error::{ContentError, FlowError, LockError, ProjectError};
use crate::observer::{Event, Stoppable, waiting};
use crate::project::LoadedProject;

/// What a kit holds.
#[derive(Debug)]
pub struct SavedKit {
    /// What is carried.
    pub carried: Vec<Carried>,
    /// Packages that are not in it, since they are folders of this machine, and where each is.
    pub left_out: Vec<(PackageName, Origin)>,
}

/// How a kit is saved.
#[derive(Debug, Clone, Copy, Default)]
pub struct SaveRequest {
    /// Fetch nothing: the cache must hold everything.
    pub offline: bool,
    /// Refuse when a package cannot be carried.
    pub complete: bool,
}

/// Writes everything that the project's lockfile needs, for all its platforms, into one file. What the cache does not
/// hold is fetched first, unless that is not wanted.
///
/// # Errors
/// `NotShareable` when it must be complete and cannot be; `NoLockfile`, `Stale`, `NotInCache`, `Source`, `Admit`, `Kit`. The file is whole or not there.
pub fn save_kit(
    project: &LoadedProject,
    to: &Path,
    request: SaveRequest,
    context: &Context<'_>,
) -> Result<SavedKit, FlowError> {
    let lockfile = project.prepare()?.lockfile;
    let (mut carried, mut left_out) = (Vec::new(), Vec::new());
    for (package, locked) in lockfile.chosen.iter() {
        if !locked.from.is_shareable() {
            left_out.push((package.clone(), locked.from.clone()));
        }
        carried.extend(locked.artifacts.iter().map(|artifact| Carried {
            package: package.to_string(),
            version: locked.version.to_string(),
            from: locked.from.to_string(),
            artifact: artifact.clone(),
        }));
    }
    if request.complete && !left_out.is_empty() {
        return Err(LockError::NotShareable(left_out).into());
    }
    let _in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
    fetch_missing(project, &lockfile, request.offline, context)?;
    context.observer.notice(Event::Begin("saving", carried.iter().map(|one| one.artifact.size).sum()));
    write_atomically_with(to, |file| {
        context
            .cache
            .write_kit(&lockfile.write(), &carried, file, |bytes| context.observer.notice(Event::Advance(bytes)))
    })
    .map_err(|error| kit_error(to, error))?;
    context.observer.notice(Event::End);
    context.observer.notice(Event::Write("the kit"));
    Ok(SavedKit { carried, left_out })
}

/// Takes in archives that the cache does not hold; trees are unpacked only by an install.
fn fetch_missing(
    project: &LoadedProject,
    lockfile: &Lockfile,
    offline: bool,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    let all = lockfile.chosen.iter().flat_map(|(name, locked)| locked.artifacts.iter().map(move |a| (name, locked, a)));
    let absent: Vec<_> = all.filter(|(_, _, artifact)| !context.cache.has_archive(artifact.digest)).collect();
    if absent.is_empty() {
        return Ok(());
    }
    if offline {
        let names: BTreeSet<_> =
            absent.iter().map(|(name, locked, _)| ((*name).clone(), locked.version.clone())).collect();
        return Err(ContentError::NotInCache(names.into_iter().collect()).into());
    }
    let sources = project.sources()?;
    let wanted = absent.iter().map(|(_, _, artifact)| artifact.digest);
    let _fetching = context.cache.claim(wanted, waiting(context.observer, Event::WaitForFetch))?;
    context.observer.notice(Event::Begin("fetching", absent.iter().map(|(_, _, artifact)| artifact.size).sum()));
    let staged = for_each_in_parallel(&absent, |(name, locked, artifact)| {
        if context.cache.has_archive(artifact.digest) {
            return Ok(None);
        }
        if locked.from.source().is_none() {
            let release = (*name, &locked.version);
            return project.fetch_elsewhere(release, &locked.from, artifact, context).map(Some);
        }
        let unknown = || LockError::UnknownSource { package: (*name).clone(), source_name: locked.from.to_string() };
        let source = locked.from.source().and_then(|name| sources.source(name)).ok_or_else(unknown)?;
        fetch(source, (name, &locked.version), artifact, context).map(Some)
    });
    context.observer.notice(Event::End);
    let (mut archives, mut failures) = (Vec::new(), Vec::new());
    for outcome in staged {
        match outcome {
            Ok(archive) => archives.extend(archive),
            Err(error) => failures.push(error),
        }
    }
    if !failures.is_empty() {
        return Err(FlowError::several(failures));
    }
    Ok(context.cache.commit(archives, Vec::new())?)
}

/// Takes everything that a kit carries into the cache, or nothing; asks no source.
///
/// # Errors
/// `Kit`.
pub fn load_kit(from: &Path, context: &Context<'_>) -> Result<Loaded, FlowError> {
    let file = File::open(from).map_err(|cause| ProjectError::Read { path: from.to_owned(), cause })?;
    let bytes = file.metadata().map_or(0, |metadata| metadata.len());
    let _in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
    context.observer.notice(Event::Begin("loading", bytes));
    let loaded = context
        .cache
        .load_kit(&mut Stoppable { stream: BufReader::new(file), observer: context.observer }, |bytes| {
            context.observer.notice(Event::Advance(bytes))
        })
        .map_err(|error| kit_error(from, error))?;
    context.observer.notice(Event::End);
    for one in &loaded.carried {
        let release = [one.package.as_str(), one.version.as_str(), one.from.as_str()];
        note_use(&context.cache, release, &one.artifact, from, context.settings);
    }
    Ok(loaded)
}

fn kit_error(path: &Path, error: KitError) -> FlowError {
    match error {
        // That is no fault of the kit.
        KitError::Store(error) => error.into(),
        error => ContentError::Kit { path: path.to_owned(), error }.into(),
    }
}
