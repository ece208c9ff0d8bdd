//! Writing manifests, all of them or none.

use std::collections::BTreeMap;

use yostel_files::write_atomically;

use crate::error::FlowError;
use crate::observer::{Event, Observer};
use crate::project::LoadedProject;

/// Manifests by their path relative to the root, before and after an edit.
pub(crate) type Texts = BTreeMap<String, (String, String)>;

/// Writes edited manifests, all of them or none.
pub(crate) fn write_manifests(
    project: &LoadedProject,
    texts: &Texts,
    observer: &dyn Observer,
) -> Result<(), FlowError> {
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
