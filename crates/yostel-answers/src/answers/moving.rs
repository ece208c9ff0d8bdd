//! Answers of `update`, `culprit` and `undo`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use yostel_flows::{
    Alternative, Blamed, ConstraintMove, CulpritReport, PastChange, Restored, Tested, UndoReport, UpdateReport,
};

use super::Told;
use super::advisories::{ThreatTold, UnreadAdvisoryTold};
use super::compare::{ComparedTold, LicenceTold, licences_told};
use super::outdated::{NewsTold, OutdatedTold};
use super::parts::{ReleaseTold, texts, told};
use super::using::CheckedTold;
use crate::words::side_words;

/// A constraint of a project that moved, or would with `--preview`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ConstraintMoveTold {
    /// The project; null for what all agreed on.
    pub project: Option<String>,
    /// The package.
    pub package: String,
    /// What for.
    pub purpose: String,
    /// As it was.
    pub before: String,
    /// As it is now.
    pub after: String,
}

impl From<&ConstraintMove> for ConstraintMoveTold {
    fn from(moved: &ConstraintMove) -> Self {
        Self {
            project: moved.project.as_ref().map(ToString::to_string),
            package: moved.package.to_string(),
            purpose: moved.purpose.to_string(),
            before: moved.before.to_string(),
            after: moved.after.to_string(),
        }
    }
}

/// Answer of `update`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UpdateAnswer {
    /// The lockfile.
    pub file: PathBuf,
    /// How many packages are locked.
    pub packages: usize,
    /// The packages that were to move; null when all were.
    pub asked: Option<Vec<String>>,
    /// What moved, by package, and what caused it.
    pub moves: Vec<ComparedTold>,
    /// Other sets that it could have come to, the best first; empty without `--alternatives`.
    pub alternatives: Vec<AlternativeTold>,
    /// The projects' own constraints that moved.
    pub edits: Vec<ConstraintMoveTold>,
    /// What new releases say, by package.
    pub news: BTreeMap<String, Vec<NewsTold>>,
    /// Of what was to move, what has newer releases still.
    pub stayed: Vec<OutdatedTold>,
    /// Of what stayed, the table of the manifest that speaks of it wherever it turns up: `force` or `agreed`.
    pub ruled: BTreeMap<String, &'static str>,
    /// Advisories that affect what is locked now and did not before.
    pub advisories_in: Vec<ThreatTold>,
    /// Advisories that affect what was locked and do not any more.
    pub advisories_out: Vec<ThreatTold>,
    /// Advisories that were to end, and do not.
    pub standing: Vec<ThreatTold>,
    /// Advisories that could not be read.
    pub unread_advisories: Vec<UnreadAdvisoryTold>,
    /// Licences that nothing had before.
    pub new_licences: Vec<LicenceTold>,
    /// How many more bytes are to be fetched for this machine's platform; less than nothing when it is less.
    pub bytes: i64,
    /// Other files of the project that mention what is locked, and change with it.
    pub followed: Vec<String>,
    /// What the checks came to; null without `--tested`, and where nothing moved.
    pub tested: Option<TestedTold>,
    /// Whether anything changed, or would with `--preview`.
    pub changed: bool,
    /// Whether it was written.
    pub written: bool,
}

/// Another set that an update could have come to.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AlternativeTold {
    /// What would move, by package, and what causes it.
    pub moves: Vec<ComparedTold>,
    /// The projects' own constraints that would move.
    pub edits: Vec<ConstraintMoveTold>,
    /// What to ask for to have exactly this set; null where a package is there at several versions.
    pub asked: Option<Vec<ReleaseTold>>,
    /// Advisories that it leads to.
    pub advisories_in: Vec<ThreatTold>,
    /// Advisories that it leads out of.
    pub advisories_out: Vec<ThreatTold>,
    /// How many more bytes are to be fetched for this machine's platform; less than nothing when it is less.
    pub bytes: i64,
}

impl From<&Alternative> for AlternativeTold {
    fn from(alternative: &Alternative) -> Self {
        let comparison = &alternative.comparison;
        Self {
            moves: told(&comparison.moves),
            edits: told(&alternative.edits),
            asked: alternative.asked.as_ref().map(told),
            advisories_in: told(&comparison.advisories_in),
            advisories_out: told(&comparison.advisories_out),
            bytes: comparison.bytes,
        }
    }
}

/// What trying an update came to.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TestedTold {
    /// The checks that its moves reach, in the order in which they were run.
    pub checks: Vec<CheckedTold>,
    /// How many others there are, which were not run.
    pub unreached: usize,
    /// The moves that make the first check fail that passes without the update; null without `--culprit`, and where there is
    /// no such check.
    pub culprit: Option<CulpritAnswer>,
}

impl From<&Tested> for TestedTold {
    fn from(tested: &Tested) -> Self {
        Self {
            checks: told(&tested.checks),
            unreached: tested.unreached,
            culprit: tested.culprit.as_ref().map(Into::into),
        }
    }
}

impl Told for UpdateAnswer {
    const COMMAND: &'static str = "update";
}

