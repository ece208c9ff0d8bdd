//! Finding and reading a project: its manifests and its lockfile.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use yostel_documents::{Lockfile, LockfileError, LockfileHeader, Manifest};
use yostel_files::{Entry, Folder, Kind, is_unfinished, remove_unfinished};
use yostel_sources::{SourceContext, unmerged};
use yostel_store::Cache;
use yostel_versions::Numbering;

use crate::context::Settings;
use crate::error::{FlowError, LockError, ProjectError};
use crate::project::answers::InCache;
use crate::project::files::{Files, LOCKFILE_NAME, MANIFEST_NAME, MOST_LOCKFILE, MOST_MANIFEST, read_text};
use crate::project::workspace::{has_project, plain_path, read_projects};
use crate::project::{LoadedProject, ProjectFile};

/// Reads a manifest that stands alone, or at the root of a workspace.
fn read_top(files: &dyn Files, folder: &Path) -> Result<ProjectFile, FlowError> {
    let path = folder.join(MANIFEST_NAME);
    let text = read_text(files, &path)?;
    match Manifest::parse(&text) {
        Ok(manifest) => Ok(ProjectFile { folder: String::new(), text, manifest }),
        Err(problems) => Err(ProjectError::Manifest { path, text, problems }.into()),
    }
}

/// Finds the workspace that a project's folder belongs to: its root, and the folder as seen from there.
fn workspace_of(files: &dyn Files, folder: &Path) -> Result<Option<(PathBuf, ProjectFile, String)>, FlowError> {
    for above in folder.ancestors().skip(1) {
        let path = above.join(MANIFEST_NAME);
        // Most folders above have none, and most manifests are no workspace's: those are not read in full.
        let Ok(text) = files.read(&path, MOST_MANIFEST) else { continue };
        let inside = folder.strip_prefix(above).ok().map(plain_path);
        let Some(inside) = inside.filter(|_| text.contains("workspace")) else { continue };
        let top = read_top(files, above)?;
        if top.manifest.workspace.as_ref().is_some_and(|workspace| has_project(workspace, &inside)) {
            return Ok(Some((above.to_owned(), top, inside)));
        }
    }
    Ok(None)
}

/// Reads the project whose folder is `start` or the nearest one above it; when it is one of a workspace, that, with the
/// project worked on.
///
/// # Errors
/// `NoProject`, `Read`, `Manifest`, `Workspace`, `Path`, `OtherTool`.
pub fn load_project(start: &Path, settings: &Settings) -> Result<LoadedProject, FlowError> {
    let mut project = load_manifests(start, settings)?;
    project.read_places()?;
    Ok(project)
}

/// Like [`load_project`], to change manifests: the packages in folders that they name are not read, so that one that is
/// gone does not keep anybody from saying so.
///
/// # Errors
/// As [`load_project`], but for `Path`.
pub fn load_manifests(start: &Path, settings: &Settings) -> Result<LoadedProject, FlowError> {
    let files = &*settings.files;
    let nearest = start.ancestors().find(|folder| files.is_file(&folder.join(MANIFEST_NAME)));
    let nearest = nearest.ok_or_else(|| ProjectError::NoProject(start.to_owned()))?;
    let (root, top, inside) = match workspace_of(files, nearest)? {
        Some((root, top, inside)) => (root, top, Some(inside)),
        None => (nearest.to_owned(), read_top(files, nearest)?, None),
    };
    check_tool(&top.manifest, settings)?;
    let below = read_projects(files, &root, &top.text, &top.manifest)?;
    below.iter().try_for_each(|project| check_tool(&project.manifest, settings))?;
    remove_leftovers(&root, &top.manifest, &below);
    let here = inside.and_then(|inside| below.iter().position(|project| project.folder == inside));
    let answers = Arc::new(InCache { cache: Cache::open(&settings.cache), now: settings.now });
    let asking = SourceContext { answers, ..settings.asking(None) };
    let opener = settings.sources.clone();
    let (paths, elsewhere, files) = (BTreeMap::new(), BTreeMap::new(), settings.files.clone());
    let target = root.clone();
    Ok(LoadedProject { root, top, below, here, paths, elsewhere, opener, asking, files, target })
}

/// Removes what killed runs left beside the files that they were replacing.
fn remove_leftovers(root: &Path, manifest: &Manifest, below: &[ProjectFile]) {
    if let Ok(folder) = Folder::open(root) {
        remove_unfinished(&folder, [MANIFEST_NAME, LOCKFILE_NAME]);
        let mut parts: Vec<PathBuf> = vec!["altered".into(), "patches".into()];
        parts.extend(manifest.alter.values().filter_map(|alter| Path::new(&alter.patch).parent()).map(Path::to_owned));
        while let Some(part) = parts.pop() {
            if let Ok(folder) = folder.folder(&part) {
                let entries = folder.entries().unwrap_or_default();
                let is_level = |entry: &&Entry| entry.kind == Kind::Folder && entry.text().ends_with('_');
                parts.extend(entries.iter().filter(is_level).map(|level| part.join(&level.name)));
                let names = entries.into_iter().map(|entry| entry.name);
                remove_unfinished(&folder, names.filter(|name| is_unfinished(name)));
            }
        }
    }
    for project in below {
        if let Ok(folder) = Folder::open(&root.join(&project.folder)) {
            remove_unfinished(&folder, [MANIFEST_NAME]);
        }
    }
}

/// Checks that this version of the tool may work on a project.
fn check_tool(manifest: &Manifest, settings: &Settings) -> Result<(), FlowError> {
    let Some(accept) = &manifest.project.yostel else { return Ok(()) };
    if accept.bind(&Numbering::default()).is_ok_and(|constraint| constraint.accepts(&settings.tool)) {
        return Ok(());
    }
    let (project, accept) = (manifest.project.name.clone(), accept.clone());
    Err(ProjectError::OtherTool { project, accept, found: settings.tool.clone() }.into())
}

/// Reads a project's lockfile; nothing when there is none.
///
/// # Errors
/// `Read`, `Lockfile`.
pub fn load_lockfile(project: &LoadedProject) -> Result<Option<Lockfile>, FlowError> {
    let path = project.lockfile_path();
    let text = match project.files.read(&path, MOST_LOCKFILE) {
        Ok(text) => text,
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(cause) => return Err(ProjectError::Read { path, cause }.into()),
    };
    match Lockfile::parse(&text) {
        Ok(lockfile) => Ok(Some(lockfile)),
        Err(error) => {
            let both_sides = matches!(error, LockfileError::MergeMarks { .. }) && git_has_both_sides(project);
            Err(LockError::Lockfile { path, text, error, both_sides }.into())
        }
    }
}

/// Looks at a project's lockfile without reading it in full; nothing when that cannot be done.
pub(crate) fn lockfile_header(project: &LoadedProject) -> Option<LockfileHeader> {
    Lockfile::header(&project.files.read(&project.lockfile_path(), MOST_LOCKFILE).ok()?)
}

/// Tells whether git has both sides of the lockfile, in a merge that is not finished.
fn git_has_both_sides(project: &LoadedProject) -> bool {
    let sides = unmerged(&project.root, LOCKFILE_NAME, &project.git_config());
    sides.is_ok_and(|[_, ours, theirs]| ours.is_some() && theirs.is_some())
}
