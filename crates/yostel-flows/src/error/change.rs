//! Local changes: patches, and open copies.

use std::io;
use std::path::PathBuf;

use yostel_documents::{PackageName, PatchError};
use yostel_store::AlterError;

/// Why local changes cannot be made, kept or dropped.
#[derive(Debug, thiserror::Error)]
pub enum ChangeError {
    /// A patch that the manifest names cannot be used.
    #[error("the patch of {package} cannot be used")]
    Patch {
        /// The package.
        package: PackageName,
        /// The patch's file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// Why.
        problem: PatchProblem,
    },
    /// There are no local changes to speak of, or they cannot be kept.
    #[error("{package}: {why}")]
    NotAltered {
        /// The package.
        package: PackageName,
        /// Why.
        why: NotAltered,
    },
}

/// What is wrong with a patch.
#[derive(Debug)]
pub enum PatchProblem {
    /// Its file cannot be read.
    Unreadable(io::Error),
    /// It is not a unified diff.
    Syntax(PatchError),
    /// It does not make of the package what it should.
    NotMade {
        /// The platform of the artifact.
        platform: String,
        /// Why.
        error: AlterError,
    },
}

/// Why local changes are not shown, kept or dropped.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotAltered {
    /// There are none.
    #[error("it is not open for changes")]
    NotOpen,
    /// The copy is as the release is.
    #[error("nothing was changed")]
    Nothing,
    /// It is locked at several versions, and a patch is made to one.
    #[error("it is locked at several versions, and a patch can change only one")]
    Several,
    /// It is a local package: it is changed there.
    #[error("its folder {0} is used as it is")]
    LocalPackage(String),
    /// Files were changed that are not text, or are long.
    #[error("a patch can hold text files of at most 1 MiB only")]
    NotText(Vec<String>),
    /// Nobody said why.
    #[error("a reason is missing (--why \"…\")")]
    NoReason,
    /// Another release is locked by now.
    #[error("it was opened at {opened}, and {locked} is locked now")]
    OtherRelease {
        /// The version it was opened at.
        opened: String,
        /// The version that is locked.
        locked: String,
    },
}
