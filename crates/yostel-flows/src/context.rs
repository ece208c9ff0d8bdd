//! What a flow would otherwise have to ask the machine for.

use std::path::PathBuf;
use std::sync::Arc;

use jiff::Timestamp;
use yostel_sources::{OpenSource, Patience};
use yostel_versions::Version;

use crate::project::files::Files;

/// What a flow would otherwise have to ask the machine for.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The cache's folder.
    pub cache: PathBuf,
    /// The time.
    pub now: Timestamp,
    /// System and architecture, like `linux/amd64`.
    pub platform: String,
    /// The tool's own version.
    pub tool: Version,
    /// How long to wait for repositories and servers.
    pub patience: Patience,
    /// How sources are opened: as they are, or others in their place.
    pub sources: Arc<dyn OpenSource>,
    /// Where manifests and lockfiles are read from.
    pub files: Arc<dyn Files>,
}

/// Returns the platform this program was built for, by the names that container images use.
pub fn current_platform() -> String {
    let architecture = match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    };
    let system = match std::env::consts::OS {
        "macos" => "darwin",
        other => other,
    };
    format!("{system}/{architecture}")
}
