//! Changing a package locally: open a copy, look at what was changed, keep it as a patch that everyone gets, or drop it.

use std::path::PathBuf;

use yostel_documents::{PackageName, Patch, add_alter, remove_alter};
use yostel_files::Folder;
use yostel_store::{FileChange, HeldProject, OpenPackage, PlannedPackage, altered_folder, dropped_patch};
use yostel_versions::Version;

use crate::content::bring::bring_in;
use crate::context::Context;
use crate::decide::lock::{LockRequest, lock};
use crate::error::{ChangeError, FlowError, NotAltered};
use crate::observer::{Event, Observer, waiting};
use crate::plan::planned::planned_package;
use crate::project::LoadedProject;
use crate::project::files::MANIFEST_NAME;
use crate::project::read::load_project;
use crate::project::write::Writing;
use crate::using::install::install_again;

/// A package that is open for changes.
#[derive(Debug)]
pub struct Opened {
    /// The package's version.
    pub version: Version,
    /// The folder with the copy.
    pub folder: PathBuf,
    /// Whether the copy was there already.
    pub was_there: bool,
    /// Whether it holds changes that are kept already.
    pub has_patch: bool,
}

/// What is changed in a package.
#[derive(Debug)]
pub struct Changes {
    /// The copy; none when only kept changes are told.
    pub open: Option<OpenPackage>,
    /// What differs from the release, by path.
    pub files: Vec<FileChange>,
}

/// Changes that are kept.
#[derive(Debug)]
pub struct Kept {
    /// The package's version.
    pub version: Version,
    /// The patch, as the manifest names it.
    pub patch: String,
    /// Why.
    pub why: String,
    /// The files changed.
    pub files: Vec<FileChange>,
}

/// Changes that were dropped.
#[derive(Debug)]
pub enum Dropped {
    /// An open copy; what was changed in it since is in this patch, if anything was.
    Copy(Option<PathBuf>),
    /// The kept changes, as the manifest named them.
    Patch(String),
}

/// Opens a package for changes: a writable copy in the project, which takes the installed one's place.
///
/// # Errors
/// `NotLocked`, and as installing.
pub fn open_alter(project: &LoadedProject, package: &PackageName, context: &Context<'_>) -> Result<Opened, FlowError> {
    if let Some(folder) = project.local().get(package).and_then(|local| local.origin.local_folder()) {
        return Err(not_altered(package, NotAltered::LocalPackage(folder.to_owned())).into());
    }
    if project.prepare()?.lockfile.chosen.all(package).len() > 1 {
        return Err(not_altered(package, NotAltered::Several).into());
    }
    let planned = planned_package(project, project.prepare()?, package, context)?;
    install_again(project, context)?;
    let _in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
    // Changes are told against the release, so its own tree is needed too.
    bring_release_in(project, &planned, context)?;
    let held = hold(project, context.observer)?;
    let was_there = held.project().opened(package).is_some();
    held.open(&planned, &context.cache)?;
    Ok(Opened {
        folder: project.root.join(altered_folder(package)),
        was_there,
        has_patch: planned.altered.is_some(),
        version: planned.version,
    })
}

/// Tells what is changed in a package: in its open copy, or by the patch that is kept.
///
/// # Errors
/// `NotAltered` when it is neither open nor changed.
pub fn show_alter(project: &LoadedProject, package: &PackageName, context: &Context<'_>) -> Result<Changes, FlowError> {
    if let Some(open) = project.target()?.opened(package) {
        let files = changes_in_copy(project, package, &open, context)?;
        return Ok(Changes { open: Some(open), files });
    }
    if !project.manifest().alter.contains_key(package) {
        return Err(not_altered(package, NotAltered::NotOpen).into());
    }
    let patch = project.patches()?.patch(package)?;
    let change = |file: yostel_documents::FilePatch| FileChange {
        path: file.path.clone(),
        before: file.before,
        after: file.after,
        patch: Some(file),
    };
    Ok(Changes { open: None, files: patch.files.into_iter().map(change).collect() })
}

