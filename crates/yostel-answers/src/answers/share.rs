//! Answers of the commands that write registries.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{PackageDocument, PackageName, Release};
use yostel_registry::Published;

use super::Told;
use super::parts::told;

/// Answer of `publish`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PublishAnswer {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Whether it was not there before.
    pub new: bool,
    /// Whether it is there now.
    pub published: bool,
    /// How many files it holds.
    pub files: usize,
    /// Their paths.
    pub paths: Vec<String>,
    /// Folders that it says it offers, and that it does not hold.
    pub absent: Vec<String>,
    /// The platform it is for; `any` when it fits all.
    pub platform: String,
    /// The archive's size.
    pub bytes: u64,
    /// The archive's digest.
    pub digest: String,
    /// The digest of its files.
    pub tree: String,
    /// Why it is deprecated; null when it is not.
    pub deprecated: Option<String>,
}

impl Told for PublishAnswer {
    const COMMAND: &'static str = "publish";
}

impl PublishAnswer {
    /// Tells what was published.
    pub fn of(published: &Published, package: &PackageName, preview: bool) -> Self {
        let artifact = &published.release.artifacts[0];
        Self {
            package: package.to_string(),
            version: published.release.version.to_string(),
            new: published.is_new,
            published: !(preview && published.is_new),
            files: published.files.len(),
            paths: published.files.clone(),
            absent: published.absent.clone(),
            platform: artifact.platform.clone(),
            bytes: artifact.size,
            digest: artifact.digest.to_string(),
            tree: artifact.tree.to_string(),
            deprecated: published.release.deprecated.clone(),
        }
    }
}

/// Answer of `withdraw`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct WithdrawAnswer {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Whether the withdrawal is taken back.
    pub taken_back: bool,
    /// Whether that was not so before.
    pub new: bool,
    /// Why.
    pub why: String,
}

impl Told for WithdrawAnswer {
    const COMMAND: &'static str = "withdraw";
}

/// Answer of `registry create`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RegistryCreateAnswer {
    /// The registry's folder.
    pub folder: PathBuf,
    /// Its name.
    pub name: String,
}

impl Told for RegistryCreateAnswer {
    const COMMAND: &'static str = "registry create";
}

/// Answer of `registry index`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RegistryIndexAnswer {
    /// The registry's folder.
    pub folder: PathBuf,
    /// How many packages it has.
    pub packages: usize,
    /// How many files with advisories.
    pub advisories: usize,
    /// Whether what was written down changed.
    pub changed: bool,
}

impl Told for RegistryIndexAnswer {
    const COMMAND: &'static str = "registry index";
}

/// Answer of `registry list`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RegistryListAnswer {
    /// The registry's name.
    pub name: String,
    /// Its packages, by name.
    pub packages: Vec<PackageTold>,
}

impl Told for RegistryListAnswer {
    const COMMAND: &'static str = "registry list";
}

/// A package in a registry.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PackageTold {
    /// The package.
    pub package: String,
    /// Its releases, rising.
    pub releases: Vec<PublishedTold>,
}

/// A release in a registry.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PublishedTold {
    /// The version.
    pub version: String,
    /// When it was published.
    pub published: String,
    /// Why it is withdrawn; null when it is not.
    pub withdrawn: Option<String>,
    /// Why it is deprecated; null when it is not.
    pub deprecated: Option<String>,
    /// The package that took its place.
    pub replaced_by: Option<String>,
}

impl From<&Release> for PublishedTold {
    fn from(release: &Release) -> Self {
        Self {
            version: release.version.to_string(),
            published: release.published.to_string(),
            withdrawn: release.withdrawn.as_ref().map(|withdrawn| withdrawn.why.clone()),
            deprecated: release.deprecated.clone(),
            replaced_by: release.replaced_by.as_ref().map(ToString::to_string),
        }
    }
}

impl RegistryListAnswer {
    /// Tells what a registry has.
    pub fn of(name: &str, documents: &[PackageDocument]) -> Self {
        let package = |document: &PackageDocument| PackageTold {
            package: document.name.to_string(),
            releases: told(document.releases.iter().map(|release| &**release)),
        };
        Self { name: name.to_owned(), packages: documents.iter().map(package).collect() }
    }
}
