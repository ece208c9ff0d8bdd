//! Bringing archives into the cache: what is missing is fetched, unpacked aside, and named only when all of it is right.

use std::sync::Mutex;

use yostel_documents::{Lockfile, Origin, PackageName, TreeDigest};
use yostel_files::for_each_in_parallel;
use yostel_sources::{SourceErrorKind, SourceSet};
use yostel_store::{AdmitError, Cache, PlannedPackage, StagedArchive, StagedTree, UnpackConfig};
use yostel_versions::Version;

use crate::content::fetch::{fetch, place_of, refused_by};
use crate::content::republished::find_republished;
use crate::context::Context;
use crate::error::{ContentError, FlowError, LockError};
use crate::observer::{Event, go_on, waiting};
use crate::project::LoadedProject;

/// What came into the cache.
#[derive(Debug, Default)]
pub(crate) struct Brought {
    /// Archives that were fetched, with their size in bytes.
    pub(crate) fetched: Vec<(PackageName, Version, u64)>,
    /// Trees that had been changed and were unpacked again.
    pub(crate) put_back: Vec<(PackageName, Version)>,
}

/// Makes sure that every release's tree is in the cache and sound.
pub(crate) fn bring_in(
    project: &LoadedProject,
    lockfile: &Lockfile,
    packages: &[&PlannedPackage],
    offline: bool,
    context: &Context<'_>,
) -> Result<Brought, FlowError> {
    context.observer.notice(Event::Begin("checking the cache", packages.len() as u64));
    let sound = for_each_in_parallel(packages, |package| {
        if context.observer.stops() {
            return false;
        }
        let sound = context.cache.is_tree_sound(package.artifact.tree);
        context.observer.notice(Event::Advance(1));
        sound
    });
    context.observer.notice(Event::End);
    go_on(context.observer)?;
    let missing: Vec<&PlannedPackage> =
        packages.iter().zip(sound).filter(|(_, sound)| !sound).map(|(package, _)| *package).collect();
    if missing.is_empty() {
        return Ok(Brought::default());
    }
    // Held until everything has its name in the cache, so whoever waits finds it there.
    let _fetching = match offline {
        true => None,
        false => {
            let wanted =
                missing.iter().map(|p| p.artifact.digest).filter(|archive| !context.cache.has_archive(*archive));
            Some(context.cache.claim(wanted, waiting(context.observer, Event::WaitForFetch))?)
        }
    };
    let still = for_each_in_parallel(&missing, |package| context.cache.is_tree_sound(package.artifact.tree));
    let missing: Vec<&PlannedPackage> =
        missing.into_iter().zip(still).filter(|(_, sound)| !sound).map(|(package, _)| package).collect();
    let absent: Vec<&&PlannedPackage> =
        missing.iter().filter(|p| !context.cache.has_archive(p.artifact.digest)).collect();
    if offline && !absent.is_empty() {
        return Err(
            ContentError::NotInCache(absent.iter().map(|p| (p.name.clone(), p.version.clone())).collect()).into()
        );
    }
    // Sources are opened only when something must come from them, so that a full cache needs none of them.
    let sources = if absent.is_empty() { SourceSet::default() } else { project.sources()? };
    context.observer.notice(Event::Begin("fetching", missing.iter().map(|p| p.artifact.size).sum()));
    // What releases of a package have in common is there once.
    let latest = context.cache.latest_trees()?;
    let fetched = Mutex::new(Vec::new());
    let staged = for_each_in_parallel(&missing, |package| {
        go_on(context.observer)?;
        let locked = lockfile.chosen.at(&package.name, &package.version).or_else(|| lockfile.chosen.get(&package.name));
        let from = &locked.expect("what is planned is locked").from;
        let like = latest.get(package.name.as_str()).copied();
        let staged = stage(project, package, (from, like), &sources, offline, context)?;
        if staged.0.is_some() {
            let entry = (package.name.clone(), package.version.clone(), package.artifact.size);
            fetched.lock().expect("no thread panics while holding the lock").push(entry);
        }
        Ok::<_, FlowError>(staged)
    });
    context.observer.notice(Event::End);
    let fetched = fetched.into_inner().expect("all threads ended");
    name_all(&missing, staged, fetched, &context.cache)
}

