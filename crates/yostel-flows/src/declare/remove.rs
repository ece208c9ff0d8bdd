//! Remove a need.

use std::path::PathBuf;

use yostel_documents::{PackageName, Purpose, remove_need};

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::project::write::write_manifests;

/// What removing came to.
#[derive(Debug)]
pub struct RemoveReport {
    /// The manifest's file.
    pub path: PathBuf,
    /// The constraint that was there.
    pub before: Option<String>,
    /// The purposes it was removed from.
    pub purposes: Vec<String>,
}

/// Removes a need from the project's manifest, in place; from one purpose or from all.
///
/// # Errors
/// `Edit` when it is not needed there, `ChangedMeanwhile`, `Store` when the manifest cannot be written.
pub fn remove(
    project: &LoadedProject,
    package: &PackageName,
    purpose: Option<&Purpose>,
    context: &Context<'_>,
) -> Result<RemoveReport, FlowError> {
    let here = project.here();
    let edit = remove_need(&here.text, purpose, package)?;
    let path = project.manifest_of(here);
    let texts = [(here.manifest_path(), (here.text.clone(), edit.text))].into();
    write_manifests(project, &texts, context)?;
    Ok(RemoveReport { path, before: edit.before, purposes: edit.purposes })
}
