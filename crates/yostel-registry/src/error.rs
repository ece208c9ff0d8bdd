//! What can go wrong with a registry.

use std::path::PathBuf;

use yostel_documents::{DocumentError, MOST_DOCUMENT, PackageName};
use yostel_files::FileError;
use yostel_store::PackError;
use yostel_versions::{Numbering, Version, VersionError};

/// Why a registry could not be written.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// The folder is not empty; whether it holds a registry.
    #[error("{} is {}", .0.display(), if *.1 { "a registry already" } else { "not empty" })]
    Occupied(PathBuf, bool),
    /// There is no registry in the folder.
    #[error("there is no registry in {}", .0.display())]
    NotARegistry(PathBuf),
    /// A later format.
    #[error("the registry has format {0}; this yostel writes format 1")]
    Format(u32),
    /// A package without a version cannot be published.
    #[error("{0} has no version")]
    NoVersion(PackageName),
    /// A package that others need to run cannot come from where only its author's manifest says.
    #[error("{package} needs {needed} from {place}, which those who need it do not have")]
    NeedsElsewhere {
        /// The package.
        package: PackageName,
        /// What it needs.
        needed: PackageName,
        /// Where that is.
        place: String,
    },
    /// What it says of its licence is no expression.
    #[error("the licence of {package}, `{}`, is no SPDX expression: {why}", licence.escape_debug())]
    Licence {
        /// The package.
        package: PackageName,
        /// What it says.
        licence: String,
        /// What is wrong with it.
        why: String,
    },
    /// Files look as if they held keys or passwords.
    #[error("{package} holds what looks like a secret")]
    Secrets {
        /// The package.
        package: PackageName,
        /// Their paths in it, each with why.
        files: Vec<(String, &'static str)>,
    },
    /// Others are there that are newer, and nobody said that this is meant.
    #[error("{package} {version} is older than {newest}, which is published already")]
    Older {
        /// The package.
        package: PackageName,
        /// The version.
        version: Version,
        /// The newest of its compatible line, or of all where that line has none.
        newest: Version,
    },
    /// The version is there already, with other content.
    #[error("{package} {version} is already published, with other content")]
    AlreadyPublished {
        /// The package.
        package: PackageName,
        /// The version.
        version: Version,
        /// What differs: `files`, `needs` …
        differs: &'static str,
    },
    /// Others publish the same version all the time.
    #[error("others publish {0} {1} at the same time, again and again")]
    Contested(PackageName, Version),
    /// The package numbers otherwise so far.
    #[error("{package} has always numbered by {before}, and now declares {now}")]
    Numbering {
        /// The package.
        package: PackageName,
        /// As its earlier releases do.
        before: Numbering,
        /// As its manifest says.
        now: Numbering,
    },
    /// All that is said of the package would be more than readers take.
    #[error("what is said of {0} would be longer than the {most} MiB that readers take", most = MOST_DOCUMENT >> 20)]
    TooLong(PackageName),
    /// The release is not there.
    #[error("{package} has no release {version}")]
    NoSuchRelease {
        /// The package.
        package: PackageName,
        /// The version asked for.
        version: String,
        /// Those there are, rising.
        known: Vec<Version>,
    },
    /// The version is none.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// A document that is there is broken.
    #[error("the document {} is broken", path.display())]
    Document {
        /// Its file.
        path: PathBuf,
        /// What is wrong.
        #[source]
        cause: DocumentError,
    },
    /// The package holds what none may.
    #[error("{0}")]
    Unfit(String),
    /// A file could not be read or written.
    #[error(transparent)]
    Store(#[from] FileError),
}

impl From<PackError> for RegistryError {
    fn from(error: PackError) -> Self {
        match error {
            PackError::File(error) => Self::Store(error),
            unfit @ PackError::Unfit { .. } => Self::Unfit(unfit.to_string()),
        }
    }
}
