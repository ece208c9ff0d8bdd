//! Where things are in a registry, and what its head says. Carries out docs/formats.md §4.

use std::path::{Path, PathBuf};

use crate::digest::ArchiveDigest;
use crate::name::PackageName;

/// The registry format this version reads and writes.
pub const REGISTRY_FORMAT: u32 = 1;

/// What says that a folder is a registry.
pub const REGISTRY_HEAD: &str = "registry.json";

/// Longest [`REGISTRY_HEAD`] that is read, in bytes.
pub const MOST_HEAD: u64 = 1 << 20;

/// Longest document of a package that is read, in bytes: tens of thousands of releases.
pub const MOST_DOCUMENT: u64 = 32 << 20;

/// The folder with the documents of packages.
pub const DOCUMENTS: &str = "releases";

/// Endings of archives; the first is what we write.
const ENDINGS: [&str; 3] = ["tar.zst", "tar.gz", "zip"];

/// What [`REGISTRY_HEAD`] says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegistryHead {
    /// The registry's name.
    pub name: String,
    /// Its format.
    pub format: u32,
}

impl RegistryHead {
    /// Reads the head of a registry; nothing when it is not one.
    pub fn parse(text: &str) -> Option<Self> {
        let value: serde_json::Value = serde_json::from_str(text).ok()?;
        let format = u32::try_from(value.get("format")?.as_u64()?).ok()?;
        Some(Self { name: value.get("name")?.as_str()?.to_owned(), format })
    }

    /// Writes the head of a registry.
    pub fn write(&self) -> String {
        format!("{{\n  \"format\": {},\n  \"name\": {}\n}}\n", self.format, serde_json::Value::from(self.name.as_str()))
    }
}

/// Returns where a package's document is below a registry.
pub fn document_file(package: &PackageName) -> PathBuf {
    Path::new(DOCUMENTS).join(format!("{}.json", package.to_path()))
}

/// Reads the name of a package off its document's path below [`DOCUMENTS`]; nothing when it is no document's.
pub fn package_of_document(path: &Path) -> Option<PackageName> {
    PackageName::from_path(path.to_str()?.strip_suffix(".json")?)
}

/// Returns where an archive that we write is below a registry.
pub fn archive_file(digest: ArchiveDigest) -> PathBuf {
    archive_files(digest).next().expect("there is at least one ending")
}

/// Returns where an archive may be below a registry.
pub fn archive_files(digest: ArchiveDigest) -> impl Iterator<Item = PathBuf> {
    let folder = Path::new("archives/sha256");
    ENDINGS.iter().map(move |ending| folder.join(format!("{}.{ending}", digest.to_hex())))
}
