//! `report`: a page to hand round.

use std::path::PathBuf;

use clap::Args;
use yostel_answers::answers::report::ReportAnswer;
use yostel_flows::{FlowError, report_of, write_picture};

use crate::answer::{Answer, Door};
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{indented, report};
use crate::sanitise::sanitise;

/// How many nodes the page's graph has at most.
const NODES: usize = 400;

/// Write a page to hand round: what was found, who needs whom, every package, how far behind
///
/// One HTML file that asks no server for anything; it can be searched, sorted and printed, used by keyboard and read aloud.
#[derive(Debug, Args)]
pub(crate) struct Report {
    /// Where to write it; the standard output when not given
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,
}

pub(crate) fn run(arguments: Report, call: &Call) -> Result<Answer, FlowError> {
    let mut answer = ReportAnswer::from(&report_of(&call.project()?, NODES, &call.context())?);
    let Some(file) = arguments.file else {
        return Ok(match call.json() {
            true => Answer::document(call, Exit::Fine, &answer),
            false => Answer { door: Door::Raw, ..Answer::words(Exit::Fine, report::document(&answer)) },
        });
    };
    write_picture(&call.folder.join(&file), report::document(&answer).as_bytes(), report::MARK)?;
    answer.file = Some(file.display().to_string());
    let summary: String = answer.summary.iter().map(|sentence| indented(2, sentence)).collect();
    let said = format!("Wrote {}.\n{summary}", sanitise(&file.display().to_string()));
    Ok(Answer::done(call, Exit::Fine, || answer, || said))
}
