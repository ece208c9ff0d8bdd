//! Writing manifests, all of them or none.

use std::collections::BTreeMap;
use std::fs::File;

use yostel_files::{Hold, lock, write_atomically};

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

pub(crate) fn write_back<'t>(
    project: &LoadedProject,
    texts: impl Iterator<Item = (&'t String, &'t (String, String))>,
) -> Result<(), FlowError> {
    for (file, (before, _)) in texts {
        write_atomically(&project.root.join(file), before.as_bytes())?;
    }
    Ok(())
}
