//! Where packages come from: listed, named, taken out of the manifest.

use std::path::{Path, PathBuf};

use yostel_documents::{
    EditError, NamePattern, Origin, REGISTRY_HEAD, SourceName, SourcePlace, add_source, remove_source,
};

use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::project::LoadedProject;
use crate::project::places::path_from;
use crate::project::read::load_lockfile;
use crate::project::write::write_manifests;

/// What stands in the way of asking a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SourceDoubt {
    /// There is no such folder.
    NoFolder,
    /// The folder is there, and no registry is in it.
    NoRegistry,
}

/// Tells what stands in the way of asking a source in this folder.
pub(crate) fn doubt_about(folder: &Path) -> Option<SourceDoubt> {
    match (folder.is_dir(), folder.join(REGISTRY_HEAD).is_file()) {
        (false, _) => Some(SourceDoubt::NoFolder),
        (true, false) => Some(SourceDoubt::NoRegistry),
        (true, true) => None,
    }
}

/// A source of the manifest, as it is found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceSeen {
    /// Its name.
    pub name: SourceName,
    /// Where it is, as the manifest has it: a folder is relative to its own.
    pub place: SourcePlace,
    /// Names that come from here and nowhere else.
    pub reserves: Vec<NamePattern>,
    /// Why it cannot be asked, when it cannot.
    pub doubt: Option<SourceDoubt>,
    /// How many packages it has; none when it cannot be asked.
    pub packages: Option<usize>,
    /// How many locked packages come from it.
    pub locked: usize,
}

/// Lists the sources of the manifest, by name.
///
/// # Errors
/// Those of reading the lockfile.
pub fn sources(project: &LoadedProject) -> Result<Vec<SourceSeen>, FlowError> {
    let names = project.manifest().sources.keys();
    names.map(|name| seen(project, name)).collect()
}

fn seen(project: &LoadedProject, name: &SourceName) -> Result<SourceSeen, FlowError> {
    let declared = &project.manifest().sources[name];
    // What is on a web server is not asked only to be counted.
    let folder = declared.place.folder().map(|folder| project.root.join(folder));
    let packages = || project.open_source(name, declared, true).ok()?.names().ok().map(|names| names.len());
    Ok(SourceSeen {
        name: name.clone(),
        place: declared.place.clone(),
        reserves: declared.reserves.clone(),
        doubt: folder.as_deref().and_then(doubt_about),
        packages: folder.is_some().then(packages).flatten(),
        locked: locked_from(project, name)?,
    })
}

fn locked_from(project: &LoadedProject, name: &SourceName) -> Result<usize, FlowError> {
    let from = |origin: &Origin| origin.source() == Some(name);
    let lockfile = load_lockfile(project)?;
    Ok(lockfile.map_or(0, |lockfile| lockfile.chosen.values().filter(|locked| from(&locked.from)).count()))
}

/// A source to name.
#[derive(Debug, Clone)]
pub struct SourceRequest {
    /// Its name.
    pub name: SourceName,
    /// Where its registry is: a folder is as seen from where it was typed.
    pub place: SourcePlace,
    /// Names that come from it and nowhere else; those that are there stay when there are none.
    pub reserves: Vec<NamePattern>,
}

/// A source that was named.
#[derive(Debug)]
pub struct SourceAdded {
    /// The manifest's file.
    pub path: PathBuf,
    /// Where it is, as the manifest has it now.
    pub place: SourcePlace,
    /// Where it was by the manifest.
    pub before: Option<SourcePlace>,
    /// Why it cannot be asked yet, when it cannot.
    pub doubt: Option<SourceDoubt>,
    /// Whether anything is needed yet.
    pub has_needs: bool,
}

/// Names a source in the manifest, the root's in a workspace, in place; or gives one another folder. `from` is the folder
/// in which it was typed.
///
/// # Errors
/// `Manifest` when it could not be read with the source; `ChangedMeanwhile`, `Store` when it cannot be written.
pub fn name_source(
    project: &LoadedProject,
    request: &SourceRequest,
    from: &Path,
    context: &Context<'_>,
) -> Result<SourceAdded, FlowError> {
    let place = match &request.place {
        SourcePlace::Folder(folder) if !Path::new(folder).is_absolute() => {
            SourcePlace::Folder(path_from(&project.root, &from.join(folder)))
        }
        place => place.clone(),
    };
    let top = &project.top;
    let after = add_source(&top.text, &request.name, &place, &request.reserves).map_err(ProjectError::Edit)?;
    project.check_texts(&[(top.manifest_path(), after.clone())].into())?;
    let before = top.manifest.sources.get(&request.name).map(|declared| declared.place.clone());
    if after != top.text {
        write_manifests(project, &[(top.manifest_path(), (top.text.clone(), after))].into(), context)?;
    }
    Ok(SourceAdded {
        path: project.manifest_of(top),
        doubt: place.folder().and_then(|folder| doubt_about(&project.root.join(folder))),
        has_needs: !project.requirements().is_empty(),
        place,
        before,
    })
}

/// A source that was taken out of the manifest.
#[derive(Debug)]
pub struct SourceRemoved {
    /// The manifest's file.
    pub path: PathBuf,
    /// Where it was by the manifest.
    pub place: SourcePlace,
    /// How many locked packages come from it.
    pub locked: usize,
    /// Whether the manifest names another one.
    pub others: bool,
}

/// Takes a source out of the manifest, in place.
///
/// # Errors
/// `Edit` when there is none of this name; `ChangedMeanwhile`, `Store` when the manifest cannot be written.
pub fn forget_source(
    project: &LoadedProject,
    name: &SourceName,
    context: &Context<'_>,
) -> Result<SourceRemoved, FlowError> {
    let top = &project.top;
    let after = remove_source(&top.text, name).map_err(ProjectError::Edit)?;
    let locked = locked_from(project, name)?;
    let place = top.manifest.sources.get(name).map(|declared| declared.place.clone());
    let place = place.ok_or_else(|| ProjectError::Edit(EditError::NoSuchSource(name.clone())))?;
    write_manifests(project, &[(top.manifest_path(), (top.text.clone(), after))].into(), context)?;
    let others = top.manifest.sources.len() > 1;
    Ok(SourceRemoved { path: project.manifest_of(top), place, locked, others })
}

/// How many registries are told of.
const MOST_NEARBY: usize = 3;

/// How many entries of a folder are looked at.
const MOST_LOOKED_AT: usize = 1000;

/// Lists registries in a folder, or else beside it, or else one level further up, as paths from it.
pub(crate) fn registries_nearby(folder: &Path) -> Vec<String> {
    let folder = std::fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    let within = |above: &Path| {
        let entries = std::fs::read_dir(above).into_iter().flatten().take(MOST_LOOKED_AT).flatten();
        // A name that no shell takes as it stands is no help.
        let is_plain = |path: &PathBuf| path.to_str().is_some_and(|path| !path.contains(char::is_control));
        let paths = entries.map(|entry| entry.path()).filter(is_plain);
        let mut there: Vec<PathBuf> = paths.filter(|path| doubt_about(path).is_none()).collect();
        there.sort();
        there.iter().map(|path| path_from(&folder, path)).collect::<Vec<String>>()
    };
    let mut found = folder.ancestors().take(3).map(within).find(|found| !found.is_empty()).unwrap_or_default();
    found.truncate(MOST_NEARBY);
    found
}