/// Keeps what was changed in an open copy: writes the patch, names it in the manifest, locks and installs.
///
/// # Errors
/// `NotAltered` when there is nothing to keep or it cannot be kept, and as locking and installing. Until everything is
/// locked, manifest, patch and lockfile are put back as they were.
pub fn keep_alter(
    project: &LoadedProject,
    package: &PackageName,
    why: Option<&str>,
    context: &Context<'_>,
) -> Result<Kept, FlowError> {
    let refuse = |why| Err(not_altered(package, why).into());
    let target = project.target()?;
    let Some(open) = target.opened(package) else { return refuse(NotAltered::NotOpen) };
    let planned = planned_package(project, project.prepare()?, package, context)?;
    if planned.artifact.tree != open.base {
        let (opened, locked) = (open.version, planned.version.to_string());
        return refuse(NotAltered::OtherRelease { opened, locked });
    }
    let files = changes_in_copy(project, package, &open, context)?;
    if files.is_empty() {
        return refuse(NotAltered::Nothing);
    }
    let not_text: Vec<String> =
        files.iter().filter(|change| change.patch.is_none()).map(|change| change.path.clone()).collect();
    if !not_text.is_empty() {
        return refuse(NotAltered::NotText(not_text));
    }
    let named = project.manifest().alter.get(package);
    let Some(why) = why.or(named.map(|named| named.why.as_str())).filter(|why| !why.trim().is_empty()) else {
        return refuse(NotAltered::NoReason);
    };
    let patch = match named {
        Some(named) => named.patch.clone(),
        None => format!("patches/{package}.patch"),
    };
    let text = Patch { files: files.iter().filter_map(|change| change.patch.clone()).collect() }.write();
    let why = why.split_whitespace().collect::<Vec<_>>().join(" ");
    let text = format!("{package} {}: {why}\n\n{text}", planned.version);
    let mut writing = Writing::at(&project.root, context);
    let locked = (|| {
        writing.put(&patch, Some(text.as_bytes()))?;
        writing.put(MANIFEST_NAME, Some(add_alter(&project.top.text, package, &patch, &why)?.as_bytes()))?;
        let project = load_project(&project.root, context.settings)?;
        lock(&project, LockRequest::default(), context)?;
        Ok(project)
    })();
    let project = writing.unless_done(locked)?;
    hold(&project, context.observer)?.close(package)?;
    install_again(&project, context)?;
    Ok(Kept { version: planned.version, patch, why, files })
}

/// Drops changes: those of an open copy, else those that are kept.
///
/// # Errors
/// `NotAltered` when there are none, and as locking and installing.
pub fn drop_alter(project: &LoadedProject, package: &PackageName, context: &Context<'_>) -> Result<Dropped, FlowError> {
    let target = project.target()?;
    if let Some(open) = target.opened(package) {
        // What somebody wrote is not thrown away unseen.
        let changes = changes_in_copy(project, package, &open, context)?;
        let patch = Patch { files: changes.into_iter().filter_map(|change| change.patch).collect() };
        let kept = dropped_patch(package);
        let worth = !patch.files.is_empty() && Some(&patch) != project.patches()?.patch(package).ok().as_ref();
        if worth {
            Folder::open(&project.root)?.write_atomically(&kept, patch.write().as_bytes())?;
        }
        let kept = project.root.join(kept);
        hold(project, context.observer)?.close(package)?;
        install_again(project, context)?;
        return Ok(Dropped::Copy(worth.then_some(kept)));
    }
    let Some(named) = project.manifest().alter.get(package) else {
        return Err(not_altered(package, NotAltered::NotOpen).into());
    };
    let mut writing = Writing::at(&project.root, context);
    let locked = (|| {
        writing.put(MANIFEST_NAME, Some(remove_alter(&project.top.text, package)?.as_bytes()))?;
        writing.put(&named.patch, None)?;
        let project = load_project(&project.root, context.settings)?;
        lock(&project, LockRequest::default(), context)?;
        Ok(project)
    })();
    let project = writing.unless_done(locked)?;
    install_again(&project, context)?;
    Ok(Dropped::Patch(named.patch.clone()))
}

fn not_altered(package: &PackageName, why: NotAltered) -> ChangeError {
    ChangeError::NotAltered { package: package.clone(), why }
}

fn bring_release_in(project: &LoadedProject, planned: &PlannedPackage, context: &Context<'_>) -> Result<(), FlowError> {
    bring_in(project, &project.prepare()?.lockfile, &[planned], false, context).map(drop)
}

/// Lists what was changed in an open copy. Somebody may have emptied the cache since it was opened: what is still locked is
/// brought in again.
fn changes_in_copy(
    project: &LoadedProject,
    package: &PackageName,
    open: &OpenPackage,
    context: &Context<'_>,
) -> Result<Vec<FileChange>, FlowError> {
    if !context.cache.is_tree_sound(open.base) {
        let planned = planned_package(project, project.prepare()?, package, context)?;
        if planned.artifact.tree == open.base {
            let _in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
            bring_release_in(project, &planned, context)?;
        }
    }
    Ok(project.target()?.changes_in_copy(package, open, &context.cache)?)
}

fn hold(project: &LoadedProject, observer: &dyn Observer) -> Result<HeldProject, FlowError> {
    Ok(project.target()?.hold(waiting(observer, Event::Wait))?)
}
