//! `undo`: take back what the last command changed in the project's files, or do it again.

use clap::Args;
use yostel_answers::answers::moving::{UndoAnswer, UndoListAnswer};
use yostel_flows::{FlowError, LOCKFILE_NAME, PastChange, Restored, UndoRequest, Write, past_changes, undo};

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Columns, Head, ago, count, next_step, note};
use crate::sanitise::sanitise;

/// How many commands are listed without --in-full.
const LISTED: usize = 20;

/// Undo what the last command changed in manifests, lockfile and patches
///
/// Of every command that edits these files, the cache remembers them as they were. The last one is undone first, and the
/// one before it next time; a file that was edited since is never written over. What is installed stays as it is.
#[derive(Debug, Args)]
pub(crate) struct Undo {
    /// Do again what was undone last
    #[arg(long)]
    redo: bool,

    /// Only show which files would change
    #[arg(long)]
    preview: bool,

    /// List what can be undone, the last command first
    #[arg(long, conflicts_with_all = ["redo", "preview"])]
    list: bool,

    /// List all of it, however much
    #[arg(long, requires = "list")]
    in_full: bool,
}

pub(crate) fn run(arguments: Undo, call: &Call) -> Result<Answer, FlowError> {
    if arguments.list {
        let (project, changes) = past_changes(&call.folder, &call.context());
        let words = || listed(&changes, arguments.in_full, call);
        return Ok(Answer::either(call, Exit::Fine, Said::Result, || UndoListAnswer::of(&project, &changes), words));
    }
    let write = if arguments.preview { Write::Nothing } else { Write::File };
    let report = undo(&call.folder, UndoRequest { write, again: arguments.redo }, &call.context())?;
    let said = Said::previewing(arguments.preview);
    let words = || {
        let did = match (arguments.redo, report.written) {
            (false, true) => "Undid",
            (false, false) => "Would undo",
            (true, true) => "Did again",
            (true, false) => "Would do again",
        };
        let when = report.at.map(|at| format!(" ({})", ago(at, call.settings.now))).unwrap_or_default();
        let mut text = format!("{did} yostel {}{when}.\n", sanitise(&report.command));
        let mut columns = Columns::new([Head::plain(""), Head::words("")]);
        for (file, restored) in &report.files {
            let became = match restored {
                Restored::Written => "as it was",
                Restored::Removed => "removed, since it was not there",
                Restored::AsItWas => "was so already",
            };
            columns.row([file.clone(), became.to_owned()]);
        }
        text.push_str(&columns.finish());
        let has_lockfile =
            report.files.iter().any(|(file, restored)| file == LOCKFILE_NAME && *restored == Restored::Written);
        match report.written {
            false => text + &next_step(if arguments.redo { "yostel undo --redo" } else { "yostel undo" }),
            true if has_lockfile => text + &next_step("yostel install"),
            true => text,
        }
    };
    Ok(Answer::either(call, Exit::Fine, said, || UndoAnswer::from(&report), words))
}

fn listed(changes: &[PastChange], in_full: bool, call: &Call) -> String {
    if changes.is_empty() {
        return "No command changed anything here that could be undone.\n".to_owned();
    }
    let mut columns =
        Columns::new([Head::plain("WHEN"), Head::words("COMMAND"), Head::words("FILES"), Head::plain("")]);
    let shown = if in_full { changes.len() } else { LISTED };
    for past in changes.iter().take(shown) {
        let when = past.at.map(|at| ago(at, call.settings.now)).unwrap_or_default();
        let undone = if past.undone { "undone" } else { "" }.to_owned();
        let files: Vec<String> = past.files.iter().map(|file| sanitise(file)).collect();
        columns.row([when, sanitise(&format!("yostel {}", past.command)), files.join(", "), undone]);
    }
    let mut text = columns.finish();
    if changes.len() > shown {
        let more = count(changes.len() - shown, "more command");
        text.push_str(&note(format!("{more} with --in-full")));
    }
    match changes.iter().any(|past| !past.undone) {
        true => text + &next_step("yostel undo"),
        false => text + &next_step("yostel undo --redo"),
    }
}
