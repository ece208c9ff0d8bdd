//! Publish a package.

use yostel_registry::{Publication, Published, ReleaseRemarks};

use super::target::{RegistryTarget, with_target};
use crate::context::Settings;
use crate::error::FlowError;
use crate::project::LoadedProject;

/// Publishes the package in a project's folder to a registry; of a workspace's root, without the projects below it. With
/// `preview`, only says what would be published.
///
/// # Errors
/// `Registry`, `Source`.
pub fn publish(
    project: &LoadedProject,
    target: &RegistryTarget,
    remarks: ReleaseRemarks,
    preview: bool,
    settings: &Settings,
) -> Result<Published, FlowError> {
    let here = project.here();
    let inside = project.projects().filter_map(|other| match &here.folder[..] {
        "" => Some(other.folder.clone()),
        folder => other.folder.strip_prefix(folder)?.strip_prefix('/').map(str::to_owned),
    });
    let without: Vec<String> = inside.filter(|folder| !folder.is_empty()).collect();
    let folder = project.folder_of(here);
    let publication = Publication {
        folder: &folder,
        without: &without,
        manifest: &here.manifest,
        now: settings.now,
        remarks,
        preview,
    };
    let registry = target.open(settings)?;
    with_target!(&registry, registry => yostel_registry::publish(registry, &publication))
}
