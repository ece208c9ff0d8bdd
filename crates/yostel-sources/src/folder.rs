//! A registry in a folder: plain files, laid out as docs/formats.md §4 says.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use yostel_core::{ArchiveDigest, PackageDocument, PackageName, SourceName};

use crate::Source;
use crate::error::{SourceError, SourceErrorKind};

/// The registry format this version reads and writes.
pub const REGISTRY_FORMAT: u32 = 1;

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

/// A registry in a folder.
#[derive(Debug)]
pub struct FolderSource {
    name: SourceName,
    folder: PathBuf,
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
        let path = folder.join("registry.json");
        let head = match fs::read_to_string(&path) {
            Ok(text) => RegistryHead::parse(&text),
            Err(cause) if cause.kind() == io::ErrorKind::NotFound => None,
            Err(cause) => return Err(fail(SourceErrorKind::Read { path, cause })),
        };
        match head {
            None => Err(fail(SourceErrorKind::NotARegistry(folder))),
            Some(head) if head.format != REGISTRY_FORMAT => Err(fail(SourceErrorKind::Format { found: head.format })),
            Some(_) => Ok(Self { name, folder }),
        }
    }

    fn fail(&self, kind: SourceErrorKind) -> SourceError {
        SourceError { source_name: self.name.clone(), kind }
    }
}

impl Source for FolderSource {
    fn name(&self) -> &SourceName {
        &self.name
    }

    fn place(&self) -> String {
        self.folder.display().to_string()
    }

    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, SourceError> {
        let path = self.folder.join(document_file(package));
        match fs::read_to_string(&path) {
            Ok(text) => PackageDocument::parse(&text, package)
                .map(Some)
                .map_err(|cause| self.fail(SourceErrorKind::Document { package: package.clone(), path, cause })),
            Err(cause) if cause.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(cause) => Err(self.fail(SourceErrorKind::Read { path, cause })),
        }
    }

    fn open(&self, digest: ArchiveDigest) -> Result<Box<dyn Read + Send>, SourceError> {
        for path in archive_files(digest) {
            let path = self.folder.join(path);
            match File::open(&path) {
                Ok(file) => return Ok(Box::new(file)),
                Err(cause) if cause.kind() == io::ErrorKind::NotFound => {}
                Err(cause) => return Err(self.fail(SourceErrorKind::Read { path, cause })),
            }
        }
        Err(self.fail(SourceErrorKind::ArchiveMissing(digest)))
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        let path = self.folder.join("releases");
        let entries = match fs::read_dir(&path) {
            Ok(entries) => entries,
            Err(cause) if cause.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(cause) => return Err(self.fail(SourceErrorKind::Read { path, cause })),
        };
        let mut names: Vec<PackageName> = entries
            .flatten()
            .filter_map(|entry| PackageName::from_path_element(entry.file_name().to_str()?.strip_suffix(".json")?).ok())
            .collect();
        names.sort();
        Ok(names)
    }
}
