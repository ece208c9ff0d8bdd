//! Running checks: a command that was typed, or those that the manifests have.

use std::ffi::OsString;
use std::io;
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use yostel_answers::{Code, Diagnostic};
use yostel_findings::CheckVerdict;
use yostel_flows::{CheckIn, CheckPlace, Checked, Ended, FlowError, Patience, Ran, With, run_alone};

use crate::answer::{Answer, failure_of};
use crate::call::Call;
use crate::commands::using::env::values;
use crate::exit::Exit;
use crate::render::{Columns, Head, Role, below, count, note_at_once, tell};
use crate::sanitise::sanitise;

/// Lines of what a failing check said last that are told.
const LAST_LINES: usize = 10;

/// The status with which a check says that it cannot tell.
const CANNOT_TELL: i32 = 125;

/// Runs checks, and remembers which could not be run at all.
pub(crate) struct Runner<'c> {
    call: &'c Call,
    cannot_run: Mutex<Option<(String, io::Error)>>,
}

impl<'c> Runner<'c> {
    pub(crate) fn of(call: &'c Call) -> Self {
        Self { call, cannot_run: Mutex::default() }
    }

    /// Runs a command at a place, for no longer than a time.
    ///
    /// # Errors
    /// `Stopped`, also where it could not be run: then [`Self::failure`] tells.
    pub(crate) fn run(&self, command: &[OsString], place: &CheckPlace, longest: Duration) -> Result<Ran, FlowError> {
        let (stop, unwanted) = (self.call.settings.patience.stop.clone(), place.unwanted.clone());
        let patience = Patience { idle: longest, total: longest, stop, unwanted };
        let (program, rest) = command.split_first().expect("nobody asks for a check without a command");
        let mut command = Command::new(program);
        command.args(rest).current_dir(&place.folder).envs(values(&place.environment));
        let began = Instant::now();
        let (verdict, said) = match run_alone(command, &patience) {
            Ok(Ended::Exited { status, stdout, stderr }) => {
                let said = format!("{}{}", String::from_utf8_lossy(&stdout), String::from_utf8_lossy(&stderr));
                let verdict = match status.code() {
                    Some(0) => CheckVerdict::Passes,
                    Some(CANNOT_TELL) => CheckVerdict::Unknown,
                    _ => CheckVerdict::Fails,
                };
                (verdict, said)
            }
            Ok(Ended::Silent | Ended::TooLong) => {
                (CheckVerdict::Unknown, "it took too long, and was ended\n".to_owned())
            }
            Ok(Ended::TooMuch) => (CheckVerdict::Unknown, "it said too much, and was ended\n".to_owned()),
            Ok(Ended::Stopped) => return Err(FlowError::Stopped),
            Err(error) => {
                *self.failed() = Some((program.to_string_lossy().into_owned(), error));
                return Err(FlowError::Stopped);
            }
        };
        Ok(Ran { verdict, took: began.elapsed(), said })
    }

    /// Runs a check of a manifest at a place, and tells at once what came of it with what, where that is said.
    ///
    /// # Errors
    /// As [`Self::run`].
    pub(crate) fn run_check(&self, check: &CheckIn, place: &CheckPlace, with: Option<With>) -> Result<Ran, FlowError> {
        let words: Vec<OsString> = check.check.run.words().into_iter().map(OsString::from).collect();
        let ran = self.run(&words, place, check.check.time_limit)?;
        let with = match with {
            None => String::new(),
            Some(With::Update) => " with the update".to_owned(),
            Some(With::Now) => " without the update".to_owned(),
            Some(With::Some(moves)) => format!(" with {} of the update", count(moves, "move")),
        };
        let (name, project, verb) = (&check.name, &check.project, verb(ran.verdict));
        self.tell(format!("the check {name} of {project} {verb}{with} ({})", time(ran.took)));
        Ok(ran)
    }

    fn failed(&self) -> MutexGuard<'_, Option<(String, io::Error)>> {
        self.cannot_run.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Tells something while the work goes on.
    pub(crate) fn tell(&self, says: String) {
        if !self.call.quiet && !self.call.json() {
            tell(&note_at_once(says));
        }
    }

    /// Tells that a check could not be run, when that is why all ended.
    pub(crate) fn failure(&self) -> Option<Answer> {
        let failed = self.failed();
        let (program, error) = failed.as_ref()?;
        let headline = format!("the check `{program}` cannot be run: {error}");
        let next = "name a program that is there, or a script by its path";
        Some(failure_of(&[Diagnostic::new(Code::CannotRun, headline, next)], Exit::Usage, self.call.format))
    }
}

/// Says what a check says.
pub(crate) fn verb(verdict: CheckVerdict) -> &'static str {
    match verdict {
        CheckVerdict::Passes => "passes",
        CheckVerdict::Fails => "fails",
        CheckVerdict::Unknown => "cannot tell",
    }
}

fn time(took: Duration) -> String {
    format!("{:.2} s", took.as_secs_f64())
}

/// Tells what a failing check said last.
pub(crate) fn last_words(said: &str) -> String {
    let lines: Vec<&str> = said.lines().filter(|line| !line.trim().is_empty()).collect();
    let last = &lines[lines.len().saturating_sub(LAST_LINES)..];
    last.iter().map(|line| below(Role::Quiet, "the check:", sanitise(line))).collect()
}

/// Lists what checks came to, and what the first that did not pass said last.
pub(crate) fn results(checks: &[Checked]) -> String {
    let mut columns =
        Columns::new([Head::words("check"), Head::package("project"), Head::words("result"), Head::number("time")]);
    for Checked { check, ran, before } in checks {
        let result = match before {
            None => verb(ran.verdict).to_owned(),
            Some(before) => format!("{}; {} without the update", verb(ran.verdict), verb(*before)),
        };
        columns.row([check.name.to_string(), check.project.to_string(), result, time(ran.took)]);
    }
    let said = checks.iter().find(|checked| !checked.passes()).map(|checked| last_words(&checked.ran.said));
    columns.finish() + &said.unwrap_or_default()
}
