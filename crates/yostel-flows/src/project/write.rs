//! Writing manifests, all of them or none.

use std::collections::BTreeMap;
use std::fs::File;

use yostel_documents::{EditError, NeedForm, Requirement, add_need, remove_need};
use yostel_files::{Hold, lock, write_atomically};
use yostel_resolve::RequirementEdit;

use crate::error::{FlowError, ProjectError};
use crate::observer::{Event, Observer, go_on, waiting};
use crate::project::LoadedProject;
use crate::project::files::read_text;

/// Manifests by their path relative to the root, before and after an edit.
pub(crate) type Texts = BTreeMap<String, (String, String)>;

/// Writes edited manifests, all of them or none; none, when one is not any more what was edited.
///
/// # Errors
/// `ChangedMeanwhile`, `Stopped`, `Read`, or `Store` when one cannot be written.
pub(crate) fn write_manifests(
    project: &LoadedProject,
    texts: &Texts,
    observer: &dyn Observer,
) -> Result<(), FlowError> {
    if texts.is_empty() {
        return Ok(());
    }
    // Of several that edit at once, one looks and writes at a time. Where a folder cannot be locked, the look has to do.
    let root = File::open(&project.root).ok();
    if let Some(root) = &root {
        lock(root, Hold::Alone, &project.root, waiting(observer, Event::Wait)).ok();
    }
    go_on(observer)?;
    for (file, (before, _)) in texts {
        let path = project.root.join(file);
        if read_text(&*project.files, &path)? != *before {
            return Err(ProjectError::ChangedMeanwhile(path).into());
        }
    }
    for (at, (file, (_, after))) in texts.iter().enumerate() {
        observer.notice(Event::Write("yostel.toml"));
        if let Err(error) = write_atomically(&project.root.join(file), after.as_bytes()) {
            write_back(project, texts.iter().take(at))?;
            return Err(error.into());
        }
    }
    Ok(())
}

/// Writes edits of needs into the texts of manifests, by their path relative to the root; those that are not among the texts
/// yet begin as they are. Returns whether every need is one of a project of this workspace.
///
/// # Errors
/// As editing.
pub(crate) fn edit_needs(
    project: &LoadedProject,
    texts: &mut BTreeMap<String, String>,
    edits: &[RequirementEdit],
) -> Result<bool, EditError> {
    for edit in edits {
        let Requirement { asker, purpose, package, .. } = edit.requirement();
        let Some(file) = project.projects().find(|file| *file.name() == *asker.name()) else { return Ok(false) };
        let text = texts.entry(file.manifest_path()).or_insert_with(|| file.text.clone());
        *text = match edit {
            RequirementEdit::Change { accept, .. } => {
                add_need(text, purpose, package, &NeedForm::Constraint(accept.clone()))?.text
            }
            RequirementEdit::Drop { .. } => remove_need(text, Some(purpose), package)?.text,
        };
    }
    Ok(true)
}

pub(crate) fn write_back<'t>(
    project: &LoadedProject,
    texts: impl Iterator<Item = (&'t String, &'t (String, String))>,
) -> Result<(), FlowError> {
    for (file, (before, _)) in texts {
        write_atomically(&project.root.join(file), before.as_bytes())?;
    }
    Ok(())
}
