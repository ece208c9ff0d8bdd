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

/// How an archive is packed (docs/formats.md §5).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ArchiveFormat {
    /// tar in Zstandard (RFC 8878).
    Zstandard,
    /// tar in gzip (RFC 1952).
    Gzip,
    /// tar alone.
    Tar,
    /// zip.
    Zip,
}

impl ArchiveFormat {
    /// How many bytes tell the format: POSIX has the word by which a tar is known behind the first 257.
    pub const TELLING: usize = 262;

    /// Tells how an archive is packed that begins with these bytes, [`Self::TELLING`] of them or all it has; nothing when it is
    /// none of the four.
    pub fn of(head: &[u8]) -> Option<Self> {
        match head {
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Self::Zstandard),
            [0x1f, 0x8b, ..] => Some(Self::Gzip),
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Some(Self::Zip),
            _ if head.get(257..Self::TELLING) == Some(b"ustar") => Some(Self::Tar),
            _ => None,
        }
    }

    /// Returns the ending of a file's name, without the dot.
    pub fn ending(self) -> &'static str {
        match self {
            Self::Zstandard => ENDINGS[0],
            Self::Gzip => ENDINGS[1],
            Self::Tar => "tar",
            Self::Zip => ENDINGS[2],
        }
    }
}

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

/// What says what is in a registry, for whoever cannot list folders.
pub const REGISTRY_INDEX: &str = "index.json";

/// Longest [`REGISTRY_INDEX`] that is read, in bytes.
pub const MOST_INDEX: u64 = 32 << 20;

/// What [`REGISTRY_INDEX`] says. It follows from the other files, and can be made again.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RegistryIndex {
    /// The packages, sorted.
    pub packages: Vec<PackageName>,
    /// The files with advisories, sorted.
    pub advisories: Vec<String>,
}

impl RegistryIndex {
    /// Reads an index; nothing when it is none. What is no name is passed over.
    pub fn parse(text: &str) -> Option<Self> {
        let value: serde_json::Value = serde_json::from_str(text).ok()?;
        if value.get("format")?.as_u64()? != u64::from(REGISTRY_FORMAT) {
            return None;
        }
        let texts = |key: &str| value.get(key)?.as_array().map(|list| list.iter().filter_map(|text| text.as_str()));
        let mut packages: Vec<PackageName> =
            texts("packages")?.filter_map(|name| PackageName::parse(name).ok()).collect();
        let files = texts("advisories")?.filter(|name| Self::is_advisory(name));
        let mut advisories: Vec<String> = files.map(str::to_owned).collect();
        packages.sort();
        packages.dedup();
        advisories.sort();
        advisories.dedup();
        Some(Self { packages, advisories })
    }

    /// Tells whether a file of this name holds an advisory.
    pub fn is_advisory(name: &str) -> bool {
        name.ends_with(".json") && !name.starts_with('.') && !name.contains(['/', '\\', '?', '#', '%'])
    }

    /// Writes the index.
    pub fn write(&self) -> String {
        let packages: Vec<&str> = self.packages.iter().map(PackageName::as_str).collect();
        let index = serde_json::json!({"format": REGISTRY_FORMAT, "packages": packages, "advisories": self.advisories});
        format!("{index:#}\n")
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
