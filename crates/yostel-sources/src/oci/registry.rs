//! A registry in an OCI registry, to be written to.

use std::collections::BTreeMap;
use std::io::Read;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use yostel_documents::oci::{
    ADVISORY_TYPE, Blob, Descriptor, INDEX_TYPE, OciIndex, OciManifest, OciPlace, OciStatement, OciTag, PACKAGE_TYPE,
    REGISTRY_TYPE, RELEASE_TYPE, STATEMENT_TYPE, release_alone, repository_name,
};
use yostel_documents::{
    ArchiveDigest, ArchiveFormat, Artifact, PackageDocument, PackageName, REGISTRY_FORMAT, RegistryHead, Release,
    SourceName,
};

use super::once::Once;
use super::reading::{Repositories, Told};
use super::source::TITLE;
use super::writing::OpenContent;
use crate::cached::NoAnswerCache;
use crate::context::SourceContext;
use crate::error::{SourceError, SourceErrorKind};
use crate::fault::WebFault;
use crate::mirrors::Fault;

/// How often one looks again where tags appear while an index is written.
const INDEX_ROUNDS: usize = 3;

/// A registry in an OCI registry, to be written to.
#[derive(Debug)]
pub struct OciRegistry {
    place: OciPlace,
    /// The source's name, where it is one of a manifest.
    name: Option<SourceName>,
    head: RegistryHead,
    repositories: Repositories,
    /// How archives are packed that were looked at; none when that is no way that is known.
    formats: Mutex<BTreeMap<ArchiveDigest, Option<ArchiveFormat>>>,
    /// Whether the server was asked to take a content over from another repository and did not.
    mounts_nothing: AtomicBool,
}

/// What came of adding something.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Added {
    /// It is there now.
    Now,
    /// The very same was there already.
    Already,
    /// Somebody else put another there first.
    OtherFirst,
}

impl From<Once> for Added {
    fn from(once: Once) -> Self {
        match once {
            Once::Written => Self::Now,
            Once::Same => Self::Already,
            Once::Taken => Self::OtherFirst,
        }
    }
}

/// What a registry is written with: nothing is taken from what was kept.
fn repositories_of(place: &OciPlace, context: &SourceContext) -> Repositories {
    let context = SourceContext { answers: Arc::new(NoAnswerCache), offline: false, ..context.clone() };
    Repositories::new(std::slice::from_ref(place), &context)
}

impl OciRegistry {
    /// Makes a registry where there is none yet.
    ///
    /// # Errors
    /// `Web`, or `Occupied` where there is one.
    pub fn create(
        source: Option<SourceName>,
        place: &OciPlace,
        name: &str,
        context: &SourceContext,
    ) -> Result<Self, SourceError> {
        let repositories = repositories_of(place, context);
        let head = RegistryHead { name: name.to_owned(), format: REGISTRY_FORMAT };
        let made = Self::of((source, place), head, repositories);
        let annotations = BTreeMap::from([(TITLE.to_owned(), name.to_owned())]);
        let artifact = OciManifest::of(REGISTRY_TYPE, &made.head.write(), Vec::new(), annotations);
        match made.wait(made.put("", OciTag::REGISTRY, &artifact))? {
            Once::Written => Ok(made),
            Once::Same | Once::Taken => Err(made.fail(SourceErrorKind::Occupied(place.clone()))),
        }
    }

    /// Opens a registry.
    ///
    /// # Errors
    /// `Web`, `NotAnOciRegistry`, `Format`.
    pub fn open(name: Option<SourceName>, place: &OciPlace, context: &SourceContext) -> Result<Self, SourceError> {
        let repositories = repositories_of(place, context);
        let head = repositories.head(name.as_ref(), place)?;
        Ok(Self::of((name, place), head, repositories))
    }

    fn of((name, place): (Option<SourceName>, &OciPlace), head: RegistryHead, repositories: Repositories) -> Self {
        let (formats, mounts_nothing) = (Mutex::default(), AtomicBool::new(false));
        Self { place: place.clone(), name, head, repositories, formats, mounts_nothing }
    }

