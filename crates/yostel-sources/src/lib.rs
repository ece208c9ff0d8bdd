//! Places releases come from, one client a file, behind one trait.
//!
//! A source tells of releases and hands out archives. It knows neither what a lockfile is nor where the cache lies, and
//! vouches for nothing: whoever takes an archive checks its digest.

#![deny(missing_docs)]

mod archive;
mod child;
mod commit;
mod error;
mod folder;
mod git;
mod http;
mod patience;
mod set;

use std::io::Read;

use yostel_documents::{ArchiveDigest, PackageDocument, PackageName, SourceName};

pub use archive::{ArchiveError, open_archive};
pub use commit::{CommitFault, CommitFile};
pub use error::{SourceError, SourceErrorKind};
pub use folder::FolderSource;
pub use git::{CommitFiles, GitConfig, GitError, commit_of, fetch_commit};
pub use patience::Patience;
pub use set::SourceSet;

/// A place releases come from.
pub trait Source: Send + Sync {
    /// Returns its name in the manifest.
    fn name(&self) -> &SourceName;

    /// Returns where it is, for messages.
    fn place(&self) -> String;

    /// Returns all it knows of a package; nothing when it does not know the package.
    ///
    /// # Errors
    /// When it cannot be asked, or answers with something that is no document.
    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, SourceError>;

    /// Opens an archive.
    ///
    /// # Errors
    /// When it cannot be asked or does not have it.
    fn open(&self, digest: ArchiveDigest) -> Result<Box<dyn Read + Send>, SourceError>;

    /// Lists the packages it knows, sorted: for near names, never for resolving.
    ///
    /// # Errors
    /// When it cannot be asked.
    fn names(&self) -> Result<Vec<PackageName>, SourceError>;
}
