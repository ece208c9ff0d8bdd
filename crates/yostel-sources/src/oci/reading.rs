//! Asking OCI registries (Distribution Specification 1.1): tags, artifacts and what they say.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use serde::Deserialize;
use tokio::task::JoinSet;
use yostel_documents::oci::{
    Blob, INDEX_TYPE, OCI_IMAGE_INDEX, OCI_MANIFEST, OciIndex, OciManifest, OciManifestError, OciPlace, OciStatement,
    OciTag, REGISTRY_TYPE, RELEASE_TYPE, STATEMENT_TYPE, joined_document, repository_name,
};
use yostel_documents::{
    ArchiveFormat, DocumentError, MOST_DOCUMENT, PackageDocument, PackageName, REGISTRY_FORMAT, RegistryHead,
    SourceName,
};

use crate::SourcedDocument;
use crate::access::Access;
use crate::cached::CachedAnswer;
use crate::context::SourceContext;
use crate::error::{SourceError, SourceErrorKind};
use crate::fault::{WebFault, pause};
use crate::mirrors::{Fault, Fetched, Files};

/// The types of manifests, which some registries want named.
fn manifest_types() -> String {
    format!("{OCI_MANIFEST}, {OCI_IMAGE_INDEX}")
}

/// Longest manifest, in bytes: what the specification asks registries to take.
const MOST_MANIFEST: u64 = 4 << 20;

/// Longest list of tags that is read, in bytes, whatever pages it has.
const MOST_TAGS: u64 = 32 << 20;

/// How many artifacts of a package are asked for at the same time.
const AT_ONCE: usize = 16;

/// How often one looks for a tag that is listed.
const LOOKS: u32 = 4;

/// How many pages of tags are read.
const MOST_PAGES: usize = 10_000;

/// The repositories of a registry, in one OCI registry or several that have the same.
#[derive(Debug, Clone)]
pub(super) struct Repositories {
    pub(super) files: Arc<Files>,
}

/// What a repository says of a package.
pub(super) struct Told {
    /// What all others said when it was written.
    index: Option<OciIndex>,
    /// What single artifacts say that are not in it: the tag, and the text.
    others: Vec<(String, String)>,
    /// The tags of all that was read.
    pub(super) tags: BTreeSet<String>,
}

impl Told {
    /// Returns about how many bytes it holds.
    pub(super) fn weight(&self) -> usize {
        let index = self.index.as_ref().map_or(0, |index| index.document.len());
        let others: usize = self.others.iter().map(|(tag, text)| tag.len() + text.len()).sum();
        index + others + self.tags.iter().map(String::len).sum::<usize>()
    }

    /// Tells whether the index has all of it.
    pub(super) fn is_whole(&self) -> bool {
        self.index.is_some() && self.others.is_empty()
    }
}

#[derive(Deserialize)]
struct TagList {
    tags: Option<Vec<String>>,
}

impl Repositories {
    pub(super) fn new(places: &[OciPlace], context: &SourceContext) -> Self {
        let address = |place: &OciPlace| format!("{}/v2/{}", place.server(), place.prefix());
        let head = manifest_of("", OciTag::REGISTRY);
        let access = Access::new(context.credentials.clone(), false);
        Self { files: Arc::new(Files::new((places.iter().map(address).collect(), head), access, context)) }
    }

    /// Reads what says that here is a registry, and of what name.
    pub(super) fn head(&self, name: Option<&SourceName>, place: &OciPlace) -> Result<RegistryHead, SourceError> {
        let fail = |kind| SourceError { source_name: name.cloned(), kind };
        let said =
            self.files.wait_for(&manifest_of("", OciTag::REGISTRY), self.says("", OciTag::REGISTRY, REGISTRY_TYPE));
        let said = said.map_err(|fault| fail(fault.into()))?;
        match said.and_then(|(_, said)| RegistryHead::parse(std::str::from_utf8(&said).ok()?)) {
            Some(head) if head.format != REGISTRY_FORMAT => Err(fail(SourceErrorKind::Format { found: head.format })),
            Some(head) => Ok(head),
            None => Err(fail(SourceErrorKind::NotAnOciRegistry(place.clone()))),
        }
    }