/// Gives everything its name in the cache, when all of it came; nothing when something did not.
fn name_all(
    missing: &[&PlannedPackage],
    staged: Vec<Result<Staged, FlowError>>,
    mut fetched: Vec<(PackageName, Version, u64)>,
    cache: &Cache,
) -> Result<Brought, FlowError> {
    let mut put_back = Vec::new();
    let (mut archives, mut trees, mut failures) = (Vec::new(), Vec::new(), Vec::new());
    for (package, outcome) in missing.iter().zip(staged) {
        match outcome {
            Ok((archive, tree)) => {
                archives.extend(archive);
                trees.push(tree);
                if cache.has_tree(package.artifact.tree) {
                    put_back.push((package.name.clone(), package.version.clone()));
                }
            }
            Err(error) => failures.push(error),
        }
    }
    if !failures.is_empty() {
        return Err(FlowError::several(failures));
    }
    cache.commit(archives, trees)?;
    fetched.sort();
    Ok(Brought { fetched, put_back })
}

/// What was unpacked aside, with its archive when that was fetched.
type Staged = (Option<StagedArchive>, StagedTree);

fn stage(
    project: &LoadedProject,
    package: &PlannedPackage,
    (from, like): (&Origin, Option<TreeDigest>),
    sources: &SourceSet,
    offline: bool,
    context: &Context<'_>,
) -> Result<Staged, FlowError> {
    let release = (&package.name, &package.version);
    let refused = |place| refused_by((release.0, Some(release.1)), &package.artifact, &context.cache, place);
    if context.cache.has_archive(package.artifact.digest) {
        context.observer.notice(Event::Unpack(package.name.clone()));
        match context.cache.stage_tree(&package.artifact, None, UnpackConfig::default(), like) {
            Ok(tree) => return Ok((None, tree)),
            // The cached archive had rotted and is gone now: fetch it anew.
            Err(AdmitError::ArchiveDiffers { .. }) if !offline => {}
            Err(error) => return Err(refused(format!("the cache, {}", context.cache.root().display()))(error)),
        }
    }
    if from.source().is_none() {
        let archive = project.fetch_elsewhere(release, from, &package.artifact, context)?;
        context.observer.notice(Event::Unpack(package.name.clone()));
        let tree = context
            .cache
            .stage_tree(&package.artifact, Some(&archive), UnpackConfig::default(), like)
            .map_err(refused(from.to_string()))?;
        return Ok((Some(archive), tree));
    }
    let unknown = || LockError::UnknownSource { package: package.name.clone(), source_name: from.to_string() };
    let opened;
    let source = match from.source().and_then(|name| sources.source(name)) {
        Some(source) => source,
        None => {
            // Not opened yet (the rotten archive was a surprise), or not named by the manifest.
            opened = project.sources()?;
            opened.source(from.source().ok_or_else(unknown)?).ok_or_else(unknown)?
        }
    };
    let archive = fetch(source, release, &package.artifact, context).map_err(|error| {
        // What the lockfile has is not there any more, or is not what it was: the source may tell of something else by now.
        let other_or_gone = match &error {
            FlowError::Content(ContentError::Source(error)) => matches!(error.kind, SourceErrorKind::ArchiveMissing(_)),
            FlowError::Content(ContentError::Admit { error, .. }) => matches!(error, AdmitError::ArchiveDiffers { .. }),
            _ => false,
        };
        let told = other_or_gone.then(|| find_republished(release, &package.artifact, source, context));
        told.flatten().map_or(error, |told| LockError::Republished(vec![told]).into())
    })?;
    context.observer.notice(Event::Unpack(package.name.clone()));
    let tree = context
        .cache
        .stage_tree(&package.artifact, Some(&archive), UnpackConfig::default(), like)
        .map_err(refused(place_of(source)))?;
    Ok((Some(archive), tree))
}
