//! `env`: the environment that `run` makes, for a shell or a program to take over.

use clap::Args;
use yostel_answers::answers::using::EnvAnswer;
use yostel_flows::{FlowError, environment, quoted};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::using::run::values;
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
