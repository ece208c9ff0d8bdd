//! `demo`: the whole job, once, with made-up data.

use std::path::PathBuf;

use clap::Args;
use yostel_flows::FlowError;

use super::walk;
use crate::answer::Answer;
use crate::call::Call;

/// Walk through the whole job with made-up data
///
/// Makes a registry and a project of a mountain ropeway's control room, then declares, locks, installs, runs, changes,
/// audits, tampers and reproduces, printing each command and its true output. Needs no network. Ends with status 0 only
/// if every step did what it says.
#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Make it in this folder (empty or not there yet) and keep it; else it is removed at the end
    #[arg(long, value_name = "FOLDER")]
    into: Option<PathBuf>,

    /// Only make the registry and the project, to look around in
    #[arg(long, requires = "into")]
    only_make: bool,
}

pub(crate) fn run(arguments: Demo, call: &Call) -> Result<Answer, FlowError> {
    let into = arguments.into.map(|folder| call.folder.join(folder));
    walk::run(into, arguments.only_make, call)
}
