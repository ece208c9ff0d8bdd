//! `propose`: make branches of updates, for people to judge.

use std::collections::BTreeMap;

use clap::Args;
use yostel_answers::answers::proposals::ProposeAnswer;
use yostel_answers::words::{age, day};
use yostel_documents::PackageName;
use yostel_findings::{MoveKind, ProposalStep};
use yostel_flows::{
    CheckIn, CheckPlace, Draft, FlowError, ProposeReport, ProposeRequest, Stepped, WhyLeft, Write, propose,
};

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::commands::look::compare::words::markdown_of;
use crate::commands::using::checking::{Runner, verb};
use crate::exit::Exit;
use crate::options::needed_package;
use crate::render::markdown::escaped;
use crate::render::{Columns, Head, count, join, next_steps, note};

/// Most lines of what a failing check said that a summary has.
const MOST_LINES: usize = 20;

/// Make a branch of each update, for people to judge
///
/// For every package that could move, or group of them, a branch proposals/NAME with a commit, on the branch that is checked out;
/// the working tree is not touched. The checks of the manifests are run for each. Run again, by a timer say, it does only what is
/// left to do. What the manifest says below `[proposals]` is kept to.
#[derive(Debug, Args)]
pub(crate) struct Propose {
    /// Only these packages
    #[arg(value_name = "PACKAGE", value_parser = needed_package)]
    packages: Vec<PackageName>,

    /// At any time, whatever the manifest says
    #[arg(long)]
    any_time: bool,

    /// Only show what would be done
    #[arg(long)]
    preview: bool,
}

pub(crate) fn run(arguments: Propose, call: &Call) -> Result<Answer, FlowError> {
    let request = ProposeRequest {
        packages: arguments.packages,
        any_time: arguments.any_time,
        write: if arguments.preview { Write::Nothing } else { Write::File },
    };
    let runner = Runner::of(call);
    let run = |check: &CheckIn, place: &CheckPlace, with| runner.run_check(check, place, Some(with));
    let describe = |draft: &Draft<'_>| (subject(draft), summary(draft, call));
    let report = match propose(&call.project()?, &request, &run, &describe, &call.context()) {
        Ok(report) => report,
        Err(error) => return runner.failure().ok_or(error),
    };
    let said = Said::previewing(arguments.preview);
    Ok(Answer::either(call, Exit::Fine, said, || ProposeAnswer::from(&report), || words(&report)))
}

/// Says in a line what a proposal is.
fn subject(draft: &Draft<'_>) -> String {
    subject_of(draft.name, draft.targets)
}

fn subject_of(name: &str, targets: &BTreeMap<String, String>) -> String {
    match (targets.iter().next(), targets.len()) {
        (None, _) => String::new(),
        (Some((package, version)), 1) => format!("Update {package} to {version}"),
        _ => format!("Update {name}: {}", count(targets.len(), "package")),
    }
}

/// Says in Markdown what a reviewer should know.
fn summary(draft: &Draft<'_>, call: &Call) -> String {
    let report = draft.report;
    let mut text = markdown_of(&report.comparison);
    let facts: Vec<String> = report.comparison.moves.iter().filter_map(|one| fact(one, draft, call)).collect();
    if !facts.is_empty() {
        text.push_str(
            "\n| package | line | published | needed by | files that differ |\n| --- | --- | --- | --- | --- |\n",
        );
        text.push_str(&facts.concat());
    }
    for edit in &report.edits {
        let of = edit.project.as_ref().map_or_else(|| "[agreed]".to_owned(), ToString::to_string);
        let says = format!("the constraint of {} in {of} moves: {} → {}", edit.package, edit.before, edit.after);
        text.push_str(&format!("\n- {}\n", escaped(&says)));
    }
    for (package, all) in &report.news {
        for news in all {
            let says = news.notes.as_deref().unwrap_or("it does not say what is new");
            text.push_str(&format!("\n- {}\n", escaped(&format!("{package} {}: {says}", news.version))));
        }
    }
    text.push_str(&checks(draft));
    if !draft.tell.is_empty() {
        // Who is named here is meant to be told by whoever reads it.
        let told = escaped(&join(draft.tell)).replace("@<!-- -->", "@");
        text.push_str(&format!("\nTo be told: {told}.\n"));
    }
    text
}