    /// Returns its name.
    pub fn name(&self) -> &str {
        &self.head.name
    }

    fn fail(&self, kind: impl Into<SourceErrorKind>) -> SourceError {
        SourceError { source_name: self.name.clone(), kind: kind.into() }
    }

    fn wait<T>(&self, asked: impl Future<Output = Result<T, Fault>>) -> Result<T, SourceError> {
        self.repositories.files.wait_for("", asked).map_err(|fault| self.fail(fault))
    }

    /// Writes an artifact under a tag, unless another is there.
    async fn put(&self, repository: &str, tag: &str, artifact: &(OciManifest, Vec<Blob>)) -> Result<Once, Fault> {
        for blob in &artifact.1 {
            self.repositories.send_blob(repository, blob).await?;
        }
        self.repositories.write_once(repository, tag, &artifact.0.write()).await
    }

    /// Returns all that is known of a package; nothing when it is not there.
    ///
    /// # Errors
    /// `Web`, `Document`.
    pub fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, SourceError> {
        let Some(told) = self.wait(self.repositories.tell(package))? else { return Ok(None) };
        self.read(package, &told).map(Some)
    }

    fn read(&self, package: &PackageName, told: &Told) -> Result<PackageDocument, SourceError> {
        self.repositories.read(package, told).map(|sourced| sourced.document).map_err(|kind| self.fail(kind))
    }

    /// Lists the packages, sorted.
    ///
    /// # Errors
    /// `Web`.
    pub fn packages(&self) -> Result<Vec<PackageName>, SourceError> {
        let tags = self.wait(self.repositories.tags(""))?.unwrap_or_default();
        let mut names: Vec<PackageName> = tags.iter().filter_map(|tag| OciTag::package_of(tag)).collect();
        names.sort();
        Ok(names)
    }

    /// Tells whether an archive of a package is there.
    ///
    /// # Errors
    /// `Web`.
    pub fn has_archive(&self, package: &PackageName, artifact: &Artifact) -> Result<bool, SourceError> {
        self.wait(self.repositories.has(&format!("{package}/"), &artifact.digest.to_string()))
    }

    /// Sends an archive of a package, unless it is there.
    ///
    /// # Errors
    /// `Web`, or `Name` of what OCI registries cannot have.
    pub fn send_archive(
        &self,
        package: &PackageName,
        artifact: &Artifact,
        open: &OpenContent<'_>,
    ) -> Result<(), SourceError> {
        self.check(package)?;
        let (digest, repository) = (artifact.digest.to_string(), format!("{package}/"));
        let mut head = Vec::new();
        let known = open().and_then(|content| content.take(ArchiveFormat::TELLING as u64).read_to_end(&mut head));
        known.map_err(|error| self.fail(Fault::at(self.place.to_string(), WebFault::of_machine(&error))))?;
        self.wait(self.repositories.send_content(&repository, (&digest, artifact.size), open))?;
        self.remember(artifact, &head);
        Ok(())
    }

    fn remember(&self, artifact: &Artifact, head: &[u8]) -> Option<ArchiveFormat> {
        let format = ArchiveFormat::of(head);
        self.formats.lock().unwrap_or_else(PoisonError::into_inner).insert(artifact.digest, format);
        format
    }

    /// Looks at an archive that is there, for how it is packed; nothing when it is not there.
    fn look_at(
        &self,
        package: &PackageName,
        artifact: &Artifact,
    ) -> Result<Option<Option<ArchiveFormat>>, SourceError> {
        let (repository, digest) = (format!("{package}/"), artifact.digest.to_string());
        Ok(self.wait(self.repositories.telling_bytes(&repository, &digest))?.map(|head| self.remember(artifact, &head)))
    }

