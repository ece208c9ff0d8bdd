//! Answers of the commands that install and use what is locked.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::PackageName;
use yostel_findings::CheckVerdict;
use yostel_flows::{Changes, Checked, Dropped, Environment, InstallReport, Kept, LockCheck, Opened, VerifyReport};
use yostel_store::TreeDifference;
use yostel_versions::Version;

use super::Told;
use super::parts::{FileTold, NoticeTold, diff_of, texts, told};

/// Answer of `install`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct InstallAnswer {
    /// How many packages are installed.
    pub packages: usize,
    /// The digest of what is installed.
    pub digest: String,
    /// Whether everything was there.
    pub nothing_to_do: bool,
    /// What came from its source.
    pub fetched: Vec<FetchedTold>,
    /// How many packages were put in place.
    pub placed: usize,
    /// Packages that somebody had changed, and that are as they were again.
    pub put_back: Vec<PutBackTold>,
    /// What is said of installed releases since they were published, where anything was installed.
    pub notices: Vec<NoticeTold>,
    /// Packages that are open for changes.
    pub open: Vec<String>,
    /// How many packages were removed.
    pub removed: usize,
    /// How many files were copied, because they could not be shared with the cache.
    pub copied_files: u64,
    /// Why the cache could not note the install; null when it could.
    pub unrecorded: Option<String>,
}

impl Told for InstallAnswer {
    const COMMAND: &'static str = "install";
}

/// An archive that was fetched.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FetchedTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The archive's size in bytes.
    pub bytes: u64,
}

impl From<&(PackageName, Version, u64)> for FetchedTold {
    fn from((package, version, bytes): &(PackageName, Version, u64)) -> Self {
        Self { package: package.to_string(), version: version.to_string(), bytes: *bytes }
    }
}

/// A package that was put back.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PutBackTold {
    /// The package, with its version.
    pub package: String,
    /// The files that were not as they are locked.
    pub files: Vec<String>,
}

impl From<&InstallReport> for InstallAnswer {
    fn from(report: &InstallReport) -> Self {
        let done = report.done.as_ref();
        let put_back = done.iter().flat_map(|done| &done.replaced).map(|replaced| PutBackTold {
            package: replaced.package.clone(),
            files: replaced.differences.iter().map(|difference| difference.path().to_owned()).collect(),
        });
        Self {
            packages: report.packages,
            digest: report.digest.to_string(),
            nothing_to_do: done.is_none(),
            fetched: told(&report.fetched),
            placed: done.map_or(0, |done| done.placed.len()),
            put_back: put_back.collect(),
            notices: told(&report.notices),
            open: texts(&report.open),
            removed: done.map_or(0, |done| done.removed),
            copied_files: done.map_or(0, |done| done.copied),
            unrecorded: done.and_then(|done| done.unrecorded.clone()),
        }
    }
}

/// Answer of `verify`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct VerifyAnswer {
    /// How many packages were compared.
    pub packages: usize,
    /// Whether everything was as it is locked.
    pub sound: bool,
    /// Whether what differed was put back.
    pub put_back: bool,
    /// The digest of what should be installed.
    pub digest: String,
    /// What differs from what is locked.
    pub differences: Vec<DifferenceTold>,
    /// Packages that are open for changes, and were not compared.
    pub open: Vec<String>,
    /// The lines that differ, of files that are text.
    pub changes: Vec<ChangeTold>,
}

impl Told for VerifyAnswer {
    const COMMAND: &'static str = "verify";
    const LOOKS: bool = true;
}

/// A file that is not as it is locked.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DifferenceTold {
    /// The package, with its version.
    pub package: String,
    /// How it differs: `changed`, `changed executable bit`, `changed kind`, `missing` or `extra`.
    pub how: String,
    /// The file's path in the package.
    pub path: String,
}

/// The lines of a file that differ.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ChangeTold {
    /// The package, with its version.
    pub package: String,
    /// The file's path in the package.
    pub path: String,
    /// The unified diff from what is locked to what is there; null when it is not text.
    pub patch: Option<String>,
}

/// Says in a word or two what is other about a file.
pub fn how(difference: &TreeDifference) -> &'static str {
    match difference {
        TreeDifference::Changed { how: "content", .. } => "changed",
        TreeDifference::Changed { how: "executable bit", .. } => "changed executable bit",
        TreeDifference::Changed { .. } => "changed kind",
        TreeDifference::Missing(_) => "missing",
        TreeDifference::Extra(_) => "extra",
    }
}

impl VerifyAnswer {
    /// Tells what was found, and whether it was put back.
    pub fn of(report: &VerifyReport, put_back: bool) -> Self {
        let all = report.differences.iter().flat_map(|(package, all)| all.iter().map(move |one| (package, one)));
        let differences = all.map(|(package, one)| DifferenceTold {
            package: package.clone(),
            how: how(one).to_owned(),
            path: one.path().to_owned(),
        });
        let changes = report.changes.iter().map(|(package, change)| ChangeTold {
            package: package.clone(),
            path: change.path.clone(),
            patch: diff_of(change),
        });
        Self {
            packages: report.packages,
            sound: report.differences.is_empty(),
            put_back,
            digest: report.digest.to_string(),
            differences: differences.collect(),
            open: texts(&report.open),
            changes: changes.collect(),
        }
    }
}

/// Answer of `verify --lock`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct VerifyLockAnswer {
    /// How many packages the lockfile has.
    pub packages: usize,
    /// How many archives in the cache were looked into.
    pub archives: usize,
    /// How many packages were compared with what sources tell.
    pub compared: usize,
}

