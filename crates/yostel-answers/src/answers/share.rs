//! Answers of the commands that write registries.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{PackageDocument, PackageName, Release};
use yostel_flows::{CopiedPackage, CopyReport, NeedsVerdict, PublishReport, PublishedPackage};

use super::Told;
use super::parts::{texts, told};

/// Answer of `publish`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PublishAnswer {
    /// Whether it is only told what would be published.
    pub preview: bool,
    /// Each package, those before others that need them.
    pub packages: Vec<PublishedPackageTold>,
    /// Projects that have no version, where all of a workspace were to be published.
    pub without_version: Vec<String>,
}

/// A package that was published.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PublishedPackageTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Whether it was not there before.
    pub new: bool,
    /// Whether it is there now.
    pub published: bool,
    /// Whether a set of what it needs was found: `none` when it needs nothing, `resolved`, `untried` when that was asked
    /// for, `undecided` when it would have taken too long.
    pub needs: String,
    /// How many files it holds.
    pub files: usize,
    /// Each of them.
    pub paths: Vec<FileTold>,
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
    /// The repository that it says it is made from; null when it says none.
    pub repository: Option<String>,
    /// The commit of that; null where its files are not those of one.
    pub commit: Option<String>,
}

/// A file of a package.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FileTold {
    /// Its path in the package.
    pub path: String,
    /// Its size.
    pub bytes: u64,
}

impl Told for PublishAnswer {
    const COMMAND: &'static str = "publish";
}

impl PublishAnswer {
    /// Tells what was published.
    pub fn of(report: &PublishReport, preview: bool) -> Self {
        Self {
            preview,
            packages: report.packages.iter().map(|package| PublishedPackageTold::of(package, preview)).collect(),
            without_version: texts(&report.without_version),
        }
    }
}

impl PublishedPackageTold {
    fn of(package: &PublishedPackage, preview: bool) -> Self {
        let published = &package.published;
        let artifact = &published.release.artifacts[0];
        let made_from = published.release.made_from.as_ref();
        Self {
            package: package.name.to_string(),
            version: published.release.version.to_string(),
            new: published.is_new,
            published: !(preview && published.is_new),
            needs: match package.needs {
                NeedsVerdict::None => "none",
                NeedsVerdict::Resolved => "resolved",
                NeedsVerdict::Untried => "untried",
                NeedsVerdict::Undecided => "undecided",
            }
            .to_owned(),
            files: published.files.len(),
            paths: published.files.iter().map(|(path, bytes)| FileTold { path: path.clone(), bytes: *bytes }).collect(),
            absent: published.absent.clone(),
            platform: artifact.platform.clone(),
            bytes: artifact.size,
            digest: artifact.digest.to_string(),
            tree: artifact.tree.to_string(),
            deprecated: published.release.deprecated.clone(),
            repository: made_from.map(|made_from| made_from.repository.clone()),
            commit: made_from.and_then(|made_from| made_from.commit.clone()),
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

/// Answer of `deprecate`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DeprecateAnswer {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The package that took its place; null when none was named.
    pub replaced_by: Option<String>,
    /// Whether it is taken back that it is deprecated.
    pub taken_back: bool,
    /// Whether that was not so before.
    pub new: bool,
    /// Why.
    pub why: String,
}

impl Told for DeprecateAnswer {
    const COMMAND: &'static str = "deprecate";
}

/// Answer of `login`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LoginAnswer {
    /// The host, with its port where one was named.
    pub host: String,
    /// The file that holds what shows it who asks.
    pub file: PathBuf,
    /// Whether something else was there before.
    pub replaced: bool,
}

impl Told for LoginAnswer {
    const COMMAND: &'static str = "login";
}

/// Answer of `logout`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LogoutAnswer {
    /// The host, with its port where one was named.
    pub host: String,
    /// The file.
    pub file: PathBuf,
    /// Whether it held something for that host.
    pub removed: bool,
}

impl Told for LogoutAnswer {
    const COMMAND: &'static str = "logout";
}

impl Told for WithdrawAnswer {
    const COMMAND: &'static str = "withdraw";
}

/// Answer of `registry create`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RegistryCreateAnswer {
    /// The registry's folder; null when it is in an OCI registry.
    pub folder: Option<PathBuf>,
    /// Where it is, as it is shown.
    pub place: String,
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

/// Answer of `registry copy`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RegistryCopyAnswer {
    /// What came of each package, by name.
    pub packages: Vec<CopiedTold>,
    /// What was wanted, and the first registry does not have.
    pub missing: Vec<MissingTold>,
    /// How many files with advisories are new or changed.
    pub advisories: usize,
    /// How many files with advisories say nothing where they are now, since they name the registry that was copied from, and
    /// the other one is called something else.
    pub advisories_without_effect: usize,
}

impl Told for RegistryCopyAnswer {
    const COMMAND: &'static str = "registry copy";
}

/// What copying a package came to.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CopiedTold {
    /// The package.
    pub package: String,
    /// Versions that are there now and were not.
    pub new: Vec<String>,
    /// Versions that were there already.
    pub there: Vec<String>,
    /// Versions of which more is said now than before.
    pub said: Vec<String>,
    /// Versions that are there with other content: nothing of them was changed.
    pub differing: Vec<String>,
    /// How many archives were fetched.
    pub archives: usize,
    /// How many bytes they have.
    pub bytes: u64,
    /// How many archives the server of both registries took over, without their being fetched.
    pub mounted: usize,
}

/// A package that is not there, or a version of it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct MissingTold {
    /// The package, or the pattern that no package is covered by.
    pub package: String,
    /// The version; null when the whole package is missing.
    pub version: Option<String>,
}

impl RegistryCopyAnswer {
    /// Tells what was copied.
    pub fn of(report: &CopyReport) -> Self {
        let copied = |(package, copied): (&PackageName, &CopiedPackage)| CopiedTold {
            package: package.to_string(),
            new: copied.new.clone(),
            there: copied.there.clone(),
            said: copied.said.clone(),
            differing: copied.differing.clone(),
            archives: copied.archives,
            bytes: copied.bytes,
            mounted: copied.mounted,
        };
        let missing = |(package, version): &(String, Option<String>)| MissingTold {
            package: package.clone(),
            version: version.clone(),
        };
        Self {
            packages: report.packages.iter().map(copied).collect(),
            missing: report.missing.iter().map(missing).collect(),
            advisories: report.advisories,
            advisories_without_effect: report.renamed.as_ref().map_or(0, |renamed| renamed.advisories),
        }
    }
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
            releases: told(document.releases.iter().map(|release| &**release.whole())),
        };
        Self { name: name.to_owned(), packages: documents.iter().map(package).collect() }
    }
}
