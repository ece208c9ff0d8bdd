//! What is in a registry: listed, and written down for whoever cannot list its folders.

use yostel_documents::{
    ADVISORIES, DOCUMENTS, MOST_INDEX, PackageDocument, PackageName, REGISTRY_INDEX, RegistryIndex, package_of_document,
};
use yostel_files::Kind;

use crate::{Backend, Registry, RegistryError};

impl Registry {
    /// Lists all packages with all they have, by name.
    ///
    /// # Errors
    /// When a document cannot be read or is broken.
    pub fn contents(&self) -> Result<Vec<PackageDocument>, RegistryError> {
        self.packages()?.iter().filter_map(|name| self.document(name).transpose()).collect()
    }

    /// Lists the packages, by name.
    fn packages(&self) -> Result<Vec<PackageName>, RegistryError> {
        let files = self.folder.folder(DOCUMENTS)?.files_below()?;
        let mut names: Vec<PackageName> = files.iter().filter_map(|file| package_of_document(file)).collect();
        names.sort();
        Ok(names)
    }

    /// Writes down what is in the registry, for whoever cannot list its folders; returns that, and whether it changed.
    ///
    /// # Errors
    /// `Store` when a folder cannot be read, or the file not be written.
    pub fn write_index(&self) -> Result<(RegistryIndex, bool), RegistryError> {
        let guard = self.lock()?;
        let written = self.index();
        drop(guard);
        written
    }

    /// The same, where the guard is held.
    pub(crate) fn index(&self) -> Result<(RegistryIndex, bool), RegistryError> {
        let entries = match self.folder.folder(ADVISORIES) {
            Ok(folder) => folder.entries()?,
            Err(error) if error.is_not_found() => Vec::new(),
            Err(error) => return Err(error.into()),
        };
        let files = entries.iter().filter(|entry| entry.kind == Kind::File).map(|entry| entry.text().into_owned());
        let advisories = files.filter(|name| RegistryIndex::is_advisory(name)).collect();
        let index = RegistryIndex { packages: self.packages()?, advisories };
        let there = self.folder.read_text(REGISTRY_INDEX, MOST_INDEX).ok();
        let changed = there.as_deref().and_then(RegistryIndex::parse).as_ref() != Some(&index);
        if changed {
            self.folder.write_atomically(REGISTRY_INDEX, index.write().as_bytes())?;
        }
        Ok((index, changed))
    }
}
