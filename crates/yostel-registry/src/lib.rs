//! Writing the registry layout: create, publish, withdraw. Carries out docs/formats.md §4.
//!
//! Order of writes: the archive first, the package's document last, so that a reader never finds a release without its
//! archive. Writers hold a guard file; readers need none, since every file is replaced whole.

#![deny(missing_docs)]

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use yostel_core::{
    ANY_PLATFORM, DocumentError, Manifest, Numbering, PackageDocument, PackageName, Release, Version, VersionError,
    Withdrawal, run_purpose,
};
use yostel_sources::{REGISTRY_FORMAT, RegistryHead, archive_file, document_file};
use yostel_store::{Packed, StoreError, pack, write_atomically};

/// The manifest's file name inside a package.
const MANIFEST_FILE: &str = "yostel.toml";

/// Why a registry could not be written.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// The folder holds something that is no registry.
    #[error("{} is not empty and not a registry", .0.display())]
    Occupied(PathBuf),
    /// There is no registry in the folder.
    #[error("there is no registry in {}", .0.display())]
    NotARegistry(PathBuf),
    /// A later format.
    #[error("the registry has format {0}; this yostel writes format 1")]
    Format(u32),
    /// A package without a version cannot be published.
    #[error("{0} has no version")]
    NoVersion(PackageName),
    /// A package that others need to run cannot come from where only its author's manifest says.
    #[error("{package} needs {needed} from {place}, which those who need it do not have")]
    NeedsElsewhere {
        /// The package.
        package: PackageName,
        /// What it needs.
        needed: PackageName,
        /// Where that lies.
        place: String,
    },
    /// The version is there already, with other content.
    #[error("{package} {version} is already published, with other content")]
    AlreadyPublished {
        /// The package.
        package: PackageName,
        /// The version.
        version: Version,
        /// What differs: `files`, `needs` …
        differs: &'static str,
    },
    /// The package numbers otherwise so far.
    #[error("{package} has always numbered by {before}, and now declares {now}")]
    Numbering {
        /// The package.
        package: PackageName,
        /// As its earlier releases do.
        before: Numbering,
        /// As its manifest says.
        now: Numbering,
    },
    /// The release is not there.
    #[error("{package} has no release {version}")]
    NoSuchRelease {
        /// The package.
        package: PackageName,
        /// The version asked for.
        version: String,
        /// Those there are, rising.
        known: Vec<Version>,
    },
    /// The version is none.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// A document that is there is broken.
    #[error("the document {} is broken", path.display())]
    Document {
        /// Its file.
        path: PathBuf,
        /// What is wrong.
        #[source]
        cause: DocumentError,
    },
    /// A file could not be read or written.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What a publish did.
#[derive(Debug)]
pub struct Published {
    /// The release as it now stands.
    pub release: Release,
    /// How many files it holds.
    pub files: usize,
    /// False when the very same was there already.
    pub is_new: bool,
}

/// Facts about a release that its files do not hold.
#[derive(Debug, Clone, Default)]
pub struct ReleaseRemarks {
    /// The platform it was made for; none when it fits all.
    pub platform: Option<String>,
    /// Set when its author gave it up.
    pub deprecated: Option<String>,
    /// The package that took its place.
    pub replaced_by: Option<PackageName>,
}

/// A registry in a folder, to be written to.
#[derive(Debug)]
pub struct Registry {
    folder: PathBuf,
    head: RegistryHead,
}

impl Registry {
    /// Makes a registry in a folder that is empty or not there yet.
    ///
    /// # Errors
    /// `Occupied`, or `Store` when the folder cannot be written.
    pub fn create(folder: &Path, name: &str) -> Result<Self, RegistryError> {
        fs::create_dir_all(folder).map_err(StoreError::when("make the folder", folder))?;
        let mut entries = fs::read_dir(folder).map_err(StoreError::when("read the folder", folder))?;
        if entries.next().is_some() {
            return Err(RegistryError::Occupied(folder.to_owned()));
        }
        for part in ["releases", "archives/sha256", "advisories"] {
            let path = folder.join(part);
            fs::create_dir_all(&path).map_err(StoreError::when("make the folder", path))?;
        }
        let head = RegistryHead { name: name.to_owned(), format: REGISTRY_FORMAT };
        write_atomically(&folder.join("registry.json"), head.write().as_bytes())?;
        Ok(Self { folder: folder.to_owned(), head })
    }

