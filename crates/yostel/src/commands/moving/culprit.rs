//! `culprit`: find which of the moves between two locks makes a check fail.

use std::ffi::OsString;
use std::process::Command;
use std::time::Duration;

use clap::Args;
use yostel_answers::answers::moving::CulpritAnswer;
use yostel_answers::words::{cause_words, day, side_words, versions_words};
use yostel_answers::{Code, Diagnostic};
use yostel_findings::{CheckVerdict, Comparison, MoveKind};
use yostel_flows::{Blamed, CheckRoom, CulpritReport, Ended, FlowError, Patience, Side, culprit, run_alone};

use crate::answer::{Answer, Said, failure_of};
use crate::call::Call;
use crate::commands::decide::lock::{moment, time};
use crate::commands::using::run::values;
use crate::exit::Exit;
use crate::render::{Role, below, count, indented, join, next_step, note, note_at_once, paint, tell};
use crate::sanitise::sanitise;

/// Lines of what a failing check said last that are told.
const LAST_LINES: usize = 10;

/// How long a check may take when nobody says.
const LONGEST: &str = "10m";

/// The status with which a check says that it cannot tell.
const CANNOT_TELL: i32 = 125;

/// Find which of the moves between two locks makes a check fail
///
/// The check is run with consistent sets in between, each installed into a copy of the project: with one move to blame, as
/// often as the moves can be halved. The project itself is not touched. A check that ends with status 125, or takes too long,
/// cannot tell.
#[derive(Debug, Args)]
pub(crate) struct Culprit {
    /// The lock with which the check passes: a file, a folder that has one, a revision of git's, or a day, for what would have
    /// been locked then
    #[arg(value_name = "GOOD")]
    good: String,

    /// The lock with which it fails: the same; what is here now when not given
    #[arg(value_name = "BAD")]
    bad: Option<String>,

    /// Run each check so often; one that does not always say the same cannot tell
    #[arg(long, value_name = "TIMES", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=100))]
    repeat: u32,

    /// How long a check may take (like 30s or 2m)
    #[arg(long, value_name = "TIME", default_value = LONGEST, value_parser = time)]
    time_limit: Duration,

    /// The check and its arguments, after --
    #[arg(required = true, last = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

pub(crate) fn run(arguments: Culprit, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let side = |typed: &String| match moment(typed) {
        Ok(day) if !call.folder.join(typed).exists() => Side::AsOf(day),
        _ => Side::of(typed, &call.folder),
    };
    let sides = [side(&arguments.good), arguments.bad.as_ref().map_or(Side::Now, side)];
    let mut last_failure = String::new();
    let mut cannot_run = None;
    let mut check = |room: &CheckRoom<'_>| {
        let (verdict, said) = match run_check(&arguments, room, call) {
            Ok(Some(checked)) => checked,
            Ok(None) => return Err(FlowError::Stopped),
            Err(error) => {
                cannot_run = Some(error);
                return Err(FlowError::Stopped);
            }
        };
        if verdict == CheckVerdict::Fails {
            last_failure = said;
        }
        let (some, all) = room.moved;
        let told = match verdict {
            CheckVerdict::Passes => "passes",
            CheckVerdict::Fails => "fails",
            CheckVerdict::Unknown => "cannot tell",
        };
        if !call.quiet && !call.json() {
            tell(&note_at_once(format!("with {some} of {}: the check {told}", count(all, "move"))));
        }
        Ok(verdict)
    };
    let report = match culprit(&project, sides, &mut check, &call.context()) {
        Err(FlowError::Stopped) if let Some(error) = cannot_run => {
            let program = arguments.command[0].to_string_lossy().into_owned();
            let headline = format!("the check `{program}` cannot be run: {error}");
            let next = "name a program that is there, or a script by its path";
            return Ok(failure_of(&[Diagnostic::new(Code::CannotRun, headline, next)], Exit::Usage, call.format));
        }
        report => report?,
    };
    let exit = match &report.blame {
        Blamed::Moves { .. } => Exit::Fine,
        Blamed::CannotTell(_) => Exit::Findings,
        Blamed::GoodFails | Blamed::BadPasses => Exit::Usage,
    };
    let answer = || CulpritAnswer::of(&report, &last_failure);
    Ok(Answer::either(call, exit, Said::Result, answer, || words(&report, &last_failure, call)))
}

