//! Releases as a registry describes them: one document per package. Carries out docs/formats.md §4.
//!
//! A release's record is what its author published, and never changes: its digest is pinned in lockfiles. What is said of
//! the release later is beside it, as statements.

mod document;
mod listed;
mod offers;
mod packed;
mod record;
mod statement;
#[cfg(test)]
mod tests;

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use yostel_versions::{ConstraintText, Numbering, Version};

pub use document::DocumentError;
pub use listed::ListedRelease;
pub use offers::{Offers, check_offered_path, check_variable, is_loading_variable};
pub use statement::{Statement, TakenBack, Withdrawal};

use crate::digest::{ArchiveDigest, RecordDigest, TreeDigest};
use crate::json::canonical;
use crate::made_from::MadeFrom;
use crate::name::{PackageName, Purpose};
use record::Record;

/// The format number this version writes and reads.
pub const DOCUMENT_FORMAT: u32 = 1;

/// The platform of an artifact that fits every machine.
pub const ANY_PLATFORM: &str = "any";

/// Most artifacts of a release.
const MOST_ARTIFACTS: usize = 1000;

/// All releases of one package, as one source tells of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageDocument {
    /// The package.
    pub name: PackageName,
    /// How all its versions order: one numbering per package, or its releases could not be compared.
    pub numbering: Numbering,
    /// Its releases, rising; no two at one place in the order.
    pub releases: Arc<Vec<ListedRelease>>,
    /// What the document says besides.
    others: Others,
}

/// One release: its record, and what the statements beside it come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// Its version.
    pub version: Version,
    /// When it was published.
    pub published: Timestamp,
    /// What it needs, by purpose.
    pub needs: BTreeMap<Purpose, BTreeMap<PackageName, ConstraintText>>,
    /// What it gives those who need it.
    pub offers: Offers,
    /// SPDX licence expression.
    pub licence: Option<String>,
    /// What is new in it.
    pub notes: Option<String>,
    /// What it is in the open world, as package URLs.
    pub identities: Vec<String>,
    /// What its author says it was made from.
    pub made_from: Option<MadeFrom>,
    /// Its files, by platform; none when it is a local package, which is there for every platform.
    pub artifacts: Vec<Artifact>,
    /// Digest of its files without the manifest, to find one content under two names; not known of old releases.
    pub content: Option<TreeDigest>,
    /// Set when it must not be chosen anew.
    pub withdrawn: Option<Withdrawal>,
    /// Set when its author no longer maintains it; the text says why.
    pub deprecated: Option<String>,
    /// The package that took its place.
    pub replaced_by: Option<PackageName>,
    /// What was published; none of what no registry tells of.
    record: Option<Record>,
    /// What was said of it since, in that order, as it is there.
    statements: Vec<Arc<str>>,
    /// What is beside the two.
    others: Others,
}

/// Members of an object that this version does not know, as they are there: they survive every rewrite.
type Others = Vec<(String, Box<str>)>;

/// One file of a release.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Artifact {
    /// `any`, or system and architecture like `linux/amd64`.
    pub platform: String,
    /// Digest of the archive's bytes.
    pub digest: ArchiveDigest,
    /// The archive's size in bytes.
    pub size: u64,
    /// Digest of the tree that the archive unpacks to.
    pub tree: TreeDigest,
}

impl PackageDocument {
    /// Describes a package of which nothing was published yet.
    pub fn new(name: PackageName, numbering: Numbering) -> Self {
        Self { name, numbering, releases: Arc::default(), others: Others::new() }
    }

    /// Describes a package with one release, which no registry has.
    pub fn of_one(name: PackageName, numbering: Numbering, release: Release) -> Self {
        Self { releases: Arc::new(vec![release.into()]), ..Self::new(name, numbering) }
    }

    /// Returns the release at this version, as it is listed.
    pub fn listed(&self, version: &Version) -> Option<&ListedRelease> {
        self.releases.binary_search_by(|release| release.version.cmp(version)).ok().map(|at| &self.releases[at])
    }

    /// Returns the release at this version.
    pub fn release(&self, version: &Version) -> Option<&Arc<Release>> {
        self.listed(version).map(ListedRelease::whole)
    }

    /// Puts a release in, in place of the one at its version.
    pub fn insert(&mut self, release: Release) {
        let releases = Arc::make_mut(&mut self.releases);
        match releases.binary_search_by(|other| other.version.cmp(&release.version)) {
            Ok(at) => releases[at] = release.into(),
            Err(at) => releases.insert(at, release.into()),
        }
    }

