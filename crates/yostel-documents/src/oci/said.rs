//! What artifacts say: of one release, of what was said of it since, and of all of a package.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use crate::digest::RecordDigest;
use crate::layout::REGISTRY_FORMAT;
use crate::name::PackageName;
use crate::release::{Artifact, DocumentError, PackageDocument, Release, Statement};

/// What all others in the repository of a package say, in one. It can be made again from them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OciIndex {
    /// The tags of the artifacts that are in it.
    pub tags: Vec<String>,
    /// What they say: the text of a document.
    pub document: String,
}

#[derive(Serialize, Deserialize)]
struct RawIndex<'t> {
    format: u32,
    tags: Vec<String>,
    #[serde(borrow)]
    document: &'t RawValue,
}

impl OciIndex {
    /// Reads an index; nothing when it is none of this format.
    pub fn parse(text: &str) -> Option<Self> {
        let raw: RawIndex<'_> = serde_json::from_str(text).ok()?;
        (raw.format == REGISTRY_FORMAT).then(|| Self { tags: raw.tags, document: raw.document.get().to_owned() })
    }

    /// Writes an index.
    ///
    /// # Panics
    /// When the document is not JSON.
    pub fn write(&self) -> String {
        let document = serde_json::from_str(&self.document).expect("a document is JSON");
        let raw = RawIndex { format: REGISTRY_FORMAT, tags: self.tags.clone(), document };
        serde_json::to_string(&raw).expect("texts and numbers always serialise")
    }
}

/// Something that was said of a release, as an artifact of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OciStatement {
    /// The version of the release.
    pub version: String,
    /// The digest of its record.
    pub record: RecordDigest,
    /// The statement, as it is in a document.
    pub statement: String,
}

#[derive(Serialize, Deserialize)]
struct RawStatement<'t> {
    format: u32,
    version: String,
    record: String,
    #[serde(borrow)]
    statement: &'t RawValue,
}

#[derive(Deserialize)]
struct On {
    on: Timestamp,
}

impl OciStatement {
    /// Reads one; nothing when it is none of this format.
    pub fn parse(text: &str) -> Option<Self> {
        let raw: RawStatement<'_> = serde_json::from_str(text).ok()?;
        let record = RecordDigest::parse(&raw.record).ok()?;
        let of = |version| Self { version, record, statement: raw.statement.get().to_owned() };
        (raw.format == REGISTRY_FORMAT).then(|| of(raw.version))
    }

    /// Writes one.
    ///
    /// # Panics
    /// When the statement is not JSON.
    pub fn write(&self) -> String {
        let statement = serde_json::from_str(&self.statement).expect("a statement is JSON");
        let (version, record) = (self.version.clone(), self.record.to_string());
        let raw = RawStatement { format: REGISTRY_FORMAT, version, record, statement };
        serde_json::to_string(&raw).expect("texts and numbers always serialise")
    }

    /// Returns the archive for one more platform that it tells of.
    pub fn artifact(&self) -> Option<Artifact> {
        match Statement::parse(&self.statement)? {
            Statement::Artifact { artifact, .. } => Some(artifact),
            _ => None,
        }
    }

    /// Returns when it was said, and what sorts it among those of the same time.
    fn order(&self) -> (Timestamp, String) {
        let on = serde_json::from_str::<On>(&self.statement).map_or(Timestamp::MIN, |said| said.on);
        (on, self.statement.clone())
    }
}

/// Makes one document of those of single releases and what was said of them since, in the order in which it was said.
///
/// Of two releases at one place in the order, which two writers at the same time may leave, the one that was published
/// first counts, and of those the one with the lower digest. A statement on a record that is not there counts for nothing.
///
/// # Errors
/// [`DocumentError`], of numberings that cannot be joined or statements that are none.
pub fn joined_document(
    package: &PackageName,
    releases: &[PackageDocument],
    mut statements: Vec<OciStatement>,
) -> Result<PackageDocument, DocumentError> {
    statements.sort_by_cached_key(OciStatement::order);
    let mut said: BTreeMap<RecordDigest, Vec<String>> = BTreeMap::new();
    for statement in statements {
        said.entry(statement.record).or_default().push(statement.statement);
    }
    let more = |release: &Release| release.record().and_then(|record| said.get(&record)).cloned().unwrap_or_default();
    PackageDocument::joined(package, releases, more)
}

/// Writes the document of a single release, without what was said of it since.
pub fn release_alone(document: &PackageDocument, release: &Release) -> String {
    document.with_only(release.without_statements()).write()
}

/// Lists what was said of a release since it was published, each as an artifact of its own.
pub fn statements_alone(release: &Release) -> Vec<OciStatement> {
    let Some(record) = release.record() else { return Vec::new() };
    let version = release.version.as_str();
    let alone = |statement| OciStatement { version: version.to_owned(), record, statement };
    release.canonical_statements().collect::<Vec<_>>().into_iter().map(alone).collect()
}