    /// Lists the tags of a repository, whose name ends with `/` where it has one of its own; nothing when it is not there.
    pub(super) async fn tags(&self, repository: &str) -> Result<Option<Vec<String>>, Fault> {
        let file = format!("{repository}tags/list");
        let ask = |first: String| async move {
            let mut tags: BTreeSet<String> = BTreeSet::new();
            let (mut seen, mut address, mut room) = (BTreeSet::new(), first.clone(), MOST_TAGS);
            for _ in 0..MOST_PAGES {
                let Some(page) = self.files.fetch((&address, ""), MOST_TAGS).await? else { return Ok(None) };
                let list: TagList = serde_json::from_slice(&page.answer.bytes)
                    .map_err(|_| WebFault::Unexpected("lists tags in a way that nobody can read"))?;
                room = room.checked_sub(page.answer.bytes.len() as u64).ok_or(WebFault::TooLong(MOST_TAGS))?;
                tags.extend(list.tags.unwrap_or_default().into_iter().filter(|tag| OciTag::is_tag(tag)));
                match page.next {
                    // Kept as a whole, so that without a server all of it is there.
                    None => {
                        let all: Vec<String> = tags.into_iter().collect();
                        if !self.files.offline {
                            let bytes = serde_json::json!({ "tags": all }).to_string().into_bytes();
                            self.files.keep_as(&first, CachedAnswer { bytes, ..CachedAnswer::default() });
                        }
                        return Ok(Some(all));
                    }
                    Some(next) if seen.insert(next.clone()) => address = next,
                    Some(_) => return Err(WebFault::Unexpected("sends pages of tags that lead in a circle")),
                }
            }
            Err(WebFault::Unexpected("has no last page of tags"))
        };
        self.files.at_each(&file, ask).await
    }

    /// Asks for an artifact of a type, and what it says; nothing when there is none by this tag.
    pub(super) async fn says(
        &self,
        repository: &str,
        tag: &str,
        kind: &'static str,
    ) -> Result<Option<(OciManifest, Vec<u8>)>, Fault> {
        let Some(came) = self.manifest(repository, tag).await? else { return Ok(None) };
        let unfit = |error: OciManifestError| Fault::at(came.address.clone(), error.into());
        let manifest = OciManifest::parse(&came.answer.bytes, kind).map_err(unfit)?;
        let said = match manifest.says().map_err(unfit)? {
            Some(said) => said,
            None => self.blob(repository, &manifest.config.digest, MOST_DOCUMENT).await?,
        };
        self.files.keep(&came);
        Ok(Some((manifest, said)))
    }

    /// The same of a tag that is listed: while it is being written, a registry may list it and not have it yet.
    async fn says_in_the_end(
        &self,
        repository: &str,
        tag: &str,
        kind: &'static str,
    ) -> Result<Option<(OciManifest, Vec<u8>)>, Fault> {
        for tries in 1..LOOKS {
            let said = self.says(repository, tag, kind).await?;
            if said.is_some() || self.files.offline {
                return Ok(said);
            }
            tokio::time::sleep(pause(tries)).await;
        }
        self.says(repository, tag, kind).await
    }

    /// Asks for a manifest; nothing when there is none by this tag.
    pub(super) async fn manifest(&self, repository: &str, tag: &str) -> Result<Option<Fetched>, Fault> {
        let types = manifest_types();
        let ask = |address: String| {
            let types = types.clone();
            async move { self.files.fetch((&address, &types), MOST_MANIFEST).await }
        };
        self.files.at_each(&manifest_of(repository, tag), ask).await
    }

    /// Asks for a content of a repository. It is what its digest says, or an error.
    pub(super) async fn blob(&self, repository: &str, digest: &str, most: u64) -> Result<Vec<u8>, Fault> {
        let file = format!("{repository}blobs/{digest}");
        let ask = |address: String| async move {
            // What has a digest never changes.
            if let Some(kept) = self.files.kept(&address).filter(|kept| Blob::of(&*kept.bytes).digest == digest) {
                return Ok(kept.bytes);
            }
            let came = self.files.fetch((&address, ""), most).await?;
            let came = came.ok_or(WebFault::Unexpected("does not have what its own artifact is made of"))?;
            if Blob::of(&*came.answer.bytes).digest != digest {
                return Err(WebFault::Unexpected("sends something other than what the digest is of"));
            }
            self.files.keep(&came);
            Ok(came.answer.bytes)
        };
        self.files.at_each(&file, ask).await
    }

    /// Returns the bytes of an archive in a repository that tell how it is packed; nothing when it is not there.
    pub(super) async fn telling_bytes(&self, repository: &str, digest: &str) -> Result<Option<Vec<u8>>, Fault> {
        let file = format!("{repository}blobs/{digest}");
        let ask = |address: String| async move { self.files.web.first_bytes(&address, ArchiveFormat::TELLING).await };
        self.files.at_each(&file, ask).await
    }