impl UpdateAnswer {
    /// Tells an update; ages are those at this time.
    pub fn of(report: &UpdateReport, now: Timestamp) -> Self {
        let comparison = &report.comparison;
        Self {
            file: report.path.clone(),
            packages: report.packages,
            asked: report.asked.as_ref().map(texts),
            moves: told(&comparison.moves),
            alternatives: told(&report.alternatives),
            edits: told(&report.edits),
            news: report.news.iter().map(|(package, news)| (package.to_string(), told(news))).collect(),
            stayed: report.stayed.iter().map(|one| OutdatedTold::of(one, now)).collect(),
            ruled: report.ruled.iter().map(|(package, table)| (package.to_string(), *table)).collect(),
            advisories_in: told(&comparison.advisories_in),
            advisories_out: told(&comparison.advisories_out),
            standing: told(&report.standing),
            unread_advisories: told(&report.unread),
            new_licences: licences_told(comparison),
            bytes: comparison.bytes,
            followed: report.followed.clone(),
            tested: report.tested.as_ref().map(TestedTold::from),
            changed: report.changed,
            written: report.written,
        }
    }
}

/// What became of a file, or would with `--preview`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RestoredTold {
    /// The file, relative to the project's folder.
    pub file: String,
    /// What became of it: `written`, `removed`, or `as-it-was`, when nothing had to be done.
    pub change: &'static str,
}

impl From<&(String, Restored)> for RestoredTold {
    fn from((file, restored): &(String, Restored)) -> Self {
        let change = match restored {
            Restored::Written => "written",
            Restored::Removed => "removed",
            Restored::AsItWas => "as-it-was",
        };
        Self { file: file.clone(), change }
    }
}

/// Answer of `undo`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UndoAnswer {
    /// The project's folder.
    pub project: PathBuf,
    /// The command that was undone, or done again, as it was typed.
    pub undone: String,
    /// When it ran; null where that is not known.
    pub at: Option<String>,
    /// The files that it changed.
    pub files: Vec<RestoredTold>,
    /// How many more commands can be undone, or done again.
    pub more: usize,
    /// Whether anything was written.
    pub written: bool,
}

impl Told for UndoAnswer {
    const COMMAND: &'static str = "undo";
}

impl From<&UndoReport> for UndoAnswer {
    fn from(report: &UndoReport) -> Self {
        Self {
            project: report.root.clone(),
            undone: report.command.clone(),
            at: report.at.map(|at| at.to_string()),
            files: told(&report.files),
            more: report.more,
            written: report.written,
        }
    }
}

/// A command that changed files of the project.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PastChangeTold {
    /// The command, as it was typed.
    pub change: String,
    /// When it ran; null where that is not known.
    pub at: Option<String>,
    /// Whether it was undone.
    pub undone: bool,
    /// The files that it changed, relative to the project's folder.
    pub files: Vec<String>,
}

impl From<&PastChange> for PastChangeTold {
    fn from(past: &PastChange) -> Self {
        let at = past.at.map(|at| at.to_string());
        Self { change: past.command.clone(), at, undone: past.undone, files: past.files.clone() }
    }
}

/// Answer of `undo --list`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UndoListAnswer {
    /// The project's folder.
    pub project: PathBuf,
    /// What commands changed, the last one first.
    pub changes: Vec<PastChangeTold>,
}

impl Told for UndoListAnswer {
    const COMMAND: &'static str = "undo list";
}

impl UndoListAnswer {
    /// Tells what commands changed in the project of this folder.
    pub fn of(project: &Path, changes: &[PastChange]) -> Self {
        Self { project: project.to_owned(), changes: told(changes) }
    }
}

/// Answer of `culprit`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CulpritAnswer {
    /// With which lock the check passes: `now`, a file, or a revision.
    pub good: String,
    /// With which it fails.
    pub bad: String,
    /// What came of it: `moves`, `good-fails`, `bad-passes`, or `cannot-tell`.
    pub found: &'static str,
    /// The packages that are to blame, or one of which is when nobody can tell which.
    pub packages: Vec<String>,
    /// The moves that make the check fail, with those that cannot be parted from them.
    pub moves: Vec<ComparedTold>,
    /// What the releases say that are to blame, by package.
    pub news: BTreeMap<String, Vec<NewsTold>>,
    /// How many packages moved between the two locks.
    pub between: usize,
    /// How many packages differ otherwise (their place, content or patch), which was not tried.
    pub untried: usize,
    /// How many packages are not where the good lock has them even without any move, since what is needed now does not let them.
    pub unlike_good: usize,
    /// How often the check was run.
    pub runs: usize,
    /// How many sets were tried before, by a search that was taken up with `--resume`.
    pub resumed: usize,
    /// What the check said with these moves alone, or without any where it fails then too; empty where neither is so.
    pub said: String,
}

impl Told for CulpritAnswer {
    const COMMAND: &'static str = "culprit";
}

impl From<&CulpritReport> for CulpritAnswer {
    fn from(report: &CulpritReport) -> Self {
        let (found, packages, moves) = match &report.blame {
            Blamed::Moves { comparison, packages } => ("moves", texts(packages), told(&comparison.moves)),
            Blamed::GoodFails => ("good-fails", Vec::new(), Vec::new()),
            Blamed::BadPasses => ("bad-passes", Vec::new(), Vec::new()),
            Blamed::CannotTell(packages) => ("cannot-tell", texts(packages), Vec::new()),
        };
        let [good, bad] = report.sides.each_ref().map(side_words);
        Self {
            good,
            bad,
            found,
            packages,
            moves,
            news: report.news.iter().map(|(package, news)| (package.to_string(), told(news))).collect(),
            between: report.moves,
            untried: report.untried,
            unlike_good: report.unlike_good,
            runs: report.runs,
            resumed: report.resumed,
            said: report.said.clone(),
        }
    }
}
