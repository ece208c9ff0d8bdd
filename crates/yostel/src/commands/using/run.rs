//! `run`: a command with the project's packages in its environment; or with each project's, one after the other.

use std::ffi::OsString;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use clap::Args;
use yostel_answers::answers::using::{CheckedTold, RunChecksAnswer, RunEachAnswer, RunTold};
use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::{PackageName, Word};
use yostel_flows::{
    CheckPlace, Checked, Environment, FlowError, LoadedProject, Observer, checks_here, environment, environment_for,
    in_order_of_needs,
};

use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::commands::using::checking::{Runner, results};
use crate::commands::using::env::values;
use crate::exit::Exit;
use crate::render::{Columns, Head, Role, count, note_at_once, paint, tell};

/// Run a command with the packages in its environment
///
/// Programs of the packages that the project needs itself are put before PATH, and what packages offer before what other
/// variables hold, direct needs first.
/// The exit status is the command's own.
#[derive(Debug, Args)]
pub(crate) struct Run {
    /// In the folder of each project of the workspace, those first that others need; stops where one fails
    #[arg(long, conflicts_with = "project")]
    each: bool,

    /// Run the checks of the manifests in place of a command: all of them, or those that are named
    #[arg(long, conflicts_with_all = ["each", "go_on"])]
    checks: bool,

    /// With --each, go on where one fails
    #[arg(long, requires = "each")]
    go_on: bool,

    /// The command and its arguments, after --
    #[arg(
        required_unless_present = "checks",
        trailing_var_arg = true,
        allow_hyphen_values = true,
        value_name = "COMMAND"
    )]
    command: Vec<OsString>,
}

pub(crate) fn run(arguments: Run, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    if arguments.checks {
        return checks(&arguments.command, project, call);
    }
    if arguments.each {
        return each(&arguments, project, call);
    }
    let environment = environment(&project, &call.context())?;
    // With the project named, one is in its folder.
    let folder = call.project.as_ref().map_or(call.folder.clone(), |_| project.folder_of(project.here()));
    if !call.quiet {
        tell_shadows(&environment);
    }
    let mut command = command(&arguments.command, &folder, &environment);
    // On success this process becomes the command, so that signals and the exit status are its own.
    let error = command.exec();
    let beside = project.is_workspace() && project.here().name() == project.top.name();
    Ok(cannot_run(&arguments.command[0], &error, beside, call))
}

/// Runs checks of the manifests with what is installed.
fn checks(names: &[OsString], project: LoadedProject, call: &Call) -> Result<Answer, FlowError> {
    let mut words = Vec::new();
    for name in names {
        match Word::parse(&name.to_string_lossy()) {
            Ok(word) => words.push(word),
            Err(error) => {
                let next = "name checks as the manifests have them, below [checks]";
                let diagnostic = Diagnostic::new(Code::Name, error.to_string(), next);
                return Ok(failure_of(&[diagnostic], Exit::Usage, call.format));
            }
        }
    }
    let runner = Runner::of(call);
    let mut checked = Vec::new();
    for check in checks_here(&project, &words)? {
        let there = project.clone().at_project(&check.project)?;
        let environment = environment_for(&there, &check.check.purposes, &call.context())?;
        let place = CheckPlace { folder: there.folder_of(there.here()), environment, unwanted: Arc::default() };
        match runner.run_check(&check, &place, None) {
            Ok(ran) => checked.push(Checked { check, ran, before: None }),
            Err(error) => return runner.failure().ok_or(error),
        }
    }
    let passed = checked.iter().filter(|checked| checked.passes()).count();
    let exit = if passed == checked.len() { Exit::Fine } else { Exit::Findings };
    let total = || match passed == checked.len() {
        true => format!("{} passed.\n", count(passed, "check")),
        false => format!("{} of {} did not pass.\n", checked.len() - passed, count(checked.len(), "check")),
    };
    let answer = || RunChecksAnswer { checks: checked.iter().map(CheckedTold::from).collect() };
    Ok(Answer::done(call, exit, answer, || results(&checked) + &total()))
}

/// Tells which programs of packages come before programs of this machine that have the same name.
fn tell_shadows(environment: &Environment) {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let own: &[PathBuf] = environment.prepend.get("PATH").map_or(&[], Vec::as_slice);
    let folders: Vec<PathBuf> = std::env::split_paths(&path).filter(|folder| !own.contains(folder)).collect();
    for (program, package) in &environment.programs {
        if let Some(other) = folders.iter().map(|folder| folder.join(program)).find(|other| other.is_file()) {
            let told = format!("`{program}` is that of {package}, which comes before {}", other.display());
            tell(&note_at_once(told));
        }
    }
}