impl Told for VerifyLockAnswer {
    const COMMAND: &'static str = "verify-lock";
}

impl From<&LockCheck> for VerifyLockAnswer {
    fn from(check: &LockCheck) -> Self {
        Self { packages: check.packages, archives: check.looked_into, compared: check.compared }
    }
}

/// Answer of `run --each`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RunEachAnswer {
    /// The projects, those first that others need.
    pub projects: Vec<RunTold>,
}

impl Told for RunEachAnswer {
    const COMMAND: &'static str = "run";
}

/// What became of a command in a project.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RunTold {
    /// The project.
    pub project: String,
    /// The exit status; null where it was not run.
    pub status: Option<u8>,
    /// How long it took, in seconds; null where it was not run.
    pub seconds: Option<f64>,
}

/// Answer of `run --checks`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RunChecksAnswer {
    /// The checks, in the order in which they were run.
    pub checks: Vec<CheckedTold>,
}

impl Told for RunChecksAnswer {
    const COMMAND: &'static str = "run checks";
}

/// What became of a check.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CheckedTold {
    /// Its name.
    pub check: String,
    /// The project in which it was run.
    pub project: String,
    /// What it says: `passes`, `fails`, or `cannot-tell`.
    pub verdict: &'static str,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// What it printed.
    pub said: String,
    /// What it says of what is locked now, where that was asked since it did not pass with an update; else null.
    pub before: Option<&'static str>,
}

impl From<&Checked> for CheckedTold {
    fn from(checked: &Checked) -> Self {
        let Checked { check, ran, before } = checked;
        let word = |verdict: &CheckVerdict| match verdict {
            CheckVerdict::Passes => "passes",
            CheckVerdict::Fails => "fails",
            CheckVerdict::Unknown => "cannot-tell",
        };
        Self {
            check: check.name.to_string(),
            project: check.project.to_string(),
            verdict: word(&ran.verdict),
            seconds: ran.took.as_secs_f64(),
            said: ran.said.clone(),
            before: before.as_ref().map(word),
        }
    }
}

/// Answer of `env`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct EnvAnswer {
    /// Folders that go before what is there, by variable.
    pub prepend: BTreeMap<String, Vec<PathBuf>>,
}

impl Told for EnvAnswer {
    const COMMAND: &'static str = "env";
    const LOOKS: bool = true;
}

impl From<&Environment> for EnvAnswer {
    fn from(environment: &Environment) -> Self {
        Self { prepend: environment.prepend.clone() }
    }
}

/// Answer of `where`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WhereAnswer {
    /// The package.
    pub package: String,
    /// The folder in which it is installed.
    pub folder: PathBuf,
}

impl Told for WhereAnswer {
    const COMMAND: &'static str = "where";
    const LOOKS: bool = true;
}

/// Answer of `alter`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum AlterAnswer {
    /// A package was opened.
    Opened(OpenedTold),
    /// With `--show`: what was changed in it.
    Shown(ShownTold),
    /// With `--keep`: the change is a patch now.
    Kept(KeptTold),
    /// With `--drop`: the copy or the patch is gone.
    Dropped(DroppedTold),
}

impl Told for AlterAnswer {
    const COMMAND: &'static str = "alter";
}

/// A package that is open for changes.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct OpenedTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The folder with the copy, from where the command was started.
    pub folder: String,
    /// Whether it was open already.
    pub was_open: bool,
    /// Whether it has a patch.
    pub has_patch: bool,
}

/// What was changed in a package.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ShownTold {
    /// The package.
    pub package: String,
    /// Whether it is open.
    pub open: bool,
    /// The files that were changed.
    pub files: Vec<FileTold>,
}

/// A change that was kept.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeptTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The patch.
    pub patch: String,
    /// Why it is changed.
    pub why: String,
    /// The files that are changed.
    pub files: Vec<FileTold>,
}

/// A change that was dropped.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "dropped", rename_all = "kebab-case")]
pub enum DroppedTold {
    /// The copy that was open.
    Copy {
        /// The package.
        package: String,
        /// Where what was changed in it is saved; null when nothing was.
        saved: Option<String>,
    },
    /// The patch.
    Patch {
        /// The package.
        package: String,
        /// The patch.
        patch: String,
    },
}

impl AlterAnswer {
    /// Tells that a package is open in this folder.
    pub fn opened(opened: &Opened, package: &PackageName, folder: &str) -> Self {
        Self::Opened(OpenedTold {
            package: package.to_string(),
            version: opened.version.to_string(),
            folder: folder.to_owned(),
            was_open: opened.was_there,
            has_patch: opened.has_patch,
        })
    }

    /// Tells what was changed.
    pub fn shown(changes: &Changes, package: &PackageName) -> Self {
        let (open, files) = (changes.open.is_some(), told(&changes.files));
        Self::Shown(ShownTold { package: package.to_string(), open, files })
    }

    /// Tells that a change was kept.
    pub fn kept(kept: &Kept, package: &PackageName) -> Self {
        Self::Kept(KeptTold {
            package: package.to_string(),
            version: kept.version.to_string(),
            patch: kept.patch.clone(),
            why: kept.why.clone(),
            files: told(&kept.files),
        })
    }

    /// Tells what is gone; paths are written by `show`.
    pub fn dropped(dropped: &Dropped, package: &PackageName, show: impl Fn(&Path) -> String) -> Self {
        let package = package.to_string();
        Self::Dropped(match dropped {
            Dropped::Copy(saved) => DroppedTold::Copy { package, saved: saved.as_deref().map(show) },
            Dropped::Patch(patch) => DroppedTold::Patch { package, patch: patch.clone() },
        })
    }
}
