//! Publish, withdraw, and keep a registry.

use std::path::Path;

use yostel_documents::{PackageDocument, PackageName};
use yostel_registry::{Published, Registry, ReleaseRemarks};

use crate::error::FlowError;
use crate::project::{LoadedProject, Settings};

/// Makes a registry in a folder that is empty or not there yet.
///
/// # Errors
/// `Registry`.
pub fn create_registry(folder: &Path, name: &str) -> Result<Registry, FlowError> {
    Ok(Registry::create(folder, name)?)
}

/// Lists what a registry holds, by package.
///
/// # Errors
/// `Registry`.
pub fn contents(folder: &Path) -> Result<(String, Vec<PackageDocument>), FlowError> {
    let registry = Registry::open(folder)?;
    Ok((registry.name().to_owned(), registry.contents()?))
}

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

/// Withdraws a release; returns whether it was not withdrawn before.
///
/// # Errors
/// `Registry`.
pub fn withdraw(
    registry: &Path,
    package: &PackageName,
    version: &str,
    why: &str,
    settings: &Settings,
) -> Result<bool, FlowError> {
    Ok(Registry::open(registry)?.withdraw(package, version, why, settings.now)?)
}

/// Takes back that a release is withdrawn; returns whether it was.
///
/// # Errors
/// `Registry`.
pub fn take_back(
    registry: &Path,
    package: &PackageName,
    version: &str,
    why: &str,
    settings: &Settings,
) -> Result<bool, FlowError> {
    Ok(Registry::open(registry)?.take_back(package, version, why, settings.now)?)
}
