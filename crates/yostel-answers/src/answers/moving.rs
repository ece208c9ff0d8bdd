//! Answers of `undo`.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use yostel_flows::{PastChange, Restored, UndoReport};

use super::Told;
use super::parts::told;

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