    /// Takes an archive of a package over from another registry, where both are on one server and it does that: then nobody
    /// carries the archive. Returns whether it is there now.
    ///
    /// # Errors
    /// `Web`, or `Name` of what OCI registries cannot have.
    pub fn mount_archive(
        &self,
        package: &PackageName,
        artifact: &Artifact,
        from: &OciPlace,
    ) -> Result<bool, SourceError> {
        self.check(package)?;
        if from.server() != self.place.server() || self.mounts_nothing.load(Ordering::Relaxed) {
            return Ok(false);
        }
        let Ok(from) = repository_name(from.prefix(), package) else { return Ok(false) };
        let (repository, digest) = (format!("{package}/"), artifact.digest.to_string());
        // A registry that only says so would have a release without its archive.
        let is_there = self.wait(self.repositories.mount(&repository, &digest, &from))?
            && self.look_at(package, artifact)?.is_some();
        self.mounts_nothing.store(!is_there, Ordering::Relaxed);
        Ok(is_there)
    }

    /// Describes an archive of a release, which is there.
    fn layer(&self, package: &PackageName, version: &str, artifact: &Artifact) -> Result<Descriptor, SourceError> {
        let known = self.formats.lock().unwrap_or_else(PoisonError::into_inner).get(&artifact.digest).copied();
        let format = match known {
            Some(format) => format,
            None => self
                .look_at(package, artifact)?
                .ok_or_else(|| self.fail(SourceErrorKind::ArchiveMissing(artifact.digest)))?,
        };
        Ok(descriptor(package, version, artifact, format))
    }

    /// Adds a release, as it was published. Its archives are there already.
    ///
    /// # Errors
    /// `Web`, or `Name` of what OCI registries cannot have.
    pub fn add_release(&self, document: &PackageDocument, release: &Release) -> Result<Added, SourceError> {
        let package = &document.name;
        self.check(package)?;
        let says = release_alone(document, release);
        let alone = PackageDocument::parse(&says, package).ok().and_then(|alone| alone.releases.first().cloned());
        let artifacts = alone.map(|release| release.whole().artifacts.clone()).unwrap_or_default();
        let version = release.version.as_str();
        let layers: Result<Vec<Descriptor>, SourceError> =
            artifacts.iter().map(|artifact| self.layer(package, version, artifact)).collect();
        let layers = layers?;
        let artifact = OciManifest::of(RELEASE_TYPE, &says, layers, remarks_of(package, release));
        let (repository, tag) = (format!("{package}/"), OciTag::of_version(version));
        self.wait(self.announce(package))?;
        Ok(self.wait(self.put(&repository, &tag, &artifact))?.into())
    }

    /// Adds what was said of a release. The archive that it tells of, if any, is there already.
    ///
    /// # Errors
    /// `Web`, or `Name`.
    pub fn add_statement(&self, package: &PackageName, statement: &OciStatement) -> Result<Added, SourceError> {
        self.check(package)?;
        let (repository, says) = (format!("{package}/"), statement.write());
        let told = statement.artifact();
        let (layers, tag) = match &told {
            Some(artifact) => {
                let layer = self.layer(package, &statement.version, artifact)?;
                (vec![layer], OciTag::of_platform(&statement.version, &artifact.platform))
            }
            None => (Vec::new(), OciTag::of_statement(&says)),
        };
        let annotations = BTreeMap::from([(TITLE.to_owned(), format!("{package} {}", statement.version))]);
        let artifact = OciManifest::of(STATEMENT_TYPE, &says, layers, annotations);
        if told.is_none() {
            // Its tag is its own, so nobody else writes another there.
            self.wait(self.repositories.send_artifact(&repository, &tag, &artifact))?;
            return Ok(Added::Now);
        }
        Ok(self.wait(self.put(&repository, &tag, &artifact))?.into())
    }

    /// Makes the index of a package anew, which spares its readers requests.
    ///
    /// # Errors
    /// `Web`, `Document`.
    pub fn write_index(&self, package: &PackageName) -> Result<(), SourceError> {
        let repository = format!("{package}/");
        for _ in 0..INDEX_ROUNDS {
            let Some(told) = self.wait(self.repositories.tell(package))? else { return Ok(()) };
            if told.is_whole() {
                return Ok(());
            }
            let document = self.read(package, &told)?.write();
            let index = OciIndex { tags: told.tags.iter().cloned().collect(), document };
            let annotations = BTreeMap::from([(TITLE.to_owned(), package.to_string())]);
            let artifact = OciManifest::of(INDEX_TYPE, &index.write(), Vec::new(), annotations);
            self.wait(self.repositories.send_artifact(&repository, OciTag::INDEX, &artifact))?;
        }
        Ok(())
    }