    /// Opens a registry.
    ///
    /// # Errors
    /// `NotARegistry`, `Format`, or `Store` when it cannot be read.
    pub fn open(folder: &Path) -> Result<Self, RegistryError> {
        let path = folder.join("registry.json");
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            Err(cause) if matches!(cause.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
                return Err(RegistryError::NotARegistry(folder.to_owned()));
            }
            Err(cause) => return Err(StoreError { doing: "read", path, cause }.into()),
        };
        let head = RegistryHead::parse(&text).ok_or_else(|| RegistryError::NotARegistry(folder.to_owned()))?;
        if head.format != REGISTRY_FORMAT {
            return Err(RegistryError::Format(head.format));
        }
        Ok(Self { folder: folder.to_owned(), head })
    }

    /// Returns the registry's name.
    pub fn name(&self) -> &str {
        &self.head.name
    }

    /// Lists all packages with all they have, by name.
    ///
    /// # Errors
    /// When a document cannot be read or is broken.
    pub fn contents(&self) -> Result<Vec<PackageDocument>, RegistryError> {
        let folder = self.folder.join("releases");
        let mut names: Vec<PackageName> = fs::read_dir(&folder)
            .map_err(StoreError::when("read the folder", &folder))?
            .flatten()
            .filter_map(|entry| PackageName::from_path_element(entry.file_name().to_str()?.strip_suffix(".json")?).ok())
            .collect();
        names.sort();
        names.iter().filter_map(|name| self.document(name).transpose()).collect()
    }

    /// Packs the folder of a package and publishes it as the version its manifest says. The very same content again
    /// changes nothing.
    ///
    /// # Errors
    /// `AlreadyPublished` with other content, `NoVersion`, `NeedsElsewhere`, `Numbering`, or what packing and writing refuse.
    pub fn publish(
        &self,
        folder: &Path,
        manifest: &Manifest,
        now: Timestamp,
        remarks: ReleaseRemarks,
    ) -> Result<Published, RegistryError> {
        let package = manifest.project.name.clone();
        let version = manifest.project.version.clone().ok_or_else(|| RegistryError::NoVersion(package.clone()))?;
        let run = manifest.needs.get(&run_purpose()).into_iter().flatten();
        for (needed, need) in run {
            if let Some(place) = &need.elsewhere {
                let (needed, place) = (needed.clone(), place.to_string());
                return Err(RegistryError::NeedsElsewhere { package, needed, place });
            }
        }
        let guard = self.guard()?;
        let numbering = manifest.project.numbering;
        let mut document = self.document(&package)?.unwrap_or(PackageDocument {
            name: package.clone(),
            numbering,
            releases: Vec::new(),
        });
        if document.numbering != numbering {
            return Err(RegistryError::Numbering { package, before: document.numbering, now: numbering });
        }
        let archives = self.folder.join("archives/sha256");
        let aside = tempfile::TempPath::try_from_path(archives.join(format!(".aside-{}", std::process::id())))
            .map_err(StoreError::when("write in", &archives))?;
        let Packed { artifact, listing } = pack(folder, remarks.platform.as_deref().unwrap_or(ANY_PLATFORM), &aside)?;
        let mut without_manifest = listing.clone();
        without_manifest.entries.remove(MANIFEST_FILE);
        let mut release = release_of(manifest, version, artifact, now, remarks);
        release.content = (!without_manifest.entries.is_empty()).then(|| without_manifest.digest());
        let mut whole = release.clone();
        if let Some(there) = document.release(&release.version) {
            match difference(there, &release) {
                Difference::None => {
                    let mut release = Release::clone(there);
                    release.artifacts.retain(|artifact| artifact.platform == whole.artifacts[0].platform);
                    return Ok(Published { release, files: listing.entries.len(), is_new: false });
                }
                Difference::OnePlatformMore => {
                    whole = Release::clone(there);
                    whole.artifacts.extend(release.artifacts.iter().cloned());
                    whole.artifacts.sort();
                }
                Difference::In(differs) => {
                    return Err(RegistryError::AlreadyPublished { package, version: release.version, differs });
                }
            }
        }
        let target = self.folder.join(archive_file(release.artifacts[0].digest));
        aside.persist(&target).map_err(|e| StoreError { doing: "write", path: target.clone(), cause: e.error })?;
        document.releases.retain(|other| other.version != whole.version);
        document.releases.push(Arc::new(whole));
        document.releases.sort_by(|a, b| a.version.cmp(&b.version));
        self.write_document(&document)?;
        drop(guard);
        Ok(Published { release, files: listing.entries.len(), is_new: true })
    }

    /// Marks a release so that it is never newly chosen; those locked to it keep it. Returns whether it was new.
    ///
    /// # Errors
    /// `NoSuchRelease`, or what reading and writing refuse.
    pub fn withdraw(
        &self,
        package: &PackageName,
        version: &str,
        why: &str,
        now: Timestamp,
    ) -> Result<bool, RegistryError> {
        let _guard = self.guard()?;
        let known = |document: &PackageDocument| document.releases.iter().map(|r| r.version.clone()).collect();
        let no_such =
            |known| RegistryError::NoSuchRelease { package: package.clone(), version: version.to_owned(), known };
        let mut document = self.document(package)?.ok_or_else(|| no_such(Vec::new()))?;
        let wanted = document.numbering.parse_version(version)?;
        let Some(release) = document.releases.iter_mut().find(|release| release.version == wanted) else {
            return Err(no_such(known(&document)));
        };
        if release.withdrawn.is_some() {
            return Ok(false);
        }
        Arc::make_mut(release).withdrawn = Some(Withdrawal { on: now, why: why.to_owned() });
        self.write_document(&document)?;
        Ok(true)
    }

    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, RegistryError> {
        let path = self.folder.join(document_file(package));
        match fs::read_to_string(&path) {
            Ok(text) => match PackageDocument::parse(&text, package) {
                Ok(document) => Ok(Some(document)),
                Err(cause) => Err(RegistryError::Document { path, cause }),
            },
            Err(cause) if cause.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(cause) => Err(StoreError { doing: "read", path, cause }.into()),
        }
    }

    fn write_document(&self, document: &PackageDocument) -> Result<(), RegistryError> {
        write_atomically(&self.folder.join(document_file(&document.name)), document.write().as_bytes())?;
        Ok(())
    }

    fn guard(&self) -> Result<File, StoreError> {
        let path = self.folder.join(".guard");
        let guard = File::options().append(true).create(true).open(&path).map_err(StoreError::when("write", &path))?;
        guard.lock().map_err(StoreError::when("lock", &path))?;
        Ok(guard)
    }
}

