//! Writing the registry layout: create, publish, withdraw. Carries out docs/formats.md §4.
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

mod index;
mod publication;

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use yostel_documents::{
    ANY_PLATFORM, DOCUMENTS, DocumentError, Manifest, PackageDocument, PackageName, Release, Statement, TakenBack,
    Withdrawal, run_purpose,
};
use yostel_documents::{
    MOST_DOCUMENT, MOST_HEAD, REGISTRY_FORMAT, REGISTRY_HEAD, REGISTRY_INDEX, RegistryHead, RegistryIndex,
    archive_file, document_file,
};
use yostel_files::{Disk, FileError, Folder, Kind, is_unfinished, remove_unfinished};
use yostel_store::{PackError, Packed, pack};
use yostel_versions::{Numbering, Version, VersionError};

pub use publication::{Publication, Published, ReleaseRemarks};

/// The manifest's file name inside a package.
const MANIFEST_FILE: &str = "yostel.toml";

/// Who writes holds a lock on it.
const GUARD: &str = ".guard";

/// An archive that is being packed.
const ASIDE: &str = ".archive.yostel-new";

/// Why a registry could not be written.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// The folder is not empty; whether it holds a registry.
    #[error("{} is {}", .0.display(), if *.1 { "a registry already" } else { "not empty" })]
    Occupied(PathBuf, bool),
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
        /// Where that is.
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
    /// All that is said of the package would be more than readers take.
    #[error("what is said of {0} would be longer than the {most} MiB that readers take", most = MOST_DOCUMENT >> 20)]
    TooLong(PackageName),
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
    /// The package holds what none may.
    #[error("{0}")]
    Unfit(String),
    /// A file could not be read or written.
    #[error(transparent)]
    Store(#[from] FileError),
}

