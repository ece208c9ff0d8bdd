//! Undoing what commands changed.

use yostel_flows::UndoError;

use super::{TOLD, TOLD_LINES, join_first, tell};
use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};

/// Tells why nothing is undone.
pub(super) fn of_undo(error: &UndoError) -> Diagnostic {
    match error {
        UndoError::Nothing { again: false } => {
            let list = Suggestion::run("yostel undo --list", "to see what commands changed here");
            tell(Code::NothingToUndo, "no command changed anything here that could be undone", list)
        }
        UndoError::Nothing { again: true } => {
            let list = Suggestion::run("yostel undo --list", "to see what commands changed here");
            tell(Code::NothingToUndo, "nothing was undone here that could be done again", list)
        }
        UndoError::EditedSince { command, again, files } => {
            let names: Vec<String> = files.iter().map(|(path, _)| path.clone()).collect();
            let since = if *again { "it was undone" } else { "it ran" };
            let headline = format!(
                "`yostel {command}` cannot be {}: {} changed since {since}",
                if *again { "done again" } else { "undone" },
                join_first(names.into_iter(), TOLD)
            );
            let next = "take these edits back first, or go on without: nothing was touched";
            let mut told = tell(Code::EditedSince, headline, next);
            for (path, difference) in files {
                let Some(difference) = difference else {
                    told = told.note(format!("what was edited in {path} is no text"));
                    continue;
                };
                let lines: Vec<&str> = difference.lines().skip(1).collect();
                let shown = lines.iter().take(TOLD_LINES);
                told = shown.fold(told, |told, line| told.note((*line).to_owned()));
                if lines.len() > TOLD_LINES {
                    told = told.note(format!("and {} more lines", lines.len() - TOLD_LINES));
                }
            }
            told
        }
        UndoError::Foreign { command, path } => {
            let headline = format!("what the cache remembers of `yostel {command}` was not written by yostel");
            tell(Code::JournalForged, headline, "edit the files by hand: nothing was touched")
                .note(format!("it names {path}, which is not below the project's folder"))
        }
    }
}