    /// Asks for all that is said of a package; nothing when it is not there.
    ///
    /// The tags tell what there is, and are never written over. The index spares asking for what it has; what it lacks,
    /// since two wrote it at the same time, is asked for one by one.
    pub(super) async fn tell(&self, package: &PackageName) -> Result<Option<Told>, Fault> {
        let repository = format!("{package}/");
        let Some(tags) = self.tags(&repository).await? else { return Ok(None) };
        let is_said = |tag: &String| matches!(OciTag::of(tag), OciTag::Release | OciTag::Statement);
        let there: BTreeSet<String> = tags.iter().filter(|tag| is_said(tag)).cloned().collect();
        let index = match tags.iter().any(|tag| tag == OciTag::INDEX) {
            true => self.says(&repository, OciTag::INDEX, INDEX_TYPE).await.ok().flatten(),
            false => None,
        };
        // It can be made again, so one that cannot be read is none.
        let index = index.and_then(|(_, said)| OciIndex::parse(std::str::from_utf8(&said).ok()?));
        let known: BTreeSet<String> = index.iter().flat_map(|index| index.tags.iter().cloned()).collect();
        if !known.is_subset(&there) {
            tracing::debug!(%package, "the registry lists fewer tags than its index has; a mirror may list what it has only");
        }
        let mut others = self.tell_each(&repository, there.difference(&known).cloned()).await?;
        others.sort();
        if index.is_none() && others.is_empty() {
            return Ok(None);
        }
        Ok(Some(Told { index, others, tags: there.union(&known).cloned().collect() }))
    }

    /// Asks for what each of these artifacts says.
    async fn tell_each(
        &self,
        repository: &str,
        mut tags: impl Iterator<Item = String>,
    ) -> Result<Vec<(String, String)>, Fault> {
        let (mut asked, mut told, mut room) = (JoinSet::new(), Vec::new(), MOST_DOCUMENT);
        loop {
            while asked.len() < AT_ONCE
                && let Some(tag) = tags.next()
            {
                let (this, repository) = (self.clone(), repository.to_owned());
                asked.spawn(async move {
                    let kind = if OciTag::of(&tag) == OciTag::Release { RELEASE_TYPE } else { STATEMENT_TYPE };
                    let said = this.says_in_the_end(&repository, &tag, kind).await;
                    (tag, said)
                });
            }
            let Some(came) = asked.join_next().await else { return Ok(told) };
            let (tag, said) = came.map_err(|error| WebFault::Broken(error.to_string()))?;
            let fault =
                |fault| Fault::at(format!("{}/{}", self.files.preferred(), manifest_of(repository, &tag)), fault);
            let (_, said) = said?.ok_or_else(|| fault(WebFault::Unexpected("lists a tag and does not have it")))?;
            room = room.checked_sub(said.len() as u64).ok_or_else(|| fault(WebFault::TooLong(MOST_DOCUMENT)))?;
            told.push((tag, String::from_utf8_lossy(&said).into_owned()));
        }
    }

    /// Reads what is said of a package.
    pub(super) fn read(&self, package: &PackageName, told: &Told) -> Result<SourcedDocument, SourceErrorKind> {
        let broken = |tag: &str, cause: DocumentError| SourceErrorKind::Document {
            package: package.clone(),
            path: PathBuf::from(format!("{}/{}", self.files.preferred(), manifest_of(&format!("{package}/"), tag))),
            cause,
        };
        let whole = |text: &str, tag: &str| PackageDocument::parse(text, package).map_err(|cause| broken(tag, cause));
        if let (Some(index), []) = (&told.index, &told.others[..]) {
            let document = whole(&index.document, OciTag::INDEX)?;
            return Ok(SourcedDocument { document, bytes: index.document.clone().into_bytes() });
        }
        let mut parts = Vec::new();
        if let Some(index) = &told.index {
            parts.push(whole(&index.document, OciTag::INDEX)?);
        }
        let mut statements = Vec::new();
        for (tag, text) in &told.others {
            match OciTag::of(tag) {
                OciTag::Release => parts.push(whole(text, tag)?),
                // One of a later format says nothing to this one.
                _ => statements.extend(OciStatement::parse(text)),
            }
        }
        let document = joined_document(package, &parts, statements).map_err(|cause| broken("", cause))?;
        let bytes = document.write().into_bytes();
        Ok(SourcedDocument { document, bytes })
    }
}

impl From<OciManifestError> for WebFault {
    fn from(error: OciManifestError) -> Self {
        Self::Artifact(error.to_string())
    }
}

/// Returns the path of a manifest below a registry.
pub(super) fn manifest_of(repository: &str, tag: &str) -> String {
    format!("{repository}manifests/{tag}")
}

/// Refuses a package that no OCI registry can have.
pub(super) fn check_name(places: &[OciPlace], package: &PackageName) -> Result<(), &'static str> {
    places.iter().try_for_each(|place| repository_name(place.prefix(), package).map(|_| ()))
}
