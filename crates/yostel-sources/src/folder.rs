//! A registry in a folder: plain files, laid out as docs/formats.md §4 says.

use std::io::Read;
use std::path::{Path, PathBuf};

use yostel_core::{ArchiveDigest, PackageDocument, PackageName, SourceName};
use yostel_files::{FileError, Folder};

use crate::Source;
use crate::error::{SourceError, SourceErrorKind};

/// The registry format this version reads and writes.
pub const REGISTRY_FORMAT: u32 = 1;

/// Longest `registry.json` that is read, in bytes.
pub const MOST_HEAD: u64 = 1 << 20;

/// Longest document of a package that is read, in bytes: tens of thousands of releases.
pub const MOST_DOCUMENT: u64 = 32 << 20;

/// What `registry.json` says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegistryHead {
    /// The registry's name.
    pub name: String,
    /// Its format.
    pub format: u32,
}

impl RegistryHead {
    /// Reads `registry.json`; nothing when it is not one.
    pub fn parse(text: &str) -> Option<Self> {
        let value: serde_json::Value = serde_json::from_str(text).ok()?;
        let format = u32::try_from(value.get("format")?.as_u64()?).ok()?;
        Some(Self { name: value.get("name")?.as_str()?.to_owned(), format })
    }

    /// Writes `registry.json`.
    pub fn write(&self) -> String {
        format!("{{\n  \"format\": {},\n  \"name\": {}\n}}\n", self.format, serde_json::Value::from(self.name.as_str()))
    }
}

/// Returns where a package's document lies below a registry.
pub fn document_file(package: &PackageName) -> PathBuf {
    Path::new("releases").join(format!("{}.json", package.to_path_element()))
}

/// Endings of archives; the first is what we write.
const ENDINGS: [&str; 3] = ["tar.zst", "tar.gz", "zip"];

/// Returns where an archive that we write lies below a registry.
pub fn archive_file(digest: ArchiveDigest) -> PathBuf {
    archive_files(digest).next().expect("there is at least one ending")
}

/// Returns where an archive may lie below a registry.
fn archive_files(digest: ArchiveDigest) -> impl Iterator<Item = PathBuf> {
    let folder = Path::new("archives/sha256");
    ENDINGS.iter().map(move |ending| folder.join(format!("{}.{ending}", digest.to_hex())))
}

/// A registry in a folder. The folder is reached as the manifest names it, and nothing in it through a link.
#[derive(Debug)]
pub struct FolderSource {
    name: SourceName,
    folder: Folder,
}

impl FolderSource {
    /// Opens the registry in this folder.
    ///
    /// # Errors
    /// `Missing`, `NotARegistry`, `Format` or `Read`.
    pub fn open(name: SourceName, folder: PathBuf) -> Result<Self, SourceError> {
        let fail = |kind| SourceError { source_name: name.clone(), kind };
        if !folder.is_dir() {
            return Err(fail(SourceErrorKind::Missing(folder)));
        }
        let opened = Folder::open(&folder).map_err(|error| fail(unread(error)))?;
        let head = match opened.read_text("registry.json", MOST_HEAD) {
            Ok(text) => RegistryHead::parse(&text),
            Err(error) if error.is_not_found() => None,
            Err(error) => return Err(fail(unread(error))),
        };
        match head {
            None => Err(fail(SourceErrorKind::NotARegistry(folder))),
            Some(head) if head.format != REGISTRY_FORMAT => Err(fail(SourceErrorKind::Format { found: head.format })),
            Some(_) => Ok(Self { name, folder: opened }),
        }
    }

    fn fail(&self, kind: SourceErrorKind) -> SourceError {
        SourceError { source_name: self.name.clone(), kind }
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

    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, SourceError> {
        let file = document_file(package);
        match self.folder.read_text(&file, MOST_DOCUMENT) {
            Ok(text) => PackageDocument::parse(&text, package).map(Some).map_err(|cause| {
                let path = self.folder.path_of(&file);
                self.fail(SourceErrorKind::Document { package: package.clone(), path, cause })
            }),
            Err(error) if error.is_not_found() => Ok(None),
            Err(error) => Err(self.fail(unread(error))),
        }
    }

    fn open(&self, digest: ArchiveDigest) -> Result<Box<dyn Read + Send>, SourceError> {
        for path in archive_files(digest) {
            match self.folder.open_file(&path) {
                Ok(file) => return Ok(Box::new(file)),
                Err(error) if error.is_not_found() => {}
                Err(error) => return Err(self.fail(unread(error))),
            }
        }
        Err(self.fail(SourceErrorKind::ArchiveMissing(digest)))
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        let entries = self.folder.entries_of("releases").map_err(|error| self.fail(unread(error)))?;
        let name = |entry: &yostel_files::Entry| {
            PackageName::from_path_element(entry.name.to_str()?.strip_suffix(".json")?).ok()
        };
        let mut names: Vec<PackageName> = entries.iter().filter_map(name).collect();
        names.sort();
        Ok(names)
    }
}
