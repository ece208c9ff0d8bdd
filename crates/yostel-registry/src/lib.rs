//! Writing registries: create, publish, withdraw. Those in folders carry out docs/formats.md §4; those elsewhere are written
//! through a [`Backend`], by the same rules.
//!
//! Order of writes: the archive first, the package's document last, so that a reader never finds a release without its
//! archive. Writers hold a guard file; readers need none, since every file is replaced whole. The folder is reached as it
//! was named, and nothing in it through a link.
//!
//! # Examples
//! ```
//! let folder = tempfile::tempdir().unwrap();
//! let made = yostel_registry::Registry::create(&folder.path().join("station"), "station").unwrap();
//! assert_eq!((made.name(), made.contents().unwrap().len()), ("station", 0));
//! assert!(yostel_registry::Registry::create(&folder.path().join("station"), "again").is_err());
//! ```

#![deny(missing_docs)]

mod backend;
mod copy;
mod error;
mod index;
mod picker;
mod publication;
mod publish;
mod say;
mod secrets;

use std::fs::File;
use std::path::Path;

use yostel_documents::{
    ADVISORIES, Artifact, DOCUMENTS, MOST_ADVISORY, MOST_DOCUMENT, MOST_HEAD, PackageDocument, PackageName,
    REGISTRY_FORMAT, REGISTRY_HEAD, REGISTRY_INDEX, RegistryHead, RegistryIndex, archive_file, archive_files,
    document_file,
};
use yostel_files::{Disk, FileError, Folder, Kind, NewFile, is_unfinished, remove_unfinished};

pub use backend::{Addition, Backend};
pub use copy::{CopiedPackage, copy_package};
pub use error::RegistryError;
pub use publication::{Publication, Published, ReleaseRemarks};
pub use publish::{check, foreseen, publish};
pub use say::{Saying, deprecate, take_back, withdraw};

/// Who writes holds a lock on it.
const GUARD: &str = ".guard";

/// An archive that is being packed.
const ASIDE: &str = ".archive.yostel-new";

/// A registry in a folder, to be written to.
#[derive(Debug)]
pub struct Registry {
    folder: Folder,
    head: RegistryHead,
}

impl Registry {
    /// Makes a registry in a folder that is empty or not there yet.
    ///
    /// # Errors
    /// `Occupied`, or `Store` when the folder cannot be written.
    pub fn create(folder: &Path, name: &str) -> Result<Self, RegistryError> {
        let at = Folder::make_on(&Disk::default(), folder)?;
        if !at.entries()?.is_empty() {
            return Err(RegistryError::Occupied(folder.to_owned(), at.has(REGISTRY_HEAD, Kind::File)));
        }
        for part in [DOCUMENTS, "archives/sha256", "advisories"] {
            at.make_folders(part)?;
        }
        let head = RegistryHead { name: name.to_owned(), format: REGISTRY_FORMAT };
        at.write_atomically(REGISTRY_INDEX, RegistryIndex::default().write().as_bytes())?;
        at.write_atomically(REGISTRY_HEAD, head.write().as_bytes())?;
        Ok(Self { folder: at, head })
    }

    /// Opens a registry.
    ///
    /// # Errors
    /// `NotARegistry`, `Format`, or `Store` when it cannot be read.
    pub fn open(folder: &Path) -> Result<Self, RegistryError> {
        let not_one = || RegistryError::NotARegistry(folder.to_owned());
        if !folder.is_dir() {
            return Err(not_one());
        }
        let at = Folder::open(folder)?;
        let text = match at.read_text(REGISTRY_HEAD, MOST_HEAD) {
            Err(error) if error.is_not_found() => return Err(not_one()),
            text => text?,
        };
        let head = RegistryHead::parse(&text).ok_or_else(not_one)?;
        if head.format != REGISTRY_FORMAT {
            return Err(RegistryError::Format(head.format));
        }
        Ok(Self { folder: at, head })
    }

    /// Returns the registry's name.
    pub fn name(&self) -> &str {
        &self.head.name
    }

    /// Waits until nobody else writes, keeps others from it, and removes what killed writers left.
    fn lock(&self) -> Result<File, FileError> {
        let guard = self.folder.open_guard(GUARD)?;
        guard.lock().map_err(FileError::when("lock", self.folder.path_of(GUARD)))?;
        for folder in [DOCUMENTS, "archives/sha256"] {
            if let Ok(folder) = self.folder.folder(folder) {
                folder.walk(|folder, _, entries| {
                    let names = entries.iter().map(|entry| entry.name.clone());
                    remove_unfinished(folder, names.filter(|name| is_unfinished(name)));
                    Ok::<_, FileError>(())
                })?;
            }
        }
        Ok(guard)
    }
}

/// Who writes to a registry in a folder. What was packed aside goes when it does.
#[derive(Debug)]
pub struct FolderGuard {
    archives: Folder,
    _held: File,
}

impl Drop for FolderGuard {
    fn drop(&mut self) {
        self.archives.remove(ASIDE).ok();
    }
}

impl Backend for Registry {
    type Error = RegistryError;
    type Guard = FolderGuard;

    fn guard(&self) -> Result<FolderGuard, RegistryError> {
        let held = self.lock()?;
        Ok(FolderGuard { archives: self.folder.make_folders("archives/sha256")?, _held: held })
    }

    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, RegistryError> {
        let file = document_file(package);
        match self.folder.read_text(&file, MOST_DOCUMENT) {
            Ok(text) => match PackageDocument::parse(&text, package) {
                Ok(document) => Ok(Some(document)),
                Err(cause) => Err(RegistryError::Document { path: self.folder.path_of(file), cause }),
            },
            Err(error) if error.is_not_found() => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    fn aside(&self, guard: &FolderGuard) -> Result<NewFile, RegistryError> {
        // The guard is held, so one that is there was left by a writer that was killed.
        guard.archives.remove(ASIDE)?;
        Ok(guard.archives.create(ASIDE, 0o644)?)
    }

    fn has(&self, _package: &PackageName, artifact: &Artifact) -> Result<bool, RegistryError> {
        Ok(archive_files(artifact.digest).any(|file| self.folder.has(file, Kind::File)))
    }

    fn keep(&self, guard: &FolderGuard, _package: &PackageName, artifact: &Artifact) -> Result<(), RegistryError> {
        let target = archive_file(artifact.digest);
        let moved = guard.archives.rename(ASIDE, &self.folder, &target);
        Ok(moved.map_err(FileError::when("write", self.folder.path_of(&target)))?)
    }

    fn put_advisory(&self, _guard: &FolderGuard, file: &str, text: &str) -> Result<bool, RegistryError> {
        let path = Path::new(ADVISORIES).join(file);
        if self.folder.read_text(&path, MOST_ADVISORY).is_ok_and(|there| there == text) {
            return Ok(false);
        }
        self.folder.make_folders(ADVISORIES)?;
        self.folder.write_atomically(&path, text.as_bytes())?;
        Ok(true)
    }

    fn add(&self, _guard: &FolderGuard, addition: &Addition<'_>) -> Result<bool, RegistryError> {
        let text = publish::readable_text(addition.document)?;
        let file = document_file(&addition.document.name);
        if let Some(level) = file.parent() {
            self.folder.make_folders(level)?;
        }
        self.folder.write_atomically(file, text.as_bytes())?;
        Ok(true)
    }

    fn settle(&self, _guard: &FolderGuard, _package: &PackageName) -> Result<(), RegistryError> {
        self.index()?;
        Ok(())
    }
}
