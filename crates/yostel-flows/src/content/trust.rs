//! Whether what a lockfile says is so: against what is inside the archives, and against what sources tell.
//!
//! A lockfile's seal finds accidents, not forgers. So before anything is installed, the manifest inside each archive must
//! name the package and version it is installed as, and need what the lockfile says it needs; what was changed locally
//! is proven by its patch and tree instead.

use std::collections::{BTreeMap, BTreeSet};
use std::io;

use yostel_documents::{
    Artifact, Claims, Declared, Dispute, Disputed, Identity, LockedPackage, Lockfile, PackageDocument, PackageName,
};
use yostel_files::for_each_in_parallel;
use yostel_findings::{Notice, notices};
use yostel_sources::SourceSet;
use yostel_store::Cache;

use crate::content::ask::documents_of;
use crate::context::Context;
use crate::error::{FlowError, LockError};
use crate::observer::{Event, Observer, waiting};
use crate::project::LoadedProject;
use crate::project::files::{MANIFEST_NAME, MOST_MANIFEST};
use crate::project::prepared::Prepared;

/// A locked package and one of its artifacts.
pub(crate) type Content<'l> = (&'l PackageName, &'l LockedPackage, &'l Artifact);

/// Checks that trees in the cache are of the packages that the lockfile says, and need what it says.
///
/// # Errors
/// `Disputed` with all that are not.
pub(crate) fn check_contents(
    lockfile: &Lockfile,
    declared: &Declared,
    contents: &[Content<'_>],
    cache: &Cache,
) -> Result<(), FlowError> {
    let disputes = disputed_contents(lockfile, declared, contents, cache)?;
    if disputes.is_empty() { Ok(()) } else { Err(LockError::Disputed(disputes).into()) }
}

fn disputed_contents(
    lockfile: &Lockfile,
    declared: &Declared,
    contents: &[Content<'_>],
    cache: &Cache,
) -> Result<Vec<Dispute>, FlowError> {
    let claims = Claims::of(lockfile, declared);
    let judged = for_each_in_parallel(contents, |(name, locked, artifact)| {
        Ok::<_, FlowError>(dispute(&claims, name, locked, artifact, cache)?.map(|about| Dispute {
            package: (*name).clone(),
            version: locked.version.clone(),
            about,
        }))
    });
    let mut disputes = Vec::new();
    for one in judged {
        disputes.extend(one?);
    }
    Ok(disputes)
}

fn dispute(
    claims: &Claims<'_>,
    name: &PackageName,
    locked: &LockedPackage,
    artifact: &Artifact,
    cache: &Cache,
) -> Result<Option<Disputed>, FlowError> {
    let tree = cache.tree(artifact.tree)?;
    let identity = match tree.read_text(MANIFEST_NAME, MOST_MANIFEST) {
        Ok(text) => Identity::of(&text),
        // One that is too long, or not text, says nothing.
        Err(error) if error.cause.kind() == io::ErrorKind::InvalidData => None,
        // What comes from a repository or an address may say nothing of itself: its digest is in the manifest or follows
        // from the commit.
        Err(error) if error.is_not_found() && locked.from.source().is_none() => {
            Some(Identity { name: name.clone(), version: None, needs: BTreeMap::new() })
        }
        Err(error) if error.is_not_found() => None,
        Err(error) => return Err(error.into()),
    };
    Ok(match identity {
        Some(identity) => claims.against_identity(name, locked, &identity),
        None => Some(Disputed::Nameless),
    })
}

/// What a check of the lockfile came to.
#[derive(Debug)]
pub struct LockCheck {
    /// How many packages are locked.
    pub packages: usize,
    /// How many archives were looked into; the others are not in the cache.
    pub looked_into: usize,
    /// How many were compared with what their source tells; none when no source was asked.
    pub compared: usize,
}

/// Checks all that a lockfile says, as far as the cache and, unless `offline`, the sources can tell.
///
/// # Errors
/// `NoLockfile`, `Lockfile`, `Stale`, `UnknownSource`, `Disputed`, `Source`.
pub fn check_lock(project: &LoadedProject, offline: bool, context: &Context<'_>) -> Result<LockCheck, FlowError> {
    let Prepared { lockfile, declared, .. } = project.prepare()?;
    for (package, locked) in lockfile.chosen.iter() {
        if let Some(name) = locked.from.source().filter(|name| !project.manifest().sources.contains_key(*name)) {
            let (package, source_name) = (package.clone(), name.to_string());
            return Err(LockError::UnknownSource { package, source_name }.into());
        }
    }
    let _in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
    let all = lockfile.chosen.iter().flat_map(|(name, locked)| locked.artifacts.iter().map(move |a| (name, locked, a)));
    let all: Vec<Content<'_>> = all.collect();
    let sound = for_each_in_parallel(&all, |(_, _, artifact)| context.cache.is_tree_sound(artifact.tree));
    let there: Vec<Content<'_>> = all.into_iter().zip(sound).filter(|(_, sound)| *sound).map(|(one, _)| one).collect();
    let mut disputes = disputed_contents(&lockfile, &declared, &there, &context.cache)?;
    // The cache knows which tree came out of an archive.
    for (name, locked, artifact) in &there {
        let other = context.cache.last_seen(artifact.digest).is_none()
            && context.cache.has_note_on(artifact.tree, artifact.digest);
        if other {
            let about = Disputed::Content { locked: Box::new((*artifact).clone()), offered: None };
            disputes.push(Dispute { package: (*name).clone(), version: locked.version.clone(), about });
        }
    }
    let mut compared = 0;
    if !offline {
        let names = from_sources(&lockfile);
        let documents = told_by_sources(project, &names, context.observer)?;
        compared = documents.len();
        disputes.extend(disputes_with(&lockfile, &declared, &documents));
    }
    disputes.sort_by(|a, b| (&a.package, &a.version).cmp(&(&b.package, &b.version)));
    disputes.dedup();
    if disputes.is_empty() {
        Ok(LockCheck { packages: lockfile.chosen.len(), looked_into: there.len(), compared })
    } else {
        Err(LockError::Disputed(disputes).into())
    }
}

/// Lists the packages of which some locked release comes from a source: of others, none can tell anything.
pub(crate) fn from_sources(lockfile: &Lockfile) -> BTreeSet<PackageName> {
    let from_source = lockfile.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    from_source.map(|(name, _)| name.clone()).collect()
}

/// Asks the project's sources about packages.
pub(crate) fn told_by_sources(
    project: &LoadedProject,
    names: &BTreeSet<PackageName>,
    observer: &dyn Observer,
) -> Result<BTreeMap<PackageName, PackageDocument>, FlowError> {
    if names.is_empty() {
        return Ok(BTreeMap::new());
    }
    told_by(&project.sources()?, names, observer)
}

/// Asks sources about packages.
pub(crate) fn told_by(
    sources: &SourceSet,
    names: &BTreeSet<PackageName>,
    observer: &dyn Observer,
) -> Result<BTreeMap<PackageName, PackageDocument>, FlowError> {
    observer.notice(Event::Begin("asking the sources", names.len() as u64));
    let documents = documents_of(names, sources, observer);
    observer.notice(Event::End);
    documents
}

/// Asks the sources what is said of locked releases since they were published, web servers by what is kept of them alone. What
/// cannot be asked says nothing: this is told beside something else, which nobody else is asked for.
pub(crate) fn said_of(
    project: &LoadedProject,
    lockfile: &Lockfile,
    context: &Context<'_>,
) -> Result<Vec<Notice>, FlowError> {
    let names = from_sources(lockfile);
    let told = if names.is_empty() {
        Ok(BTreeMap::new())
    } else {
        project.cached_sources().and_then(|sources| told_by(&sources, &names, context.observer))
    };
    match told {
        Ok(documents) => Ok(notices(lockfile, &documents)),
        Err(FlowError::Stopped) => Err(FlowError::Stopped),
        Err(_) => Ok(Vec::new()),
    }
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
