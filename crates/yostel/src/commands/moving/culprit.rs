//! `culprit`: find which of the moves between two locks makes a check fail.

use std::ffi::OsString;
use std::time::Duration;

use clap::Args;
use yostel_answers::answers::moving::CulpritAnswer;
use yostel_answers::words::{cause_words, day, side_words, versions_words};
use yostel_documents::{PackageName, Word};
use yostel_findings::{CheckVerdict, MoveKind};
use yostel_flows::{
    Blamed, CheckIn, CheckRoom, CulpritReport, CulpritRequest, FlowError, Ran, Side, checks_here, culprit,
};

use yostel_versions::Version;

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::commands::decide::lock::{moment, time};
use crate::commands::using::checking::{Runner, last_words, verb};
use crate::exit::Exit;
use crate::options::word;
use crate::render::{Role, count, indented, join, next_step, note, paint};
use crate::sanitise::sanitise;

/// How long a command may take when nobody says.
const LONGEST: Duration = Duration::from_secs(600);

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

    /// How long a check may take (like 30s or 2m); 10m, or as its manifest says, when not given
    #[arg(long, value_name = "TIME", value_parser = time)]
    time_limit: Option<Duration>,

    /// Try this many sets at the same time, each in a copy of its own
    #[arg(long, value_name = "NUMBER", default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..=64))]
    jobs: u8,

    /// Continue a search that was interrupted, unless a file of the project has changed since
    #[arg(long)]
    resume: bool,

    /// The check of this name, as the manifests have it; may be repeated. All of them when there is no command either
    #[arg(long = "check", value_name = "NAME", value_parser = word, conflicts_with = "command")]
    checks: Vec<Word>,

    /// The check and its arguments, after --
    #[arg(last = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

pub(crate) fn run(arguments: Culprit, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let side = |typed: &String| match moment(typed) {
        Ok(day) if !call.folder.join(typed).exists() => Side::AsOf(day),
        _ => Side::of(typed, &call.folder),
    };
    let sides = [side(&arguments.good), arguments.bad.as_ref().map_or(Side::Now, side)];
    let declared = if arguments.command.is_empty() { checks_here(&project, &arguments.checks)? } else { Vec::new() };
    let runner = Runner::of(call);
    let check = |room: &CheckRoom<'_>, (some, all): (usize, usize)| {
        let ran = repeated(arguments.repeat, || run_all(&runner, &arguments, &declared, room))?;
        runner.tell(format!("with {some} of {}: the check {}", count(all, "move"), verb(ran.verdict)));
        Ok(ran)
    };
    let request = CulpritRequest {
        sides,
        at_once: usize::from(arguments.jobs),
        question: Some(question(&arguments, &declared)),
        resume: arguments.resume,
    };
    let report = match culprit(&project, request, &check, &call.context()) {
        Err(FlowError::Stopped) if runner.failure().is_none() => {
            runner.tell(
                "what was found out so far is kept; the same command with --resume continues from there".to_owned(),
            );
            return Err(FlowError::Stopped);
        }
        Err(error) => return runner.failure().ok_or(error),
        Ok(report) => report,
    };
    let exit = match &report.blame {
        Blamed::Moves { .. } => Exit::Fine,
        Blamed::CannotTell(_) => Exit::Findings,
        Blamed::GoodFails | Blamed::BadPasses => Exit::Usage,
    };
    let answer = || CulpritAnswer::from(&report);
    let next = || hold_back(&report.blame).map(next_step).unwrap_or_default();
    let anew = match arguments.resume && report.resumed == 0 {
        true => note("no earlier search asked the same, so everything was tried"),
        false => String::new(),
    };
    Ok(Answer::either(call, exit, Said::Result, answer, || words(&report, call) + &anew + &next()))
}

/// Writes all that is asked beside the locks and the project's files.
fn question(arguments: &Culprit, declared: &[CheckIn]) -> String {
    let checks: Vec<String> = declared.iter().map(|check| format!("{check:?}")).collect();
    format!("{:?} {:?} {} {checks:?}", arguments.command, arguments.time_limit, arguments.repeat)
}

/// Runs the command, or the checks one after the other up to the first that fails. Of these it cannot be told where one that
/// did not fail could not tell.
fn run_all(
    runner: &Runner<'_>,
    arguments: &Culprit,
    declared: &[CheckIn],
    room: &CheckRoom<'_>,
) -> Result<Ran, FlowError> {
    if declared.is_empty() {
        return runner.run(&arguments.command, &room.place()?, arguments.time_limit.unwrap_or(LONGEST));
    }
    let mut all = Ran { verdict: CheckVerdict::Passes, took: Duration::ZERO, said: String::new() };
    for CheckIn { project, check, .. } in declared {
        let words: Vec<OsString> = check.run.words().into_iter().map(OsString::from).collect();
        let place = room.place_in(project, &check.purposes)?;
        let ran = runner.run(&words, &place, arguments.time_limit.unwrap_or(check.time_limit))?;
        match ran.verdict {
            CheckVerdict::Fails => return Ok(ran),
            CheckVerdict::Unknown => all = ran,
            CheckVerdict::Passes => {}
        }
    }
    Ok(all)
}

/// Runs something as often as was asked for; what does not always say the same cannot tell.
fn repeated(times: u32, mut run: impl FnMut() -> Result<Ran, FlowError>) -> Result<Ran, FlowError> {
    let first = run()?;
    for _ in 1..times {
        let next = run()?;
        if next.verdict != first.verdict {
            return Ok(Ran { verdict: CheckVerdict::Unknown, ..next });
        }
    }
    Ok(first)
}

pub(crate) fn words(report: &CulpritReport, call: &Call) -> String {
    let [good, bad] = report.sides.clone().map(|side| match &side {
        Side::File(path) => call.show(path),
        Side::Now => "what is locked now".to_owned(),
        other => side_words(other),
    });
    let earlier = if report.resumed > 0 { format!(", and {} earlier,", report.resumed) } else { String::new() };
    let runs = format!("{} of the check{earlier} among {}", count(report.runs, "run"), count(report.moves, "move"));
    let text = match &report.blame {
        Blamed::GoodFails => {
            indented(0, format!("The check fails with {good} too, so none of the moves is to blame ({runs})."))
                + &last_words(&report.said)
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
            text + &last_words(&report.said)
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

/// Returns a package that is to blame and was there before, with its versions before and with the moves.
pub(crate) fn blamed(blame: &Blamed) -> Option<(&PackageName, &Version, &Version)> {
    let Blamed::Moves { comparison, packages } = blame else { return None };
    comparison.moves.iter().find_map(|one| match &one.moved.kind {
        MoveKind::Moved { from, to, .. } if packages.contains(&one.moved.package) => {
            Some((&one.moved.package, from, to))
        }
        _ => None,
    })
}

/// Says what goes back behind what is to blame.
fn hold_back(blame: &Blamed) -> Option<String> {
    let (package, from, _) = blamed(blame)?;
    Some(format!("yostel update {package} {from} --edit, to go back to that"))
}
