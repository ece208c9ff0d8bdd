//! Where a registry is kept: in a folder, or wherever else somebody can add to one.

use yostel_documents::{Artifact, PackageDocument, PackageName, Release};
use yostel_files::NewFile;

use crate::error::RegistryError;

/// Something that is added to what a registry has of a package.
#[derive(Debug)]
pub struct Addition<'a> {
    /// All that is known of the package with it.
    pub document: &'a PackageDocument,
    /// The release that is new, or of which something is said.
    pub release: &'a Release,
    /// Whether the release is new.
    pub is_release: bool,
    /// How many of the release's statements are new: the last so many.
    pub statements: usize,
}

/// Keeps a registry. What is added to it stays.
pub trait Backend {
    /// What goes wrong.
    type Error: From<RegistryError>;

    /// What is held while it is written to.
    type Guard;

    /// Keeps others from writing, where that can be.
    ///
    /// # Errors
    /// When it cannot be written to.
    fn guard(&self) -> Result<Self::Guard, Self::Error>;

    /// Returns all that is known of a package; nothing when it is not there.
    ///
    /// # Errors
    /// When that cannot be read.
    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, Self::Error>;

    /// Makes the file into which an archive is written before it is kept.
    ///
    /// # Errors
    /// When it cannot be written.
    fn aside(&self, guard: &Self::Guard) -> Result<NewFile, Self::Error>;

    /// Tells whether an archive of a package is there.
    ///
    /// # Errors
    /// When nobody can tell.
    fn has(&self, package: &PackageName, artifact: &Artifact) -> Result<bool, Self::Error>;

    /// Takes an archive over from the registry that is copied from, where that needs nobody to carry it. Returns whether it is
    /// there now.
    ///
    /// # Errors
    /// When nobody can tell.
    fn take_over(&self, _package: &PackageName, _artifact: &Artifact) -> Result<bool, Self::Error> {
        Ok(false)
    }

    /// Keeps what was written aside as an archive of a package, so that it is there before anything speaks of it.
    ///
    /// # Errors
    /// When it cannot be written.
    fn keep(&self, guard: &Self::Guard, package: &PackageName, artifact: &Artifact) -> Result<(), Self::Error>;

    /// Adds something, whose archives are kept already. Returns whether that was possible: somebody else may have written meanwhile, and then all is as they
    /// left it.
    ///
    /// # Errors
    /// When it cannot be written.
    fn add(&self, guard: &Self::Guard, addition: &Addition<'_>) -> Result<bool, Self::Error>;

    /// Puts a file with an advisory there, in place of one of the same name. Returns whether it changed.
    ///
    /// # Errors
    /// When it cannot be written.
    fn put_advisory(&self, guard: &Self::Guard, file: &str, text: &str) -> Result<bool, Self::Error>;

    /// Makes what follows from the rest anew, for whoever reads.
    ///
    /// # Errors
    /// When it cannot be written.
    fn settle(&self, guard: &Self::Guard, package: &PackageName) -> Result<(), Self::Error>;
}
