//! What a flow would otherwise have to ask the machine for.

use std::path::PathBuf;
use std::sync::Arc;

use jiff::Timestamp;
use yostel_sources::{Credentials, NoAnswerCache, OpenSource, Patience, SourceContext};
use yostel_store::Cache;
use yostel_versions::Version;

use crate::observer::Observer;
use crate::project::files::Files;
use crate::project::journal::Journal;

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
    /// Whether no server is asked: what the cache has of them is all there is.
    pub offline: bool,
    /// How sources are opened: as they are, or others in their place.
    pub sources: Arc<dyn OpenSource>,
    /// What shows servers who asks.
    pub credentials: Arc<dyn Credentials>,
    /// Where manifests and lockfiles are read from.
    pub files: Arc<dyn Files>,
    /// What remembers what is changed, so that it can be undone.
    pub journal: Arc<Journal>,
}

impl Settings {
    /// Returns what registries are asked with that are no project's sources: nothing is kept of them.
    pub(crate) fn asking(&self, certificates: Option<PathBuf>) -> SourceContext {
        SourceContext {
            patience: self.patience.clone(),
            answers: Arc::new(NoAnswerCache),
            credentials: self.credentials.clone(),
            certificates,
            offline: self.offline,
        }
    }
}

/// What every use case works with: settings, the cache, and whoever looks on.
pub struct Context<'c> {
    /// What it would otherwise have to ask the machine for.
    pub settings: &'c Settings,
    /// The cache of these settings.
    pub cache: Cache,
    /// Who is told what happens, and may say stop.
    pub observer: &'c dyn Observer,
}

impl<'c> Context<'c> {
    /// Joins settings and an observer; the cache is not touched yet.
    pub fn new(settings: &'c Settings, observer: &'c dyn Observer) -> Self {
        Self { settings, cache: Cache::open(&settings.cache), observer }
    }
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
