//! Content: sources, repositories, archives, the cache.

use std::path::PathBuf;

use yostel_documents::PackageName;
use yostel_sources::{ArchiveError, GitError, SourceError};
use yostel_store::AdmitError;
use yostel_versions::Version;

use super::lock::Seen;

/// Why the content of packages cannot be brought in.
#[derive(Debug, thiserror::Error)]
pub enum ContentError {
    /// A source failed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// A package cannot be fetched from its repository.
    #[error("{package}: {error}")]
    Git {
        /// The package.
        package: PackageName,
        /// The commit that is locked, when one is.
        commit: Option<String>,
        /// Why.
        error: GitError,
    },
    /// A package cannot be fetched from the address of its archive.
    #[error("{package}: {error}")]
    Archive {
        /// The package.
        package: PackageName,
        /// Why.
        error: ArchiveError,
    },
    /// The manifest of a package from elsewhere cannot be used.
    #[error("{package}, {place}: {problem}")]
    Foreign {
        /// The package.
        package: PackageName,
        /// Where it is from.
        place: String,
        /// Why.
        problem: ForeignProblem,
    },
    /// An archive or tree was refused.
    #[error("{package}: {error}")]
    Admit {
        /// The package.
        package: PackageName,
        /// Its version, where that is known before it is looked into.
        version: Option<Version>,
        /// Where it came from.
        place: String,
        /// When the right content was here, if it ever was.
        seen: Option<Seen>,
        /// Why.
        error: AdmitError,
    },
    /// Offline, and the cache does not have it.
    #[error("{} package(s) are not in the cache", .0.len())]
    NotInCache(Vec<(PackageName, Version)>),
    /// No artifact for this machine.
    #[error("{package} {version} has nothing for {wanted}")]
    NoArtifact {
        /// The package.
        package: PackageName,
        /// Its version.
        version: Version,
        /// This machine's platform.
        wanted: String,
        /// What there is.
        offered: Vec<String>,
    },
    /// A carry-kit was not taken in, or could not be made.
    #[error("{}: {error}", path.display())]
    Kit {
        /// The file.
        path: PathBuf,
        /// Why.
        error: yostel_store::KitError,
    },
}

/// Why the manifest of a package from elsewhere cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ForeignProblem {
    /// It is of another package.
    #[error("it holds {0}")]
    OtherName(PackageName),
    /// It has a problem.
    #[error("its manifest cannot be read: {0}")]
    Manifest(String),
    /// It holds what no package may.
    #[error("{0}")]
    Unfit(String),
    /// It takes a package from a place that only it knows.
    #[error("it takes {0} from {1}")]
    Place(PackageName, String),
}
