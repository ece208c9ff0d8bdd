//! Releases as a registry describes them: one document a package. Carries out docs/formats.md §4.

#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::digest::{ArchiveDigest, TreeDigest};
use crate::name::{PackageName, Purpose, Word};
use crate::numbering::NumberingTable;
use yostel_versions::{Accept, Numbering, Version};

/// The format number this version writes and reads.
pub const DOCUMENT_FORMAT: u32 = 1;

/// The platform of an artifact that fits every machine.
pub const ANY_PLATFORM: &str = "any";

/// All releases of one package, as one source tells of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageDocument {
    /// The package.
    pub name: PackageName,
    /// How all its versions order: one numbering a package, or its releases could not be compared.
    pub numbering: Numbering,
    /// Its releases, rising; no two at one place in the order.
    pub releases: Vec<Arc<Release>>,
    /// What the document says besides, which only a later version understands: kept as it is.
    pub others: Others,
}

/// One release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// Its version.
    pub version: Version,
    /// When it was published.
    pub published: Timestamp,
    /// What it needs, by purpose.
    pub needs: BTreeMap<Purpose, BTreeMap<PackageName, Accept>>,
    /// What it gives those who need it.
    pub offers: Offers,
    /// SPDX licence expression.
    pub licence: Option<String>,
    /// What is new in it.
    pub notes: Option<String>,
    /// Its files, by platform; none when it is what lies in a folder at the time, which is there for every platform.
    pub artifacts: Vec<Artifact>,
    /// Digest of its files without the manifest, to find one content under two names; not known of old releases.
    pub content: Option<TreeDigest>,
    /// Set when it must not be chosen anew.
    pub withdrawn: Option<Withdrawal>,
    /// Set when its author gave it up; the text says why.
    pub deprecated: Option<String>,
    /// The package that took its place.
    pub replaced_by: Option<PackageName>,
    /// What its record says besides, which only a later version understands: kept as it is.
    pub others: Others,
    /// And what the record of an artifact says besides, by platform, where it does.
    pub others_of_artifacts: BTreeMap<String, Others>,
}

/// Fields of a document that this version does not know, by name: they survive every rewrite.
pub type Others = BTreeMap<String, serde_json::Value>;

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

/// Why and when a release was withdrawn.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Withdrawal {
    /// When.
    pub on: Timestamp,
    /// Why.
    pub why: String,
    /// What its record says besides.
    #[serde(flatten)]
    pub others: Others,
}

/// What a package gives those who need it. Paths are relative to the package.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Offers {
    /// Jobs that only one package of a set may fill.
    #[serde(skip_serializing_if = "Vec::is_empty", with = "words")]
    pub roles: Vec<Word>,
    /// Folders with programs, put before `PATH`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub programs: Vec<String>,
    /// Folders by variable, put before what the variable holds.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
    /// What a record says besides.
    #[serde(flatten)]
    pub others: Others,
}

impl Offers {
    /// Tells whether nothing is offered.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

mod words {
    use super::Word;
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