/// Says of a move by which facts its risk can be judged.
fn fact(one: &yostel_findings::Compared, draft: &Draft<'_>, call: &Call) -> Option<String> {
    let MoveKind::Moved { to, crosses_line, .. } = &one.moved.kind else { return None };
    let package = &one.moved.package;
    let news = draft.report.news.get(package)?;
    let published = news.iter().find(|news| news.version == *to).map(|news| news.published);
    let published =
        published.map_or_else(|| "not known".to_owned(), |at| format!("{} ({})", day(at), age(at, call.settings.now)));
    let line = if *crosses_line { "**another**" } else { "the same" };
    let uses = draft.uses.get(package).map_or_else(String::new, ToString::to_string);
    let files = draft.files.get(package).map_or_else(|| "not known".to_owned(), ToString::to_string);
    Some(format!("| {} | {line} | {published} | {uses} | {files} |\n", escaped(package.as_str())))
}

/// Says what the checks came to.
fn checks(draft: &Draft<'_>) -> String {
    let Some(tested) = draft.report.tested.as_ref().filter(|tested| !tested.checks.is_empty()) else {
        return "\nNo check was run.\n".to_owned();
    };
    let mut text = "\n| check | project | result | time |\n| --- | --- | --- | --- |\n".to_owned();
    for checked in &tested.checks {
        let verdict = match checked.before {
            Some(before) => format!("**{}**; {} without the update", verb(checked.ran.verdict), verb(before)),
            None => verb(checked.ran.verdict).to_owned(),
        };
        let (name, project) = (escaped(checked.check.name.as_str()), escaped(checked.check.project.as_str()));
        text.push_str(&format!("| {name} | {project} | {verdict} | {:.1} s |\n", checked.ran.took.as_secs_f64()));
    }
    for failed in tested.checks.iter().filter(|checked| !checked.passes()) {
        let lines: Vec<&str> = failed.ran.said.lines().collect();
        let last = &lines[lines.len().saturating_sub(MOST_LINES)..];
        // Indented, nothing in it is anything but text.
        text.push_str(&format!("\nThe check {} said last:\n\n", escaped(failed.check.name.as_str())));
        for line in last {
            text.push_str(&format!("    {}\n", crate::sanitise::sanitise(line)));
        }
    }
    text
}

fn words(report: &ProposeReport) -> String {
    if report.steps.is_empty() {
        return format!("Nothing can move that is to be proposed for {}.\n", report.branch);
    }
    let mut columns =
        Columns::new([Head::plain("proposal"), Head::words("what"), Head::plain("checks"), Head::words("is")]);
    for stepped in &report.steps {
        let record = stepped
            .record
            .as_ref()
            .filter(|record| stepped.taken || record.is_open() || stepped.step == ProposalStep::Close);
        let checks = record.map(|record| record.checks.clone()).unwrap_or_default();
        let subject = record.map(|record| record.subject.clone());
        let subject = subject.unwrap_or_else(|| subject_of(&stepped.name, &stepped.targets));
        columns.row([stepped.name.clone(), subject, checks, is(stepped, report.written)]);
    }
    let mut text = columns.finish();
    for package in &report.overdue {
        text.push_str(&note(format!(
            "{package} is left out in [proposals], and its day is past: it is proposed again"
        )));
    }
    let open = report.steps.iter().find(|stepped| {
        stepped.record.as_ref().is_some_and(yostel_documents::ProposalRecord::is_open) && report.written
    });
    match open {
        Some(stepped) => {
            let name = &stepped.name;
            text + &next_steps([
                format!("yostel proposals show {name}"),
                format!("yostel proposals accept {name}"),
                format!("yostel proposals decline {name} --why …"),
            ])
        }
        None => text,
    }
}

fn is(stepped: &Stepped, written: bool) -> String {
    let word = match (stepped.left, stepped.step) {
        (Some(WhyLeft::ChangedByOthers), _) => "left as it is: somebody committed to its branch",
        (Some(WhyLeft::CheckedOut), _) => "left as it is: its branch is checked out",
        (Some(WhyLeft::BranchThere), _) => "left out: a branch of its name is there already",
        (None, _) if stepped.taken => "accepted, since nothing spoke against it",
        (None, ProposalStep::Open) if written => "opened",
        (None, ProposalStep::Open) => "would be opened",
        (None, ProposalStep::Redo) if written => "made anew",
        (None, ProposalStep::Redo) => "would be made anew",
        (None, ProposalStep::Keep) => "open",
        (None, ProposalStep::Close) if written => "closed: nothing of it is to be proposed any more",
        (None, ProposalStep::Close) => "would be closed: nothing of it is to be proposed any more",
        (None, ProposalStep::WaitForHours) => "waits for the hours of [proposals]",
        (None, ProposalStep::WaitForRoom) => "waits: as many are open as may be",
        (None, ProposalStep::StayDeclined) => "was declined, and there is nothing newer",
    };
    word.to_owned()
}