fn command(line: &[OsString], folder: &Path, environment: &Environment) -> Command {
    let (program, rest) = line.split_first().expect("clap asks for at least one");
    let mut command = Command::new(program);
    command.args(rest).current_dir(folder);
    for (variable, value) in values(environment) {
        command.env(variable, value);
    }
    command
}

/// Says that a command is not there; `beside` when a project of the workspace may have it, and another is worked on.
fn cannot_run(program: &OsString, error: &std::io::Error, beside: bool, call: &Call) -> Answer {
    let headline = format!("`{}` cannot be run: {error}", program.to_string_lossy());
    let env = Suggestion::run("yostel env", "to see which folders the packages put before PATH");
    let mut diagnostic = Diagnostic::new(Code::CannotRun, headline, env)
        .or(Suggestion::run("yostel add NAME", "when the program is in a package the project does not need yet"));
    if beside {
        let other = Suggestion::run("yostel --project NAME run -- …", "with what that project of the workspace needs");
        diagnostic.next.insert(0, other);
    }
    failure_of(&[diagnostic], Exit::Usage, call.format)
}

/// What became of the command in one project.
struct Outcome {
    project: PackageName,
    /// None when it was not run, because it failed in another.
    ended: Option<(ExitStatus, Duration)>,
}

impl Outcome {
    /// Returns the exit status as a shell tells it.
    fn status(&self) -> Option<u8> {
        let (status, _) = self.ended?;
        let code = status.code().or_else(|| status.signal().map(|signal| 128 + signal)).unwrap_or(1);
        Some(u8::try_from(code).unwrap_or(1))
    }

    fn told(&self) -> RunTold {
        let seconds = self.ended.map(|(_, took)| took.as_secs_f64());
        RunTold { project: self.project.to_string(), status: self.status(), seconds }
    }
}

fn each(arguments: &Run, project: LoadedProject, call: &Call) -> Result<Answer, FlowError> {
    let order: Vec<PackageName> = in_order_of_needs(&project).into_iter().map(|file| file.name().clone()).collect();
    let mut outcomes: Vec<Outcome> = Vec::new();
    let mut stopped = false;
    for name in order {
        let project = project.clone().at_project(&name)?;
        if stopped {
            outcomes.push(Outcome { project: name, ended: None });
            continue;
        }
        let environment = environment(&project, &call.context())?;
        if !call.quiet && !call.json() {
            tell(&format!("{} {name}\n", paint(Role::Title, "in")));
        }
        let started = Instant::now();
        let mut command = command(&arguments.command, &project.folder_of(project.here()), &environment);
        if call.json() {
            // What a program reads is the summary alone.
            command.stdout(Stdio::from(std::io::stderr()));
        }
        let status = match command.status() {
            Ok(status) => status,
            Err(error) => return Ok(cannot_run(&arguments.command[0], &error, false, call)),
        };
        stopped = call.progress.stops() || !status.success() && !arguments.go_on;
        outcomes.push(Outcome { project: name, ended: Some((status, started.elapsed())) });
    }
    let failed = outcomes.iter().filter_map(Outcome::status).find(|status| *status != 0);
    let exit = failed.map_or(Exit::Fine, Exit::OfCommand);
    Ok(Answer::done(
        call,
        exit,
        || RunEachAnswer { projects: outcomes.iter().map(Outcome::told).collect() },
        || summary(&outcomes),
    ))
}

fn summary(outcomes: &[Outcome]) -> String {
    let mut columns = Columns::new([Head::package("project"), Head::plain("result"), Head::number("time")]);
    for outcome in outcomes {
        let result = match outcome.status() {
            Some(0) => "fine".to_owned(),
            Some(status) => format!("failed, status {status}"),
            None => "not run".to_owned(),
        };
        let time = outcome.ended.map(|(_, took)| format!("{:.2} s", took.as_secs_f64())).unwrap_or_default();
        columns.row([outcome.project.to_string(), result, time]);
    }
    let failed = outcomes.iter().filter(|outcome| outcome.status().is_some_and(|status| status != 0)).count();
    let left = outcomes.iter().filter(|outcome| outcome.ended.is_none()).count();
    let mut total = format!("{}: {} fine", count(outcomes.len(), "project"), outcomes.len() - failed - left);
    if failed > 0 {
        total.push_str(&format!(", {}", paint(Role::Bad, format!("{failed} failed"))));
    }
    if left > 0 {
        total.push_str(&format!(", {left} not run (--go-on would)"));
    }
    columns.finish() + &total + ".\n"
}