    pub(super) fn serialize<S: Serializer>(words: &[Word], serializer: S) -> Result<S::Ok, S::Error> {
        words.iter().map(Word::as_str).collect::<Vec<_>>().serialize(serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Word>, D::Error> {
        let texts = Vec::<String>::deserialize(deserializer)?;
        texts.iter().map(|text| Word::parse(text).map_err(D::Error::custom)).collect()
    }
}

impl Release {
    /// Describes what no registry tells of: it was never published, so it is as old as can be.
    pub fn unpublished(
        version: Version,
        needs: BTreeMap<Purpose, BTreeMap<PackageName, Accept>>,
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
            artifacts,
            content: None,
            withdrawn: None,
            deprecated: None,
            replaced_by: None,
            others: Others::new(),
            others_of_artifacts: BTreeMap::new(),
        }
    }

    /// Tells whether there is something for a platform.
    pub fn serves(&self, platform: &str) -> bool {
        self.artifacts.is_empty() || artifact_for(&self.artifacts, platform).is_some()
    }
}

/// Checks a path that a package offers.
///
/// # Errors
/// When it is empty, absolute, or leaves the package.
pub fn check_offered_path(path: &str) -> Result<(), &'static str> {
    if path.is_empty() || path.starts_with('/') || path.contains('\\') {
        Err("it must be a path relative to the package, with `/` between its parts")
    } else if path.split('/').any(|part| part == "..") {
        Err("it must not leave the package")
    } else if path.chars().any(|c| c.is_control() || c == ':') {
        Err("it must not hold control characters or `:`")
    } else {
        Ok(())
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

/// Checks the name of a variable of the environment.
///
/// # Errors
/// When it is not made of upper-case letters, digits and `_`, or is one that decides which code the system loads.
pub fn check_variable(name: &str) -> Result<(), &'static str> {
    let legal = name.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_');
    if !legal || !name.starts_with(|c: char| c.is_ascii_uppercase() || c == '_') {
        Err("variables are upper-case letters, digits and `_`")
    } else if name == "PATH" {
        Err("programs are offered with `programs`, which puts their folder before PATH")
    } else {
        Ok(())
    }
}

/// Variables by which whoever sets them loads code into other programs, or leads tools to another place. Those that end
/// in `_` stand for all that begin so.
const LOADING: [&str; 49] = [
    "ALL_PROXY",
    "BASHOPTS",
    "BASH_",
    "BROWSER",
    "CARGO_",
    "CDPATH",
    "CURL_",
    "DYLD_",
    "EDITOR",
    "ENV",
    "FPATH",
    "FTP_PROXY",
    "GCONV_",
    "GIT_",
    "GLIBC_",
    "HOME",
    "HTTPS_PROXY",
    "HTTP_PROXY",
    "IFS",
    "JAVA_TOOL_OPTIONS",
    "JDK_JAVA_OPTIONS",
    "LD_",
    "LOCPATH",
    "LOGNAME",
    "MAKEFLAGS",
    "MALLOC_",
    "NLSPATH",
    "NODE_OPTIONS",
    "NO_PROXY",
    "OPENSSL_",
    "PAGER",
    "PERL5DB",
    "PERL5OPT",
    "PROMPT_COMMAND",
    "PS4",
    "PYTHONHOME",
    "PYTHONSTARTUP",
    "RUBYOPT",
    "RUSTC_",
    "SHELL",
    "SHELLOPTS",
    "SSH_",
    "SSL_",
    "TERMINFO",
    "TMPDIR",
    "USER",
    "VISUAL",
    "XDG_",
    "YOSTEL_",
];

/// Tells whether a variable loads code into other programs, or leads tools to another place (docs/formats.md §12).
pub fn is_loading_variable(name: &str) -> bool {
    let means = |listed: &&str| if listed.ends_with('_') { name.starts_with(*listed) } else { name == *listed };
    LOADING.iter().any(means)
}

/// Why a document is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DocumentError {
    /// Not JSON, or not of the right shape. Lines and columns count from 1.
    #[error("line {line}, column {column}: {reason}")]
    Shape {
        /// Line.
        line: usize,
        /// Column.
        column: usize,
        /// What is wrong.
        reason: String,
    },
    /// A format this version does not know.
    #[error("it has format {0}; this yostel reads format 1")]
    Format(u32),
    /// It speaks of another package than its name says.
    #[error("it is about `{found}`, not about {expected}")]
    OtherPackage {
        /// The package asked for.
        expected: PackageName,
        /// The name inside.
        found: String,
    },
    /// A release has a part that breaks a rule.
    #[error("release `{}`: {reason}", version.escape_debug())]
    Release {
        /// The version as written.
        version: String,
        /// What is wrong.
        reason: String,
    },
    /// Two releases stand at one place in the order.
    #[error("`{0}` and `{1}` are the same version")]
    Twice(String, String),
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct RawDocument {
    format: u32,
    name: String,
    #[serde(default, skip_serializing_if = "NumberingTable::is_default")]
    numbering: NumberingTable,
    releases: Vec<RawRelease>,
    #[serde(flatten)]
    others: Others,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct RawRelease {
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
    artifacts: Vec<RawArtifact>,
    #[serde(skip_serializing_if = "Option::is_none")]
    content: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    withdrawn: Option<Withdrawal>,
    #[serde(skip_serializing_if = "Option::is_none")]
    deprecated: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    replaced_by: Option<String>,
    #[serde(flatten)]
    others: Others,
}

#[derive(Serialize, Deserialize)]
struct RawArtifact {
    platform: String,
    digest: String,
    size: u64,
    tree: String,
    #[serde(flatten)]
    others: Others,
}

impl PackageDocument {
    /// Describes a package with one release, which no registry has.
    pub fn of_one(name: PackageName, numbering: Numbering, release: Release) -> Self {
        Self { name, numbering, releases: vec![Arc::new(release)], others: Others::new() }
    }

    /// Reads the document of `expected`.
    ///
    /// # Errors
    /// [`DocumentError`]; fields it does not know are passed over, since a later format number would announce those
    /// that matter.
    pub fn parse(text: &str, expected: &PackageName) -> Result<Self, DocumentError> {
        let raw: RawDocument = serde_json::from_str(text).map_err(|error| {
            let whole = error.to_string();
            let reason = whole.split(" at line ").next().unwrap_or(&whole).to_owned();
            DocumentError::Shape { line: error.line(), column: error.column(), reason }
        })?;
        if raw.format != DOCUMENT_FORMAT {
            return Err(DocumentError::Format(raw.format));
        }
        if raw.name != expected.as_str() {
            return Err(DocumentError::OtherPackage { expected: expected.clone(), found: raw.name });
        }
        let numbering = raw.numbering.read().map_err(|reason| DocumentError::Shape { line: 1, column: 1, reason })?;
        let mut releases = Vec::with_capacity(raw.releases.len());
        for release in raw.releases {
            let version = release.version.clone();
            let read =
                read_release(release, &numbering).map_err(|reason| DocumentError::Release { version, reason })?;
            releases.push(Arc::new(read));
        }
        releases.sort_by(|a, b| a.version.cmp(&b.version));
        if let Some(pair) = releases.windows(2).find(|pair| pair[0].version == pair[1].version) {
            return Err(DocumentError::Twice(pair[0].version.to_string(), pair[1].version.to_string()));
        }
        Ok(Self { name: expected.clone(), numbering, releases, others: raw.others })
    }

    /// Writes the document: sorted, indented, with a final newline.
    pub fn write(&self) -> String {
        let raw = RawDocument {
            format: DOCUMENT_FORMAT,
            name: self.name.to_string(),
            numbering: NumberingTable::of(&self.numbering),
            releases: self.releases.iter().map(|release| write_release(release)).collect(),
            others: self.others.clone(),
        };
        let mut text = serde_json::to_string_pretty(&raw).expect("maps with text keys always serialise");
        text.push('\n');
        text
    }

    /// Returns the release at this version.
    pub fn release(&self, version: &Version) -> Option<&Arc<Release>> {
        self.releases.binary_search_by(|release| release.version.cmp(version)).ok().map(|at| &self.releases[at])
    }

    /// Returns the newest release that may be chosen anew; pre-releases count only when there is nothing else.
    pub fn newest(&self) -> Option<&Arc<Release>> {
        let mut open = self.releases.iter().rev().filter(|release| release.withdrawn.is_none());
        let first = open.clone().next();
        open.find(|release| !release.version.is_pre_release()).or(first)
    }
}

fn read_release(raw: RawRelease, numbering: &Numbering) -> Result<Release, String> {
    let text = |error: &dyn std::fmt::Display| error.to_string();
    let mut needs = BTreeMap::new();
    for (purpose, entries) in raw.needs {
        let purpose = Word::parse(&purpose).map_err(|e| text(&e))?;
        let mut accepted = BTreeMap::new();
        for (name, accept) in entries {
            let name = PackageName::parse(&name).map_err(|e| text(&e))?;
            accepted.insert(name, Accept::parse(&accept).map_err(|e| text(&e))?);
        }
        needs.insert(purpose, accepted);
    }
    for path in raw.offers.programs.iter().chain(raw.offers.variables.values()) {
        check_offered_path(path).map_err(|reason| format!("offers `{}`: {reason}", path.escape_debug()))?;
    }
    for name in raw.offers.variables.keys() {
        check_variable(name).map_err(|reason| format!("offers `{}`: {reason}", name.escape_debug()))?;
    }
    let mut artifacts = Vec::new();
    let mut platforms = BTreeSet::new();
    let mut others_of_artifacts = BTreeMap::new();
    for artifact in raw.artifacts {
        check_platform(&artifact.platform)
            .map_err(|reason| format!("artifact for `{}`: {reason}", artifact.platform.escape_debug()))?;
        if !platforms.insert(artifact.platform.clone()) {
            return Err(format!("two artifacts for platform `{}`", artifact.platform.escape_debug()));
        }
        if !artifact.others.is_empty() {
            others_of_artifacts.insert(artifact.platform.clone(), artifact.others);
        }
        artifacts.push(Artifact {
            platform: artifact.platform,
            digest: ArchiveDigest::parse(&artifact.digest).map_err(|e| text(&e))?,
            size: artifact.size,
            tree: TreeDigest::parse(&artifact.tree).map_err(|e| text(&e))?,
        });
    }
    if artifacts.is_empty() {
        return Err("it has no artifact".into());
    }
    artifacts.sort();
    Ok(Release {
        version: numbering.parse_version(&raw.version).map_err(|e| text(&e))?,
        published: raw.published,
        needs,
        offers: raw.offers,
        licence: raw.licence,
        notes: raw.notes,
        artifacts,
        content: raw.content.map(|text| TreeDigest::parse(&text)).transpose().map_err(|e| text(&e))?,
        withdrawn: raw.withdrawn,
        deprecated: raw.deprecated,
        replaced_by: raw.replaced_by.map(|name| PackageName::parse(&name)).transpose().map_err(|e| text(&e))?,
        others: raw.others,
        others_of_artifacts,
    })
}

fn write_release(release: &Release) -> RawRelease {
    let entries = |needs: &BTreeMap<PackageName, Accept>| {
        needs.iter().map(|(name, accept)| (name.to_string(), accept.to_string())).collect()
    };
    RawRelease {
        version: release.version.to_string(),
        published: release.published,
        needs: release.needs.iter().map(|(purpose, needs)| (purpose.to_string(), entries(needs))).collect(),
        offers: release.offers.clone(),
        licence: release.licence.clone(),
        notes: release.notes.clone(),
        artifacts: release
            .artifacts
            .iter()
            .map(|artifact| RawArtifact {
                platform: artifact.platform.clone(),
                digest: artifact.digest.to_string(),
                size: artifact.size,
                tree: artifact.tree.to_string(),
                others: release.others_of_artifacts.get(&artifact.platform).cloned().unwrap_or_default(),
            })
            .collect(),
        content: release.content.map(|digest| digest.to_string()),
        withdrawn: release.withdrawn.clone(),
        deprecated: release.deprecated.clone(),
        replaced_by: release.replaced_by.as_ref().map(PackageName::to_string),
        others: release.others.clone(),
    }
}
