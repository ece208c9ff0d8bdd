//! Manifests of OCI artifacts (Image Specification 1.1, "OCI Image Manifest" and "OCI Content Descriptors").

use std::collections::BTreeMap;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

use crate::digest::{ArchiveDigest, Sha256, to_hex};

/// The media type of a manifest.
pub const OCI_MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";

/// The media type of a list of manifests.
pub const OCI_IMAGE_INDEX: &str = "application/vnd.oci.image.index.v1+json";

/// The media type of an object that says nothing.
const EMPTY: &str = "application/vnd.oci.empty.v1+json";

/// Longest content that stands in a manifest itself too, in bytes: with it, who reads need not ask again. Manifests may have
/// 4 MiB in all.
const MOST_INLINE: usize = 2 << 20;

/// What is somewhere else, by its digest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// What it is.
    pub media_type: String,
    /// `sha256:` and its digits.
    pub digest: String,
    /// Its size, in bytes.
    pub size: u64,
    /// Its content, in base64.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<String>,
    /// Remarks.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

impl Descriptor {
    /// Describes a content, which stands in it too where it is not too long.
    pub fn of(media_type: &str, content: &Blob, annotations: BTreeMap<String, String>) -> Self {
        let data = (content.bytes.len() <= MOST_INLINE).then(|| STANDARD.encode(&content.bytes));
        let (media_type, digest) = (media_type.to_owned(), content.digest.clone());
        Self { media_type, digest, size: content.bytes.len() as u64, data, annotations }
    }

    /// Returns the content, where it stands in it.
    ///
    /// # Errors
    /// `Digest`, when it is something else.
    pub fn content(&self) -> Result<Option<Vec<u8>>, OciManifestError> {
        let Some(data) = &self.data else { return Ok(None) };
        let wrong = || OciManifestError::Digest(self.digest.clone());
        let bytes = STANDARD.decode(data).map_err(|_| wrong())?;
        if Blob::of(bytes.clone()).digest != self.digest {
            return Err(wrong());
        }
        Ok(Some(bytes))
    }
}

/// A content that is pushed beside a manifest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Blob {
    /// `sha256:` and its digits.
    pub digest: String,
    /// The content.
    pub bytes: Vec<u8>,
}

impl Blob {
    /// Makes one.
    pub fn of(bytes: impl Into<Vec<u8>>) -> Self {
        let bytes = bytes.into();
        Self { digest: format!("sha256:{}", to_hex(&Sha256::of(&bytes))), bytes }
    }
}

/// An artifact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct OciManifest {
    schema_version: u32,
    #[serde(default)]
    media_type: Option<String>,
    /// What it is.
    #[serde(default)]
    pub artifact_type: Option<String>,
    /// What it says.
    pub config: Descriptor,
    /// Its files.
    #[serde(default)]
    pub layers: Vec<Descriptor>,
    /// Remarks.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

/// Why a manifest cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum OciManifestError {
    /// It is none.
    #[error("it is no manifest: {0}")]
    Shape(String),
    /// It is of another kind.
    #[error("it is of type {found}, not {expected}")]
    Type {
        /// The type it has.
        found: String,
        /// The type that was expected.
        expected: &'static str,
    },
    /// What stands in it is not what its digest says.
    #[error("what it holds does not have the digest {0}")]
    Digest(String),
}

impl OciManifest {
    /// Describes an artifact that says this, and the content to push beside it. One without files has the empty object as
    /// its only one, which the specification recommends.
    pub fn of(
        artifact_type: &str,
        says: &str,
        layers: Vec<Descriptor>,
        annotations: BTreeMap<String, String>,
    ) -> (Self, Vec<Blob>) {
        let config = Blob::of(says);
        let mut blobs = vec![config.clone()];
        let layers = if layers.is_empty() {
            let empty = Blob::of("{}");
            let (digest, size) = (empty.digest.clone(), empty.bytes.len() as u64);
            blobs.push(empty);
            vec![Descriptor { media_type: EMPTY.to_owned(), digest, size, data: None, annotations: BTreeMap::new() }]
        } else {
            layers
        };
        let config = Descriptor::of(artifact_type, &config, BTreeMap::new());
        let manifest = Self {
            schema_version: 2,
            media_type: Some(OCI_MANIFEST.to_owned()),
            artifact_type: Some(artifact_type.to_owned()),
            config,
            layers,
            annotations,
        };
        (manifest, blobs)
    }

    /// Writes it: the bytes that its digest is of.
    pub fn write(&self) -> Vec<u8> {
        serde_json::to_vec(self).expect("texts and numbers always serialise")
    }

    /// Reads a manifest of an artifact of this type.
    ///
    /// # Errors
    /// [`OciManifestError`]: `Shape` or `Type`.
    pub fn parse(bytes: &[u8], expected: &'static str) -> Result<Self, OciManifestError> {
        let read: Self = serde_json::from_slice(bytes).map_err(|error| OciManifestError::Shape(error.to_string()))?;
        // Where a registry or a copy dropped the type, that of what it says tells the same.
        let found = read.artifact_type.as_ref().unwrap_or(&read.config.media_type);
        if read.schema_version != 2 || found != expected {
            return Err(OciManifestError::Type { found: found.clone(), expected });
        }
        let digests = std::iter::once(&read.config).chain(&read.layers).map(|descriptor| &descriptor.digest);
        if let Some(digest) = digests.into_iter().find(|digest| ArchiveDigest::parse(digest).is_err()) {
            return Err(OciManifestError::Shape(format!("`{digest}` is not a digest")));
        }
        Ok(read)
    }

    /// Returns what it says, where that stands in it.
    ///
    /// # Errors
    /// `Digest`, when it is something else.
    pub fn says(&self) -> Result<Option<Vec<u8>>, OciManifestError> {
        self.config.content()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_artifact_says_stands_in_it_and_is_what_its_digest_says() {
        let (manifest, blobs) = OciManifest::of("application/x", "{\"a\":1}", Vec::new(), BTreeMap::new());
        assert_eq!(blobs.len(), 2);
        assert_eq!(
            manifest.layers[0].digest,
            "sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a"
        );
        let read = OciManifest::parse(&manifest.write(), "application/x").unwrap();
        assert_eq!(read, manifest);
        assert_eq!(read.says().unwrap().unwrap(), b"{\"a\":1}");
        let mut forged = read.clone();
        forged.config.data = Some(STANDARD.encode("{\"a\":2}"));
        assert!(matches!(forged.says(), Err(OciManifestError::Digest(_))));
        assert!(matches!(OciManifest::parse(&manifest.write(), "application/y"), Err(OciManifestError::Type { .. })));
        let (long, _) = OciManifest::of("application/x", &"a".repeat(MOST_INLINE + 1), Vec::new(), BTreeMap::new());
        assert!(long.says().unwrap().is_none());
    }
}
