//! Make and list registries.

use std::path::Path;

use yostel_documents::{PackageDocument, RegistryIndex};
use yostel_registry::Registry;

use super::target::RegistryTarget;
use crate::context::Settings;
use crate::error::FlowError;

/// Makes a registry where there is none yet, in a folder that is empty or not there; returns its name.
///
/// # Errors
/// `Registry`, `Source`.
pub fn create_registry(target: &RegistryTarget, name: &str, settings: &Settings) -> Result<String, FlowError> {
    target.create(name, settings)
}

/// Lists what a registry holds, by package.
///
/// # Errors
/// `Registry`, `Source`.
pub fn contents(target: &RegistryTarget, settings: &Settings) -> Result<(String, Vec<PackageDocument>), FlowError> {
    let registry = target.open(settings)?;
    Ok((registry.name().to_owned(), registry.contents()?))
}

/// Writes down what is in a registry, for whoever cannot list its folders; returns that, and whether it changed.
///
/// # Errors
/// `Registry`.
pub fn write_index(folder: &Path) -> Result<(RegistryIndex, bool), FlowError> {
    Ok(Registry::open(folder)?.write_index()?)
}
