//! Everything a flow can fail with, one error per family of operations. Each carries the values a sentence needs; the words
//! are the answers'.

mod change;
mod class;
mod content;
mod install;
mod lock;
mod project;
mod proposal;
mod search;
mod undo;

pub use change::{ChangeError, NotAltered, PatchProblem};
pub use class::FlowClass;
pub use content::{ContentError, ForeignProblem};
pub use install::InstallError;
pub use lock::{LockError, Republished, Seen};
pub use project::{PathProblem, ProjectError, WorkspaceProblem};
pub use proposal::ProposalError;
pub(crate) use proposal::said;
pub use search::{RequirementPlace, RulePlace, SearchError, SearchReport, Standing};
pub use undo::UndoError;

use yostel_documents::{EditError, PackageName};
use yostel_files::FileError;
use yostel_registry::RegistryError;
use yostel_sources::{SourceError, SourceErrorKind, WebFault};
use yostel_versions::Version;

/// Why a flow failed.
#[derive(Debug, thiserror::Error)]
pub enum FlowError {
    /// The project cannot be read, or its manifest not be written.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The lockfile cannot be used, or not be written.
    #[error(transparent)]
    Lock(#[from] LockError),
    /// No set of packages was found.
    #[error(transparent)]
    Search(#[from] SearchError),
    /// The content of packages cannot be brought in.
    #[error(transparent)]
    Content(#[from] ContentError),
    /// What is installed cannot be used.
    #[error(transparent)]
    Install(#[from] InstallError),
    /// Local changes cannot be made, kept or dropped.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// Nothing is undone.
    #[error(transparent)]
    Undo(#[from] UndoError),
    /// Nothing can be proposed, or a proposal not be decided.
    #[error(transparent)]
    Proposal(#[from] ProposalError),
    /// A registry failed.
    #[error(transparent)]
    Registry(#[from] RegistryError),
    /// Whoever needs a package would get no set, so it is not published.
    #[error("what {package} needs cannot be had")]
    Needs {
        /// The package.
        package: PackageName,
        /// Projects of its workspace that it needs, and that were not to be published with it.
        beside: Vec<PackageName>,
        /// Why.
        cause: Box<FlowError>,
    },
    /// Some packages were published, and one was not.
    #[error("{} packages were published, and then one was not", done.len())]
    Halfway {
        /// Those that were.
        done: Vec<(PackageName, Version)>,
        /// Why the next was not.
        cause: Box<FlowError>,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] FileError),
    /// The observer wanted it to stop. What it had done by then is done whole, or not at all.
    #[error("stopped")]
    Stopped,
    /// More than one failure, of one piece of work over many things. Never empty.
    #[error("{} failures", .0.len())]
    Several(Vec<FlowError>),
}

impl From<EditError> for FlowError {
    fn from(error: EditError) -> Self {
        Self::Project(error.into())
    }
}

impl From<SourceError> for FlowError {
    fn from(error: SourceError) -> Self {
        match error.kind {
            SourceErrorKind::Web { fault: WebFault::Stopped, .. } => Self::Stopped,
            _ => Self::Content(error.into()),
        }
    }
}

impl FlowError {
    /// Joins failures: one stays itself.
    pub(crate) fn several(mut errors: Vec<Self>) -> Self {
        if errors.iter().any(|error| matches!(error, Self::Stopped)) {
            return Self::Stopped;
        }
        if errors.len() == 1 { errors.remove(0) } else { Self::Several(errors) }
    }
}
