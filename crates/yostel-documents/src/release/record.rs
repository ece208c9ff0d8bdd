//! A release's record: what its author published. It is kept as it is, and digested in its canonical form.

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yostel_versions::{ConstraintText, Numbering};

use super::{Artifact, Offers, Release, check_offered_path, check_platform, check_variable};
use crate::digest::{ArchiveDigest, RecordDigest, TreeDigest};
use crate::json::{canonical, has_canonical_form};
use crate::name::{PackageName, Word};

/// A record. Two are equal when their canonical forms are.
#[derive(Debug, Clone)]
pub(super) struct Record {
    text: Arc<str>,
    /// Computed when it is first asked for: of most releases that are read, nobody asks.
    digest: OnceLock<RecordDigest>,
}

impl PartialEq for Record {
    fn eq(&self, other: &Self) -> bool {
        self.digest() == other.digest()
    }
}

impl Eq for Record {}

/// What this version knows of a record. What else is there is a later version's; it counts in the digest.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct RawRecord {
    version: String,
    published: Timestamp,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    needs: BTreeMap<String, BTreeMap<String, String>>,
    #[serde(default, skip_serializing_if = "Offers::is_empty")]
    offers: Offers,
    #[serde(skip_serializing_if = "Option::is_none")]
    licence: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    notes: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    identities: Vec<String>,
    artifacts: Vec<RawArtifact>,
    #[serde(skip_serializing_if = "Option::is_none")]
    content: Option<String>,
}

/// An artifact as documents have it.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct RawArtifact {
    platform: String,
    digest: String,
    size: u64,
    tree: String,
}

impl RawArtifact {
    pub(super) fn of(artifact: &Artifact) -> Self {
        Self {
            platform: artifact.platform.clone(),
            digest: artifact.digest.to_string(),
            size: artifact.size,
            tree: artifact.tree.to_string(),
        }
    }

    pub(super) fn read(self) -> Result<Artifact, String> {
        check_platform(&self.platform)
            .map_err(|reason| format!("artifact for `{}`: {reason}", self.platform.escape_debug()))?;
        Ok(Artifact {
            platform: self.platform,
            digest: ArchiveDigest::parse(&self.digest).map_err(|error| error.to_string())?,
            size: self.size,
            tree: TreeDigest::parse(&self.tree).map_err(|error| error.to_string())?,
        })
    }
}

/// Names and constraints that were met in a document: most releases of a package repeat those of the one before, so each is
/// read once and shared.
#[derive(Debug, Default)]
pub(super) struct Met {
    names: BTreeMap<String, PackageName>,
    constraints: BTreeMap<String, ConstraintText>,
}

/// Returns what a text was read as, reading it the first time.
fn once<T: Clone, E>(
    met: &mut BTreeMap<String, T>,
    text: String,
    parse: impl FnOnce(&str) -> Result<T, E>,
) -> Result<T, E> {
    if let Some(known) = met.get(&text) {
        return Ok(known.clone());
    }
    let read = parse(&text)?;
    met.insert(text, read.clone());
    Ok(read)
}

/// Why a record cannot be read.
pub(super) enum RecordError {
    /// It is not of the right shape.
    Shape(serde_json::Error),
    /// A part breaks a rule; the version as written.
    Part(String, String),
}

impl Record {
    /// Writes down a release as it is.
    pub(super) fn of(release: &Release) -> Self {
        let entries = |needs: &BTreeMap<PackageName, ConstraintText>| {
            needs.iter().map(|(name, accept)| (name.to_string(), accept.to_string())).collect()
        };
        let raw = RawRecord {
            version: release.version.to_string(),
            published: release.published,
            needs: release.needs.iter().map(|(purpose, needs)| (purpose.to_string(), entries(needs))).collect(),
            offers: release.offers.clone(),
            licence: release.licence.clone(),
            notes: release.notes.clone(),
            identities: release.identities.clone(),
            artifacts: release.artifacts.iter().map(RawArtifact::of).collect(),
            content: release.content.map(|digest| digest.to_string()),
        };
        let text = serde_json::to_string(&raw).expect("maps with text keys always serialise");
        Self { text: text.into(), digest: OnceLock::new() }
    }

    /// Reads a record, and the release that it describes.
    pub(super) fn read(text: &str, numbering: &Numbering, met: &mut Met) -> Result<Release, RecordError> {
        let raw: RawRecord = serde_json::from_str(text).map_err(RecordError::Shape)?;
        has_canonical_form(text).map_err(RecordError::Shape)?;
        let version = raw.version.clone();
        let release = release_of(raw, numbering, met).map_err(|reason| RecordError::Part(version, reason))?;
        Ok(Release { record: Some(Self { text: text.into(), digest: OnceLock::new() }), ..release })
    }

    pub(super) fn text(&self) -> &str {
        &self.text
    }

    pub(super) fn digest(&self) -> RecordDigest {
        let compute = || canonical(&self.text).expect("that it has a canonical form was seen when it was read or made");
        *self.digest.get_or_init(|| RecordDigest::of(compute().as_bytes()))
    }
}

fn release_of(raw: RawRecord, numbering: &Numbering, met: &mut Met) -> Result<Release, String> {
    let text = |error: &dyn std::fmt::Display| error.to_string();
    let mut needs = BTreeMap::new();
    for (purpose, entries) in raw.needs {
        let purpose = Word::parse(&purpose).map_err(|e| text(&e))?;
        let mut accepted = BTreeMap::new();
        for (name, accept) in entries {
            let name = once(&mut met.names, name, PackageName::parse).map_err(|e| text(&e))?;
            accepted.insert(name, once(&mut met.constraints, accept, ConstraintText::parse).map_err(|e| text(&e))?);
        }
        needs.insert(purpose, accepted);
    }
    for path in raw.offers.programs.iter().chain(raw.offers.variables.values()) {
        check_offered_path(path).map_err(|reason| format!("offers `{}`: {reason}", path.escape_debug()))?;
    }
    for name in raw.offers.variables.keys() {
        check_variable(name).map_err(|reason| format!("offers `{}`: {reason}", name.escape_debug()))?;
    }
    if raw.artifacts.is_empty() {
        return Err("it has no artifact".into());
    }
    let version = numbering.parse_version(&raw.version).map_err(|e| text(&e))?;
    let mut release = Release {
        published: raw.published,
        licence: raw.licence,
        identities: raw.identities,
        notes: raw.notes,
        content: raw.content.map(|text| TreeDigest::parse(&text)).transpose().map_err(|e| text(&e))?,
        ..Release::unpublished(version, needs, raw.offers, Vec::new())
    };
    raw.artifacts.into_iter().try_for_each(|artifact| release.add_artifact(artifact.read()?))?;
    Ok(release)
}
