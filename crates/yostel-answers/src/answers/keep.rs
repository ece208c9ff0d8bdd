//! Answers of `cache` and what is below it.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use yostel_flows::SavedKit;
use yostel_store::{CacheEntry, CacheProblem, CacheReport, CacheStats, Carried, Loaded, Pruned};

use super::Told;
use super::parts::told;
use crate::words::count;

/// Answer of `cache stats`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CacheStatsAnswer {
    /// The cache's folder.
    pub folder: PathBuf,
    /// How many archives it has.
    pub archives: usize,
    /// Their size.
    pub archive_bytes: u64,
    /// How many trees it has.
    pub trees: usize,
    /// How many files are in them.
    pub files: u64,
    /// Their size.
    pub tree_bytes: u64,
    /// How much of that takes no room, because releases share files.
    pub tree_bytes_shared: u64,
    /// How many projects were installed from it.
    pub projects: usize,
    /// How much of what is installed takes no room, because projects share the cache's files.
    pub shared_bytes: u64,
}

impl Told for CacheStatsAnswer {
    const COMMAND: &'static str = "cache stats";
}

impl CacheStatsAnswer {
    /// Tells how large the cache in a folder is.
    pub fn of(stats: &CacheStats, folder: &Path) -> Self {
        Self {
            folder: folder.to_owned(),
            archives: stats.archives,
            archive_bytes: stats.archive_bytes,
            trees: stats.trees,
            files: stats.files,
            tree_bytes: stats.tree_bytes,
            tree_bytes_shared: stats.tree_bytes_shared,
            projects: stats.projects,
            shared_bytes: stats.shared_bytes,
        }
    }
}

/// Answer of `cache list`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CacheListAnswer {
    /// What the cache has.
    pub entries: Vec<CacheEntryTold>,
}

impl Told for CacheListAnswer {
    const COMMAND: &'static str = "cache list";
}

impl From<&[CacheEntry]> for CacheListAnswer {
    fn from(entries: &[CacheEntry]) -> Self {
        Self { entries: told(entries) }
    }
}

/// An archive and its tree. What the cache has no note of is null.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CacheEntryTold {
    /// The archive's digest; null when only the tree is there.
    pub archive: Option<String>,
    /// The tree's digest; null when it is not unpacked.
    pub tree: Option<String>,
    /// The package.
    pub package: Option<String>,
    /// The version.
    pub version: Option<String>,
    /// The platform.
    pub platform: Option<String>,
    /// Where it came from.
    pub from: Option<String>,
    /// The project that brought it in.
    pub brought_by: Option<PathBuf>,
    /// When that was.
    pub brought: Option<String>,
    /// The archive's size.
    pub archive_bytes: u64,
    /// The size of the tree's files that are not shared with another release.
    pub tree_bytes: u64,
    /// When it was used last.
    pub used: Option<String>,
    /// The projects that have it installed.
    pub used_by: Vec<PathBuf>,
}

impl From<&CacheEntry> for CacheEntryTold {
    fn from(entry: &CacheEntry) -> Self {
        let note = entry.note.as_ref();
        let time = |seconds| Timestamp::from_second(seconds).ok().map(|time| time.to_string());
        Self {
            archive: entry.archive.map(|digest| digest.to_string()),
            tree: entry.tree.map(|digest| digest.to_string()),
            package: note.map(|note| note.package.clone()),
            version: note.map(|note| note.version.clone()),
            platform: note.map(|note| note.platform.clone()),
            from: note.map(|note| note.from.clone()),
            brought_by: note.map(|note| note.brought_by.clone()),
            brought: note.and_then(|note| time(note.brought)),
            archive_bytes: entry.archive_bytes,
            tree_bytes: entry.tree_bytes,
            used: time(entry.used),
            used_by: entry.users.iter().cloned().collect(),
        }
    }
}

/// Answer of `cache prune`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CachePruneAnswer {
    /// Whether nothing was removed, and this is what would be.
    pub preview: bool,
    /// What is gone, or would be.
    pub gone: Vec<CacheEntryTold>,
    /// How much room that made.
    pub freed_bytes: u64,
    /// How much is left.
    pub left_bytes: u64,
    /// Whether more is left than was asked for, because projects use it.
    pub still_over: bool,
}