impl From<PackError> for RegistryError {
    fn from(error: PackError) -> Self {
        match error {
            PackError::File(error) => Self::Store(error),
            unfit @ PackError::Unfit { .. } => Self::Unfit(unfit.to_string()),
        }
    }
}

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

    /// Packs the folder of a package and publishes it as the version its manifest says. The very same content again
    /// changes nothing.
    ///
    /// # Errors
    /// `AlreadyPublished` with other content, `NoVersion`, `NeedsElsewhere`, `Numbering`, or what packing and writing refuse.
    pub fn publish(&self, publication: Publication<'_>) -> Result<Published, RegistryError> {
        let manifest = publication.manifest;
        let package = manifest.project.name.clone();
        let version = manifest.project.version.clone().ok_or_else(|| RegistryError::NoVersion(package.clone()))?;
        let run = manifest.needs.get(&run_purpose()).into_iter().flatten();
        for (needed, need) in run {
            if let Some(place) = &need.elsewhere {
                let (needed, place) = (needed.clone(), place.to_string());
                return Err(RegistryError::NeedsElsewhere { package, needed, place });
            }
        }
        // A preview needs no right to write.
        let guard = if publication.preview { None } else { Some(self.guard()?) };
        let numbering = &manifest.project.numbering;
        let there = self.document(&package)?;
        let mut document = there.unwrap_or_else(|| PackageDocument::new(package.clone(), numbering.clone()));
        let before = document.numbering.clone();
        document.numbering = match before.joined(numbering) {
            Some(joined) => joined.clone(),
            None => return Err(RegistryError::Numbering { package, before, now: numbering.clone() }),
        };
        let aside = guard.as_ref().map(|_| {
            let archives = self.folder.make_folders("archives/sha256")?;
            // The guard is held, so one that is there was left by a writer that was killed.
            archives.remove(ASIDE)?;
            archives.create(ASIDE, 0o644)
        });
        let platform = publication.remarks.platform.clone().unwrap_or_else(|| ANY_PLATFORM.to_owned());
        let packed = pack(&Folder::open(publication.folder)?, publication.without, &platform, aside.transpose()?);
        let outcome =
            packed.map_err(RegistryError::from).and_then(|packed| self.enter(document, version, packed, publication));
        if guard.is_some() {
            self.folder.remove(Path::new("archives/sha256").join(ASIDE))?;
        }
        drop(guard);
        outcome
    }

    /// Gives an archive that was packed aside its place and its record; the guard is held.
    fn enter(
        &self,
        mut document: PackageDocument,
        version: Version,
        Packed { artifact, listing }: Packed,
        Publication { manifest, now, remarks, preview, .. }: Publication<'_>,
    ) -> Result<Published, RegistryError> {
        let files: Vec<String> = listing.entries.keys().cloned().collect();
        let absent = absent(manifest, &files);
        let package = document.name.clone();
        let mut without_manifest = listing.clone();
        without_manifest.entries.remove(MANIFEST_FILE);
        let mut release = release_of(manifest, version, artifact, now);
        release.content = (!without_manifest.entries.is_empty()).then(|| without_manifest.digest());
        let release = release.recorded();
        let there = document.release(&release.version);
        let mut whole = there.map_or_else(|| release.clone(), |there| Release::clone(there));
        let is_new = match there.map(|there| difference(there, &release)) {
            None => true,
            Some(Difference::None) => false,
            Some(Difference::OnePlatformMore) => {
                let artifact = release.artifacts[0].clone();
                whole.say(&Statement::Artifact { on: now, artifact }).map_err(RegistryError::Unfit)?;
                true
            }
            Some(Difference::In(differs)) => {
                return Err(RegistryError::AlreadyPublished { package, version: release.version, differs });
            }
        };
        let said = (whole.deprecated.clone(), whole.replaced_by.clone());
        let says = remarks.deprecated.filter(|why| said != (Some(why.clone()), remarks.replaced_by.clone()));
        let is_deprecated_now = there.is_some() && says.is_some();
        if let Some(why) = says {
            let deprecated = Statement::Deprecated { on: now, why, replaced_by: remarks.replaced_by };
            whole.say(&deprecated).map_err(RegistryError::Unfit)?;
        }
        let mut told = whole.clone();
        told.artifacts.retain(|artifact| artifact.platform == release.artifacts[0].platform);
        let published = Published { release: told, files, absent, is_new, is_deprecated_now };
        if !(is_new || is_deprecated_now) {
            if !preview {
                // Whoever was killed may have left it as it was before.
                self.index()?;
            }
            return Ok(published);
        }
        document.insert(whole);
        let text = readable_text(&document)?;
        if preview {
            return Ok(published);
        }
        if is_new {
            let target = archive_file(release.artifacts[0].digest);
            self.folder
                .rename(Path::new("archives/sha256").join(ASIDE), &self.folder, &target)
                .map_err(FileError::when("write", self.folder.path_of(&target)))?;
        }
        let file = document_file(&document.name);
        if let Some(level) = file.parent() {
            self.folder.make_folders(level)?;
        }
        self.folder.write_atomically(file, text.as_bytes())?;
        self.index()?;
        Ok(published)
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
        self.say(package, version, |release| {
            let withdrawal = Withdrawal { on: now, why: why.to_owned() };
            release.withdrawn.is_none().then_some(Statement::Withdrawn(withdrawal))
        })
    }

    /// Takes back that a release is withdrawn. Returns whether it was.
    ///
    /// # Errors
    /// `NoSuchRelease`, or what reading and writing refuse.
    pub fn take_back(
        &self,
        package: &PackageName,
        version: &str,
        why: &str,
        now: Timestamp,
    ) -> Result<bool, RegistryError> {
        self.say(package, version, |release| {
            let (why, what) = (why.to_owned(), TakenBack::Withdrawn);
            release.withdrawn.is_some().then_some(Statement::TakenBack { on: now, why, what })
        })
    }

    /// Adds a statement about a release, if there is one to make. Returns whether there was.
    fn say(
        &self,
        package: &PackageName,
        version: &str,
        statement: impl FnOnce(&Release) -> Option<Statement>,
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
        let Some(statement) = statement(release) else { return Ok(false) };
        Arc::make_mut(release).say(&statement).map_err(RegistryError::Unfit)?;
        self.folder.write_atomically(document_file(package), readable_text(&document)?.as_bytes())?;
        Ok(true)
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

    /// Waits until nobody else writes, keeps others from it, and removes what killed writers left.
    fn guard(&self) -> Result<File, FileError> {
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

fn release_of(manifest: &Manifest, version: Version, artifact: yostel_documents::Artifact, now: Timestamp) -> Release {
    let needs = manifest.needs.iter().filter(|(_, needs)| !needs.is_empty()).map(|(purpose, needs)| {
        // Needs of other purposes are the author's own affair, wherever they are met.
        let told = needs.iter().filter(|(_, need)| need.elsewhere.is_none());
        let needs = told.map(|(name, need)| (name.clone(), need.accept.clone())).collect();
        (purpose.clone(), needs)
    });
    let mut release = Release::unpublished(version, needs.collect(), manifest.offers.clone(), vec![artifact]);
    release.published = now;
    release.licence.clone_from(&manifest.project.licence);
    release.notes.clone_from(&manifest.project.notes);
    release.identities = manifest.project.identities.iter().map(ToString::to_string).collect();
    release
}

/// How a release relates to the one that is there at its version.
enum Difference {
    None,
    /// It is the same release, for a platform that had nothing yet.
    OnePlatformMore,
    /// In this.
    In(&'static str),
}

/// Returns the text of a document that readers will take.
fn readable_text(document: &PackageDocument) -> Result<String, RegistryError> {
    let text = document.write();
    match text.len() as u64 > MOST_DOCUMENT {
        true => Err(RegistryError::TooLong(document.name.clone())),
        false => Ok(text),
    }
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

/// Lists the folders that a manifest offers and that none of the files is in.
fn absent(manifest: &Manifest, files: &[String]) -> Vec<String> {
    let offers = &manifest.offers;
    let is_there = |folder: &str| {
        folder == "." || files.iter().any(|file| file.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/')))
    };
    let offered = offers.programs.iter().chain(offers.variables.values());
    let mut absent: Vec<String> = offered.filter(|folder| !is_there(folder)).cloned().collect();
    absent.sort();
    absent.dedup();
    absent
}
