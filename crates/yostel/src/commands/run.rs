//! `run`: a command with the project's packages in its environment.

use std::ffi::OsString;
use std::os::unix::process::CommandExt;
use std::process::Command;

use clap::Args;
use yostel_core::Diagnostic;
use yostel_flows::{Environment, FlowError, environment};

use super::Answer;
use crate::context::{Context, failure_of};
use crate::exit::Exit;

/// Run a command with the packages in its environment
///
/// What the packages offer is put before what PATH and other variables hold; direct needs come before what came along.
/// The exit status is the command's own.
#[derive(Debug, Args)]
pub(crate) struct Run {
    /// The command and its arguments, after --
    #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

pub(crate) fn run(arguments: Run, context: &Context) -> Result<Answer, FlowError> {
    let project = context.project()?;
    let environment = environment(&project, &context.settings)?;
    let (program, rest) = arguments.command.split_first().expect("clap asks for at least one");
    let mut command = Command::new(program);
    command.args(rest).current_dir(&context.folder);
    for (variable, value) in values(&environment) {
        command.env(variable, value);
    }
    // On success this process becomes the command, so that signals and the exit status are its own.
    let error = command.exec();
    let diagnostic = Diagnostic {
        code: "cannot-run",
        headline: format!("`{}` cannot be run: {error}", program.to_string_lossy()),
        place: None,
        notes: Vec::new(),
        next: vec![
            "yostel env shows which folders the packages put before PATH".into(),
            "yostel add NAME, when the program is in a package the project does not need yet".into(),
        ],
    };
    Ok(failure_of(&[diagnostic], Exit::Usage, context.format))
}

/// Joins what the packages offer with what the variables hold.
pub(super) fn values(environment: &Environment) -> Vec<(String, OsString)> {
    let mut values = Vec::new();
    for (variable, folders) in &environment.prepend {
        let held = std::env::var_os(variable).filter(|value| !value.is_empty());
        let held = held.iter().flat_map(std::env::split_paths);
        // A folder whose path holds the separator cannot be said; our own never do, an inherited one stays whole.
        if let Ok(joined) = std::env::join_paths(folders.iter().cloned().chain(held)) {
            values.push((variable.clone(), joined));
        }
    }
    values
}