    /// Puts a file with an advisory there, in place of one of the same name. Returns whether it changed.
    ///
    /// # Errors
    /// `Web`.
    pub fn put_advisory(&self, file: &str, text: &[u8]) -> Result<bool, SourceError> {
        let (blob, tag) = (Blob::of(text), OciTag::of_advisory(file));
        let title = BTreeMap::from([(TITLE.to_owned(), file.to_owned())]);
        let layer = Descriptor::of("application/json", &blob, title);
        let (manifest, mut blobs) = OciManifest::of(ADVISORY_TYPE, "{}", vec![layer], BTreeMap::new());
        blobs.push(blob);
        let there = self.wait(self.repositories.manifest("", &tag))?;
        if there.is_some_and(|there| there.answer.bytes == manifest.write()) {
            return Ok(false);
        }
        self.wait(self.repositories.send_artifact("", &tag, &(manifest, blobs)))?;
        Ok(true)
    }

    fn check(&self, package: &PackageName) -> Result<(), SourceError> {
        let named = repository_name(self.place.prefix(), package);
        named.map(|_| ()).map_err(|reason| self.fail(SourceErrorKind::Name { package: package.clone(), reason }))
    }

    /// Tells in the registry's own repository that there is a package.
    async fn announce(&self, package: &PackageName) -> Result<(), Fault> {
        let (tag, annotations) =
            (OciTag::of_package(package), BTreeMap::from([(TITLE.to_owned(), package.to_string())]));
        if self.repositories.manifest("", &tag).await?.is_some() {
            return Ok(());
        }
        let says = serde_json::json!({ "format": REGISTRY_FORMAT, "package": package.as_str() }).to_string();
        let artifact = OciManifest::of(PACKAGE_TYPE, &says, Vec::new(), annotations);
        // Whoever else writes it writes the same.
        self.repositories.send_artifact("", &tag, &artifact).await
    }
}

/// Describes an archive of a release (Image Specification, "Image Layer Filesystem Changeset").
fn descriptor(package: &PackageName, version: &str, artifact: &Artifact, format: Option<ArchiveFormat>) -> Descriptor {
    let last = package.as_str().rsplit('/').next().unwrap_or_default();
    let platform = match &artifact.platform[..] {
        yostel_documents::ANY_PLATFORM => String::new(),
        platform => format!("-{}", platform.replace('/', "-")),
    };
    let ending = format.map_or_else(String::new, |format| format!(".{}", format.ending()));
    let file = format!("{last}-{version}{platform}{ending}");
    let media_type = match format {
        Some(ArchiveFormat::Zstandard) => "application/vnd.oci.image.layer.v1.tar+zstd",
        Some(ArchiveFormat::Gzip) => "application/vnd.oci.image.layer.v1.tar+gzip",
        Some(ArchiveFormat::Tar) => "application/vnd.oci.image.layer.v1.tar",
        Some(ArchiveFormat::Zip) => "application/zip",
        None => "application/octet-stream",
    };
    Descriptor {
        media_type: media_type.to_owned(),
        digest: artifact.digest.to_string(),
        size: artifact.size,
        data: None,
        annotations: BTreeMap::from([(TITLE.to_owned(), file)]),
    }
}

/// Returns what is said of a release for whoever knows OCI and not this (Image Specification, "Annotations").
fn remarks_of(package: &PackageName, release: &Release) -> BTreeMap<String, String> {
    let mut remarks = BTreeMap::new();
    let mut remark = |key: &str, value: String| remarks.insert(format!("org.opencontainers.image.{key}"), value);
    remark("title", package.to_string());
    remark("version", release.version.to_string());
    remark("created", release.published.to_string());
    if let Some(licence) = &release.licence {
        remark("licenses", licence.clone());
    }
    if let Some(made_from) = &release.made_from {
        remark("source", made_from.repository.clone());
        made_from.commit.iter().for_each(|commit| drop(remark("revision", commit.clone())));
    }
    remarks
}
