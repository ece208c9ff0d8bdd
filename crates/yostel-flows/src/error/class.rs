//! What helps against an error: a few classes, each of which a caller can act on.

use yostel_registry::RegistryError;
use yostel_sources::{GitError, SourceErrorKind, WebFault};
use yostel_store::{AdmitError, AlterError, ErrorClass, KitError};

use super::change::{ChangeError, PatchProblem};
use super::content::ContentError;
use super::install::InstallError;
use super::lock::LockError;
use super::project::ProjectError;
use super::search::SearchError;
use super::undo::UndoError;
use crate::error::FlowError;

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
            Self::Project(error) => of_project(error),
            Self::Lock(error) => of_lock(error),
            Self::Search(error) => of_search(error),
            Self::Content(error) => of_content(error),
            Self::Install(error) => of_install(error),
            Self::Change(error) => of_change(error),
            Self::Undo(UndoError::Foreign { .. }) => FlowClass::Integrity,
            Self::Undo(UndoError::Nothing { .. } | UndoError::EditedSince { .. }) => FlowClass::Usage,
            Self::Proposal(_) => FlowClass::Usage,
            Self::Registry(RegistryError::Store(_)) | Self::Store(_) => FlowClass::Machine,
            Self::Registry(RegistryError::AlreadyPublished { .. }) => FlowClass::Integrity,
            Self::Registry(_) => FlowClass::Usage,
            Self::Stopped => FlowClass::Stopped,
            Self::Needs { cause, .. } | Self::Halfway { cause, .. } => cause.class(),
            Self::Several(errors) => errors.first().map_or(FlowClass::Internal, Self::class),
        }
    }
}

fn of_project(error: &ProjectError) -> FlowClass {
    match error {
        ProjectError::Read { .. } => FlowClass::Machine,
        ProjectError::NoProject(_)
        | ProjectError::NoBaseline(_)
        | ProjectError::NoChecks(_)
        | ProjectError::NotInGit { .. }
        | ProjectError::NoSuchCheck { .. }
        | ProjectError::CheckNowhere { .. }
        | ProjectError::Baseline { .. }
        | ProjectError::NotOurs(_)
        | ProjectError::Statements { .. }
        | ProjectError::NoSuchAdvisory { .. }
        | ProjectError::NotDismissed { .. }
        | ProjectError::Past(_)
        | ProjectError::Manifest { .. }
        | ProjectError::Workspace { .. }
        | ProjectError::NoSuchProject { .. }
        | ProjectError::Path { .. }
        | ProjectError::OtherTool { .. }
        | ProjectError::ChangedMeanwhile(_)
        | ProjectError::NeedsItself(_)
        | ProjectError::AlreadyAProject(_)
        | ProjectError::Deviates { .. }
        | ProjectError::UnknownPurpose { .. }
        | ProjectError::Edit(_) => FlowClass::Usage,
    }
}

fn of_lock(error: &LockError) -> FlowClass {
    match error {
        LockError::NoLockfile(_) | LockError::Stale(_) => FlowClass::Stale,
        LockError::Lockfile { .. } | LockError::Disputed(_) | LockError::Republished(_) => FlowClass::Integrity,
        LockError::NotLocked { .. }
        | LockError::UnknownSource { .. }
        | LockError::NotShareable(_)
        | LockError::NothingToMerge { .. }
        | LockError::BothAsk(_)
        | LockError::NotALockfile { .. }
        | LockError::NoSuchRevision { .. }
        | LockError::NothingToCompare { .. }
        | LockError::ForcedOutsideAgreed { .. }
        | LockError::NotReadableBack { .. } => FlowClass::Usage,
    }
}

fn of_search(error: &SearchError) -> FlowClass {
    match error {
        SearchError::Collision { .. } | SearchError::OutOfReach { .. } | SearchError::OutOfTime(_) => {
            FlowClass::NoResolution
        }
        SearchError::WrongAnswer(_) => FlowClass::Internal,
        SearchError::NoSources
        | SearchError::UnknownPackage { .. }
        | SearchError::Unreadable { .. }
        | SearchError::AcceptsNothing { .. }
        | SearchError::NotAccepted { .. }
        | SearchError::NoSuchVersion { .. } => FlowClass::Usage,
    }
}

fn of_content(error: &ContentError) -> FlowClass {
    match error {
        ContentError::Source(error) => match error.kind {
            SourceErrorKind::Ambiguous { .. } | SourceErrorKind::Occupied(_) | SourceErrorKind::Name { .. } => {
                FlowClass::Usage
            }
            SourceErrorKind::Web { fault: WebFault::TooManyOpen(_), .. } => FlowClass::Machine,
            _ => FlowClass::SourceUnavailable,
        },
        ContentError::Git { error: GitError::Stopped(_), .. } => FlowClass::Stopped,
        ContentError::Git { error: GitError::Write { .. }, .. } => FlowClass::Machine,
        ContentError::Git { error: GitError::Address { .. }, .. } => FlowClass::Usage,
        ContentError::Git { error: GitError::Unfit { .. }, .. } => FlowClass::Integrity,
        ContentError::NotInCache(_) | ContentError::Git { .. } | ContentError::Archive { .. } => {
            FlowClass::SourceUnavailable
        }
        ContentError::Admit { error: AdmitError::Read { .. }, .. } => FlowClass::SourceUnavailable,
        ContentError::Admit { error, .. } => match error.class() {
            ErrorClass::Integrity => FlowClass::Integrity,
            ErrorClass::Machine => FlowClass::Machine,
        },
        ContentError::Kit { error: KitError::Blob { error, .. }, .. } if error.class() == ErrorClass::Machine => {
            FlowClass::Machine
        }
        ContentError::Kit { .. } => FlowClass::Integrity,
        ContentError::Foreign { .. } | ContentError::NoArtifact { .. } => FlowClass::Usage,
    }
}

fn of_install(error: &InstallError) -> FlowClass {
    match error {
        InstallError::NotInstalled => FlowClass::Stale,
        InstallError::Variable { .. } | InstallError::Separator(_) => FlowClass::Usage,
    }
}

fn of_change(error: &ChangeError) -> FlowClass {
    match error {
        ChangeError::Patch { problem: PatchProblem::NotMade { error: AlterError::Store(_), .. }, .. } => {
            FlowClass::Machine
        }
        ChangeError::Patch { problem: PatchProblem::NotMade { error: AlterError::TreeDiffers { .. }, .. }, .. } => {
            FlowClass::Integrity
        }
        ChangeError::Patch { .. } | ChangeError::NotAltered { .. } => FlowClass::Usage,
    }
}
