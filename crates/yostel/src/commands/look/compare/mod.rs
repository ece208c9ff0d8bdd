//! `compare`: what a change of the lockfile means.

mod git;
pub(crate) mod words;

use clap::Args;
use yostel_answers::answers::compare::{CompareAnswer, is_alarm};
use yostel_flows::{CompareReport, FlowError, Side, compare_lockfiles};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::Format;

/// Tell what a change of the lockfile means: what moved, because of whom, and what comes with it
///
/// Without arguments: what changed since the last commit. Exit status 4 when a release has other content under the same version.
/// With --format also markdown, for a comment in a review.
#[derive(Debug, Args)]
pub(crate) struct Compare {
    /// The lockfile to compare with: a file, a folder that has one, or a revision of git's (HEAD when not given)
    #[arg(value_name = "OLD")]
    old: Option<String>,

    /// The other: the same; what is here now when not given
    #[arg(value_name = "NEW")]
    new: Option<String>,

    /// Answer git, which calls this for diffs: the texts of one file, or of two that differ (docs/auditing.md)
    #[arg(long, value_name = "FROM GIT", num_args = 1.., conflicts_with_all = ["old", "new"], allow_hyphen_values = true)]
    for_git: Vec<String>,
}

pub(crate) fn run(arguments: Compare, call: &Call) -> Result<Answer, FlowError> {
    if !arguments.for_git.is_empty() {
        return Ok(git::run(&arguments.for_git, call));
    }
    let project = call.project()?;
    let side = |typed: &String| Side::of(typed, &call.folder);
    let old = arguments.old.as_ref().map_or_else(|| Side::Revision("HEAD".to_owned()), side);
    let new = arguments.new.as_ref().map_or(Side::Now, side);
    let report = compare_lockfiles(&project, [old, new], &call.context())?;
    let exit = exit_of(&report);
    Ok(match call.format {
        Format::Json => Answer::document(call, exit, &CompareAnswer::from(&report)),
        Format::Markdown => Answer { exit, ..Answer::raw(words::markdown(&report, call)) },
        _ => Answer::words(exit, words::text(&report, call)),
    })
}

fn exit_of(report: &CompareReport) -> Exit {
    match report.comparison.moves.iter().any(|compared| is_alarm(&compared.moved.kind)) {
        true => Exit::Integrity,
        false => Exit::Fine,
    }
}
