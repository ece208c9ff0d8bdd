//! `remove`: take a need out of the manifest.

use clap::Args;
use yostel_answers::answers::declare::RemoveAnswer;
use yostel_documents::{PackageName, Purpose};
use yostel_flows::{FlowError, remove};

use super::finish::finish;
use crate::answer::Answer;
use crate::call::Call;
use crate::options::{GoOn, package_name, word};
use crate::render::join;

/// Remove a need from the manifest
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,

    /// Only from this purpose; from all when left out
    #[arg(long = "for", value_name = "PURPOSE", value_parser = word)]
    purpose: Option<Purpose>,

    #[command(flatten)]
    go_on: GoOn,
}

pub(crate) fn run(arguments: Remove, call: &Call) -> Result<Answer, FlowError> {
    let report =
        call.edit(|project| remove(project, &arguments.package, arguments.purpose.as_ref(), &call.context()))?;
    let words = || {
        let tables: Vec<String> = report.purposes.iter().map(|purpose| format!("[needs.{purpose}]")).collect();
        let before = report.before.as_deref().unwrap_or_default();
        format!("Removed {} {before} from {} in {}.\n", arguments.package, join(&tables), call.show(&report.path))
    };
    finish(arguments.go_on, call, words, |then| RemoveAnswer::of(&report, &arguments.package).and_then(then))
}