fn release_of(
    manifest: &Manifest,
    version: Version,
    artifact: yostel_core::Artifact,
    now: Timestamp,
    remarks: ReleaseRemarks,
) -> Release {
    let needs = manifest.needs.iter().filter(|(_, needs)| !needs.is_empty()).map(|(purpose, needs)| {
        // Needs of other purposes are the author's own affair, wherever they are met.
        let told = needs.iter().filter(|(_, need)| need.elsewhere.is_none());
        let needs = told.map(|(name, need)| (name.clone(), need.accept.clone())).collect();
        (purpose.clone(), needs)
    });
    Release {
        version,
        published: now,
        needs: needs.collect(),
        offers: manifest.offers.clone(),
        licence: manifest.project.licence.clone(),
        notes: manifest.project.notes.clone(),
        artifacts: vec![artifact],
        content: None,
        withdrawn: None,
        deprecated: remarks.deprecated,
        replaced_by: remarks.replaced_by,
    }
}

/// How a release relates to the one that is there at its version.
enum Difference {
    None,
    /// It is the same release, for a platform that had nothing yet.
    OnePlatformMore,
    /// In this.
    In(&'static str),
}

/// Compares a release for one platform with the one that is there; the archive's bytes may differ, as long as its tree is
/// the same (another version of the compressor writes other bytes).
fn difference(there: &Release, now: &Release) -> Difference {
    if there.version.as_str() != now.version.as_str() {
        return Difference::In("the way its version is written");
    }
    let artifact = &now.artifacts[0];
    let fits_all = |platform: &str| platform == ANY_PLATFORM;
    match there.artifacts.iter().find(|other| other.platform == artifact.platform) {
        Some(other) if other.tree != artifact.tree => Difference::In("its files"),
        _ if there.needs != now.needs || there.offers != now.offers => Difference::In("what it needs or offers"),
        Some(_) => Difference::None,
        // Whoever locked what fits all would get other files than those who lock it now.
        None if fits_all(&artifact.platform) || there.artifacts.iter().any(|other| fits_all(&other.platform)) => {
            Difference::In("the platforms it is for")
        }
        None => Difference::OnePlatformMore,
    }
}