impl Told for CachePruneAnswer {
    const COMMAND: &'static str = "cache prune";
}

impl CachePruneAnswer {
    /// Tells what is gone, or with `preview` what would be.
    pub fn of(pruned: &Pruned, preview: bool) -> Self {
        Self {
            preview,
            gone: told(&pruned.gone),
            freed_bytes: pruned.gone.iter().map(CacheEntry::bytes).sum(),
            left_bytes: pruned.left,
            still_over: pruned.still_over,
        }
    }
}

/// Answer of `cache save`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CacheSaveAnswer {
    /// The kit that was written.
    pub file: PathBuf,
    /// What it carries.
    pub carried: Vec<CarriedTold>,
    /// Packages that are not in it, since they are folders of this machine.
    pub left_out: Vec<LeftOutTold>,
}

/// A package that a kit does not carry.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LeftOutTold {
    /// The package.
    pub package: String,
    /// Its folder, relative to the lockfile's.
    pub folder: String,
}

impl Told for CacheSaveAnswer {
    const COMMAND: &'static str = "cache save";
}

impl CacheSaveAnswer {
    /// Tells what a kit carries.
    pub fn of(file: &Path, kit: &SavedKit) -> Self {
        let left_out = kit.left_out.iter().map(|(package, from)| LeftOutTold {
            package: package.to_string(),
            folder: from.local_folder().unwrap_or_default().to_owned(),
        });
        Self { file: file.to_owned(), carried: told(&kit.carried), left_out: left_out.collect() }
    }
}

/// Answer of `cache load`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CacheLoadAnswer {
    /// The kit that was read.
    pub file: PathBuf,
    /// How many of its archives the cache did not have.
    pub new: usize,
    /// What it carries.
    pub carried: Vec<CarriedTold>,
}

impl Told for CacheLoadAnswer {
    const COMMAND: &'static str = "cache load";
}

impl CacheLoadAnswer {
    /// Tells what came out of a kit.
    pub fn of(file: &Path, loaded: &Loaded) -> Self {
        Self { file: file.to_owned(), new: loaded.new, carried: told(&loaded.carried) }
    }
}

/// An archive that a kit carries.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CarriedTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The platform.
    pub platform: String,
    /// The archive's digest.
    pub archive: String,
    /// Its size.
    pub bytes: u64,
}

impl From<&Carried> for CarriedTold {
    fn from(one: &Carried) -> Self {
        Self {
            package: one.package.clone(),
            version: one.version.clone(),
            platform: one.artifact.platform.clone(),
            archive: one.artifact.digest.to_string(),
            bytes: one.artifact.size,
        }
    }
}

/// Answer of `cache verify`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CacheVerifyAnswer {
    /// How many archives were read.
    pub archives: usize,
    /// How many trees were read.
    pub trees: usize,
    /// Whether all of them are as their names say.
    pub sound: bool,
    /// What is not, in a sentence each.
    pub problems: Vec<String>,
}

impl Told for CacheVerifyAnswer {
    const COMMAND: &'static str = "cache verify";
}

/// Says what is wrong in the cache in a folder.
pub fn cache_problem(problem: &CacheProblem, folder: &Path) -> String {
    match problem {
        CacheProblem::Archive { named, found } => format!("archive {named} has digest {found}"),
        CacheProblem::Tree { named, differing: Some(files) } => {
            format!("tree {named}: {} not as listed", count(*files, "file"))
        }
        CacheProblem::Tree { named, differing: None } => format!("tree {named}: its listing is lost or changed"),
        CacheProblem::Stranger(path) => {
            format!("{} was not made by the cache, or cannot be read", folder.join(path).display())
        }
    }
}

impl CacheVerifyAnswer {
    /// Tells what was found in the cache in a folder.
    pub fn of(report: &CacheReport, folder: &Path) -> Self {
        Self {
            archives: report.archives,
            trees: report.trees,
            sound: report.problems.is_empty(),
            problems: report.problems.iter().map(|problem| cache_problem(problem, folder)).collect(),
        }
    }
}