    /// Returns the newest release that may be chosen anew; pre-releases count only when there is nothing else.
    pub fn newest(&self) -> Option<&ListedRelease> {
        let mut open = self.releases.iter().rev().filter(|release| release.withdrawn().is_none());
        let first = open.clone().next();
        open.find(|release| !release.version.is_pre_release()).or(first)
    }
}

impl Release {
    /// Describes what no registry tells of: it was never published, so it is as old as can be.
    pub fn unpublished(
        version: Version,
        needs: BTreeMap<Purpose, BTreeMap<PackageName, ConstraintText>>,
        offers: Offers,
        artifacts: Vec<Artifact>,
    ) -> Self {
        Self {
            version,
            published: Timestamp::UNIX_EPOCH,
            needs,
            offers,
            licence: None,
            notes: None,
            identities: Vec::new(),
            made_from: None,
            artifacts,
            content: None,
            withdrawn: None,
            deprecated: None,
            replaced_by: None,
            record: None,
            statements: Vec::new(),
            others: Others::new(),
        }
    }

    /// Returns the same with a record of what it is now, which is what gets published: nothing of it may change afterwards.
    #[must_use]
    pub fn recorded(self) -> Self {
        Self { record: Some(Record::of(&self)), ..self }
    }

    /// Returns the digest of its record: SHA-256 of the canonical form (RFC 8785). None of what no registry tells of.
    pub fn record(&self) -> Option<RecordDigest> {
        self.record.as_ref().map(Record::digest)
    }

    /// Adds a statement to those beside the record.
    ///
    /// # Errors
    /// What speaks against it, as a sentence: an artifact for a platform that has one, or one too many.
    pub fn say(&mut self, statement: &Statement) -> Result<(), String> {
        statement.apply_to(self)?;
        self.statements.push(statement.write().into());
        Ok(())
    }

    /// Lists what was said of it since it was published, in that order, each as it is in a document.
    pub fn statements(&self) -> impl Iterator<Item = &str> {
        self.statements.iter().map(|statement| &**statement)
    }

    /// Lists the same, each in its canonical form (RFC 8785), by which two are compared; one that has none as it is.
    pub fn canonical_statements(&self) -> impl Iterator<Item = String> {
        self.statements.iter().map(|text| canonical(text).unwrap_or_else(|_| text.to_string()))
    }

    /// Returns the same as it is written before anything was said of it.
    #[must_use]
    pub fn without_statements(&self) -> Self {
        Self { statements: Vec::new(), ..self.clone() }
    }

    /// Returns the same with what is said of another that is not said of it.
    ///
    /// # Errors
    /// What speaks against it, as a sentence.
    pub fn with_statements_of(&self, other: &Self) -> Result<Self, String> {
        let mut whole = self.clone();
        let there: Vec<String> = self.canonical_statements().collect();
        for text in other.canonical_statements().filter(|text| !there.contains(text)) {
            if let Some(statement) = Statement::parse(&text) {
                statement.apply_to(&mut whole)?;
            }
            whole.statements.push(text.into());
        }
        Ok(whole)
    }

    /// Tells whether there is something for a platform.
    pub fn serves(&self, platform: &str) -> bool {
        self.artifacts.is_empty() || artifact_for(&self.artifacts, platform).is_some()
    }
}

/// Takes an artifact in: one a platform.
fn add_artifact(artifacts: &mut Vec<Artifact>, artifact: Artifact) -> Result<(), String> {
    match artifacts.binary_search_by(|other| other.platform.cmp(&artifact.platform)) {
        Ok(_) => Err(format!("two artifacts for platform `{}`", artifact.platform.escape_debug())),
        Err(_) if artifacts.len() == MOST_ARTIFACTS => Err(format!("more than {MOST_ARTIFACTS} artifacts")),
        Err(at) => {
            artifacts.insert(at, artifact);
            Ok(())
        }
    }
}

/// Checks a platform.
///
/// # Errors
/// When it is neither `any` nor a system and an architecture in lower-case letters, digits and `_`.
pub fn check_platform(platform: &str) -> Result<(), &'static str> {
    let word = |part: &str| {
        !part.is_empty() && part.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_')
    };
    match platform.split_once('/') {
        None if platform == ANY_PLATFORM => Ok(()),
        Some((system, architecture)) if word(system) && word(architecture) => Ok(()),
        _ => Err("a platform is `any`, or system and architecture like `linux/amd64`"),
    }
}

/// Finds the artifact that fits a platform: the one made for it, or else the one that fits all.
pub fn artifact_for<'a>(artifacts: &'a [Artifact], platform: &str) -> Option<&'a Artifact> {
    let named = |wanted: &str| artifacts.iter().find(|artifact| artifact.platform == wanted);
    named(platform).or_else(|| named(ANY_PLATFORM))
}
