//! What helps against an error: a few classes, each of which a caller can act on.

use yostel_registry::RegistryError;
use yostel_sources::{GitError, SourceErrorKind};
use yostel_store::{AdmitError, AlterError, ErrorClass, KitError};

use crate::error::FlowError;
use crate::error::told::PatchProblem;

/// What helps against an error; the command line maps it to an exit status.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FlowClass {
    /// The manifest or the call is wrong.
    Usage,
    /// There is no consistent set.
    NoResolution,
    /// Content is not what was vouched for.
    Integrity,
    /// A source cannot be asked.
    SourceUnavailable,
    /// The lockfile does not fit the manifest.
    Stale,
    /// The machine refused: permissions, space.
    Machine,
    /// It was told to stop.
    Stopped,
    /// Our own fault.
    Internal,
}

impl FlowError {
    /// Returns what helps against it.
    pub fn class(&self) -> FlowClass {
        match self {
            Self::NoProject(_)
            | Self::Manifest { .. }
            | Self::OtherTool { .. }
            | Self::Workspace { .. }
            | Self::NoSuchProject { .. }
            | Self::Path { .. }
            | Self::NotShareable(_)
            | Self::NotReadableBack { .. }
            | Self::Separator(_)
            | Self::Variable { .. }
            | Self::ForcedOutsideAgreed { .. }
            | Self::Foreign { .. }
            | Self::AlreadyAProject(_)
            | Self::NoSources
            | Self::UnknownPackage { .. }
            | Self::Unreadable { .. }
            | Self::AcceptsNothing { .. }
            | Self::UnknownSource { .. }
            | Self::NoArtifact { .. }
            | Self::NotLocked { .. }
            | Self::NoSuchVersion { .. }
            | Self::NotAltered { .. }
            | Self::UnknownPurpose { .. }
            | Self::Deviates { .. }
            | Self::Edit(_) => FlowClass::Usage,
            Self::Patch { problem: PatchProblem::NotMade { error: AlterError::Store(_), .. }, .. } => {
                FlowClass::Machine
            }
            Self::Patch { problem: PatchProblem::NotMade { error: AlterError::TreeDiffers { .. }, .. }, .. } => {
                FlowClass::Integrity
            }
            Self::Patch { .. } => FlowClass::Usage,
            Self::Collision { .. } | Self::OutOfTime(_) => FlowClass::NoResolution,
            Self::Lockfile { .. } | Self::Republished(_) | Self::Disputed(_) => FlowClass::Integrity,
            Self::NoLockfile(_) | Self::Stale(_) | Self::NotInstalled => FlowClass::Stale,
            Self::Source(error) => match error.kind {
                SourceErrorKind::Ambiguous { .. } => FlowClass::Usage,
                _ => FlowClass::SourceUnavailable,
            },
            Self::Kit { error: KitError::Blob { error, .. }, .. } if error.class() == ErrorClass::Machine => {
                FlowClass::Machine
            }
            Self::Kit { .. } => FlowClass::Integrity,
            Self::Stopped | Self::Git { error: GitError::Stopped(_), .. } => FlowClass::Stopped,
            Self::Git { error: GitError::Write { .. }, .. } => FlowClass::Machine,
            Self::Git { error: GitError::Address { .. }, .. } => FlowClass::Usage,
            Self::Git { error: GitError::Unfit { .. }, .. } => FlowClass::Integrity,
            Self::NotInCache(_) | Self::Git { .. } | Self::Archive { .. } => FlowClass::SourceUnavailable,
            Self::Admit { error: AdmitError::Read { .. }, .. } => FlowClass::SourceUnavailable,
            Self::Admit { error, .. } => match error.class() {
                ErrorClass::Integrity => FlowClass::Integrity,
                ErrorClass::Machine => FlowClass::Machine,
            },
            Self::Registry(RegistryError::Store(_)) | Self::Store(_) | Self::Read { .. } => FlowClass::Machine,
            Self::Registry(RegistryError::AlreadyPublished { .. }) => FlowClass::Integrity,
            Self::Registry(_) => FlowClass::Usage,
            Self::WrongAnswer(_) => FlowClass::Internal,
            Self::Several(errors) => errors.first().map_or(FlowClass::Internal, Self::class),
        }
    }
}
