//! Withdraw a release, and take that back.

use std::path::Path;

use yostel_documents::PackageName;
use yostel_registry::Registry;

use crate::context::Settings;
use crate::error::FlowError;

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
