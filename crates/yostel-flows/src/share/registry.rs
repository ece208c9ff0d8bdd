//! Make and list registries.

use std::path::Path;

use yostel_documents::{PackageDocument, RegistryIndex};
use yostel_registry::Registry;

use crate::error::FlowError;

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

/// Writes down what is in a registry, for whoever cannot list its folders; returns that, and whether it changed.
///
/// # Errors
/// `Registry`.
pub fn write_index(folder: &Path) -> Result<(RegistryIndex, bool), FlowError> {
    Ok(Registry::open(folder)?.write_index()?)
}
