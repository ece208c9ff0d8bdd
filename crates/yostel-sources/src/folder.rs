//! A registry in a folder: plain files, laid out as docs/formats.md §4 says.

use std::collections::BTreeSet;
use std::io::{Read, Seek, SeekFrom};
use std::path::PathBuf;

use yostel_documents::{
    ADVISORIES, Artifact, DOCUMENTS, MOST_DOCUMENT, MOST_HEAD, PackageDocument, PackageName, REGISTRY_FORMAT,
    REGISTRY_HEAD, RegistryHead, SourceName, archive_files, document_file, package_of_document,
};
use yostel_files::{FileError, Folder, for_each_in_parallel};

use crate::dump::{AdvisoryReader, read_folder};
use crate::error::{SourceError, SourceErrorKind};
use crate::{Source, SourceAnswer, SourcedDocument};

/// A registry in a folder. The folder is reached as the manifest names it, and nothing in it through a link.
#[derive(Debug)]
pub struct FolderSource {
    name: SourceName,
    registry: String,
    folder: Folder,
}

impl FolderSource {
    /// Opens the registry in this folder.
    ///
    /// # Errors
    /// `Missing`, `NotARegistry`, `Format` or `Read`.
    pub fn open(name: SourceName, folder: PathBuf) -> Result<Self, SourceError> {
        let fail = |kind| SourceError { source_name: Some(name.clone()), kind };
        if !folder.is_dir() {
            return Err(fail(SourceErrorKind::Missing(folder)));
        }
        let opened = Folder::open(&folder).map_err(|error| fail(unread(error)))?;
        let head = match opened.read_text(REGISTRY_HEAD, MOST_HEAD) {
            Ok(text) => RegistryHead::parse(&text),
            Err(error) if error.is_not_found() => None,
            Err(error) => return Err(fail(unread(error))),
        };
        match head {
            None => Err(fail(SourceErrorKind::NotARegistry(folder))),
            Some(head) if head.format != REGISTRY_FORMAT => Err(fail(SourceErrorKind::Format { found: head.format })),
            Some(head) => Ok(Self { name, registry: head.name, folder: opened }),
        }
    }

    fn document(&self, package: &PackageName) -> SourceAnswer {
        let file = document_file(package);
        match self.folder.read_text(&file, MOST_DOCUMENT) {
            Ok(text) => match PackageDocument::parse(&text, package) {
                Ok(document) => Ok(Some(SourcedDocument { document, bytes: text.into_bytes() })),
                Err(cause) => {
                    let path = self.folder.path_of(&file);
                    Err(self.fail(SourceErrorKind::Document { package: package.clone(), path, cause }))
                }
            },
            Err(error) if error.is_not_found() => Ok(None),
            Err(error) => Err(self.fail(unread(error))),
        }
    }

    fn fail(&self, kind: SourceErrorKind) -> SourceError {
        SourceError { source_name: Some(self.name.clone()), kind }
    }
}

fn unread(error: FileError) -> SourceErrorKind {
    SourceErrorKind::Read { path: error.path, cause: error.cause }
}

impl Source for FolderSource {
    fn name(&self) -> &SourceName {
        &self.name
    }

    fn place(&self) -> String {
        self.folder.path().display().to_string()
    }

    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync)) {
        // Reading is quick and parsing is not, so a thread per core is right here.
        let packages: Vec<&PackageName> = packages.iter().collect();
        for_each_in_parallel(&packages, |package| deliver(package, self.document(package)));
    }

    fn open(
        &self,
        _package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError> {
        for path in archive_files(artifact.digest) {
            match self.folder.open_file(&path) {
                Ok(mut file) => {
                    file.seek(SeekFrom::Start(offset)).map_err(|cause| {
                        let path = self.folder.path_of(&path);
                        self.fail(SourceErrorKind::Read { path, cause })
                    })?;
                    return Ok(Box::new(file));
                }
                Err(error) if error.is_not_found() => {}
                Err(error) => return Err(self.fail(unread(error))),
            }
        }
        Err(self.fail(SourceErrorKind::ArchiveMissing(artifact.digest)))
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        let files = self.folder.folder(DOCUMENTS).and_then(|documents| documents.files_below());
        let files = files.map_err(|error| self.fail(unread(error)))?;
        let mut names: Vec<PackageName> = files.iter().filter_map(|file| package_of_document(file)).collect();
        names.sort();
        Ok(names)
    }

    fn registry(&self) -> &str {
        &self.registry
    }

    fn advisories(&self, reader: &dyn AdvisoryReader) -> Result<(), SourceError> {
        let folder = match self.folder.folder(ADVISORIES) {
            Ok(folder) => folder,
            Err(error) if error.is_not_found() => return Ok(()),
            Err(error) => return Err(self.fail(unread(error))),
        };
        let entries = folder.entries().map_err(|error| self.fail(unread(error)))?;
        read_folder(&folder, &entries, reader);
        Ok(())
    }
}
