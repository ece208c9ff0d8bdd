//! `env`: the environment that `run` makes, for a shell or a program to take over.

use std::ffi::OsString;

use clap::Args;
use yostel_answers::answers::using::EnvAnswer;
use yostel_flows::{Environment, FlowError, environment, quoted};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;

/// Print the environment that the packages make, as shell exports
#[derive(Debug, Args)]
pub(crate) struct Env {}

pub(crate) fn run(_: Env, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let environment = environment(&project, &call.context())?;
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &EnvAnswer::from(&environment)));
    }
    let lines: Vec<String> = values(&environment)
        .into_iter()
        .map(|(variable, value)| format!("export {variable}={}\n", quoted(&value.to_string_lossy())))
        .collect();
    Ok(Answer::raw(lines.concat()))
}

/// Joins what the packages offer with what the variables hold.
pub(crate) fn values(environment: &Environment) -> Vec<(String, OsString)> {
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