/// Runs a check as often as was asked for; returns what it said too, and nothing when it was told to stop.
fn run_check(
    arguments: &Culprit,
    room: &CheckRoom<'_>,
    call: &Call,
) -> std::io::Result<Option<(CheckVerdict, String)>> {
    let patience =
        Patience { idle: arguments.time_limit, total: arguments.time_limit, stop: call.settings.patience.stop.clone() };
    let mut verdict = None;
    let mut said = String::new();
    for _ in 0..arguments.repeat {
        let (program, rest) = arguments.command.split_first().expect("clap asks for at least one");
        let mut command = Command::new(program);
        command.args(rest).current_dir(room.folder).envs(values(room.environment));
        let now = match run_alone(command, &patience)? {
            Ended::Exited { status, stdout, stderr } => {
                said = format!("{}{}", String::from_utf8_lossy(&stdout), String::from_utf8_lossy(&stderr));
                match status.code() {
                    Some(0) => CheckVerdict::Passes,
                    Some(CANNOT_TELL) => CheckVerdict::Unknown,
                    _ => CheckVerdict::Fails,
                }
            }
            Ended::Silent | Ended::TooLong | Ended::TooMuch => CheckVerdict::Unknown,
            Ended::Stopped => return Ok(None),
        };
        if verdict.replace(now).is_some_and(|before| before != now) {
            return Ok(Some((CheckVerdict::Unknown, said)));
        }
    }
    Ok(Some((verdict.unwrap_or(CheckVerdict::Unknown), said)))
}

fn words(report: &CulpritReport, last_failure: &str, call: &Call) -> String {
    let [good, bad] = report.sides.clone().map(|side| match &side {
        Side::File(path) => call.show(path),
        Side::Now => "what is locked now".to_owned(),
        other => side_words(other),
    });
    let runs = format!("{} of the check among {}", count(report.runs, "run"), count(report.moves, "move"));
    let text = match &report.blame {
        Blamed::GoodFails => {
            indented(0, format!("The check fails with {good} too, so none of the moves is to blame ({runs})."))
                + &last_words(last_failure)
        }
        Blamed::BadPasses => {
            indented(0, format!("The check passes with {bad} too, so there is nothing to find ({runs})."))
        }
        Blamed::CannotTell(packages) => {
            let names: Vec<String> = packages.iter().map(ToString::to_string).collect();
            indented(0, format!("It is one of {}, and nobody can tell which ({runs}).", join(&names)))
                + &note(
                    "a check cannot tell that ends with 125, takes too long, says too much, or says now this and now that",
                )
        }
        Blamed::Moves { comparison, packages } => {
            let is_blamed = |package| packages.contains(package);
            let (blamed, along): (Vec<_>, Vec<_>) =
                comparison.moves.iter().partition(|one| is_blamed(&one.moved.package));
            let several = if blamed.len() > 1 { "These together make" } else { "This makes" };
            let mut text = indented(0, format!("{several} the check fail ({runs}):"));
            for one in &blamed {
                let package = paint(Role::Package, &one.moved.package);
                text.push_str(&format!("  {package} {}\n", sanitise(&versions_words(&one.moved.kind))));
                for news in report.news.get(&one.moved.package).into_iter().flatten() {
                    let says = news.notes.as_deref().unwrap_or("it does not say what is new");
                    text.push_str(&indented(
                        6,
                        format!("{}, {}: {}", news.version, day(news.published), sanitise(says)),
                    ));
                }
            }
            for one in &along {
                let because = cause_words(one);
                let says =
                    format!("{} {} cannot be parted from it", one.moved.package, versions_words(&one.moved.kind));
                let because = if because.is_empty() { because } else { format!(": {because}") };
                text.push_str(&note(sanitise(&format!("{says}{because}"))));
            }
            text + &last_words(last_failure) + &hold_back(comparison, packages)
        }
    };
    text + &apart(report)
}

/// Tells what else is otherwise than with the locks that were compared.
fn apart(report: &CulpritReport) -> String {
    let mut text = String::new();
    if report.unlike_good > 0 {
        let packages = count(report.unlike_good, "package");
        text.push_str(&note(format!("{packages} cannot be where GOOD has them, with what is needed now")));
    }
    if report.untried > 0 {
        let packages = count(report.untried, "package");
        text.push_str(&note(format!("{packages} with another place, content or patch: that was not tried")));
    }
    text
}

/// Tells what a failing check said last.
fn last_words(said: &str) -> String {
    let lines: Vec<&str> = said.lines().filter(|line| !line.trim().is_empty()).collect();
    let last = &lines[lines.len().saturating_sub(LAST_LINES)..];
    last.iter().map(|line| below(Role::Quiet, "the check:", sanitise(line))).collect()
}

/// Says what holds back what is to blame.
fn hold_back(comparison: &Comparison, packages: &std::collections::BTreeSet<yostel_documents::PackageName>) -> String {
    let moved = comparison.moves.iter().find_map(|one| match &one.moved.kind {
        MoveKind::Moved { from, .. } if packages.contains(&one.moved.package) => Some((&one.moved.package, from)),
        _ => None,
    });
    moved
        .map(|(package, from)| next_step(format!("yostel update {package} {from} --edit, to hold it back")))
        .unwrap_or_default()
}
