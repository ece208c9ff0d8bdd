//! Publish a package.

use std::path::Path;

use yostel_registry::{Published, Registry, ReleaseRemarks};

use crate::context::Settings;
use crate::error::FlowError;
use crate::project::LoadedProject;

/// Publishes the package in a project's folder to a registry.
///
/// # Errors
/// `Registry`.
pub fn publish(
    project: &LoadedProject,
    registry: &Path,
    remarks: ReleaseRemarks,
    settings: &Settings,
) -> Result<Published, FlowError> {
    Ok(Registry::open(registry)?.publish(
        &project.folder_of(project.here()),
        &project.here().manifest,
        settings.now,
        remarks,
    )?)
}
