//! `where`: the folder of an installed package.

use clap::Args;
use yostel_answers::answers::using::WhereAnswer;
use yostel_documents::PackageName;
use yostel_flows::{FlowError, where_is};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::package_name;

/// Print the folder where a package is installed
#[derive(Debug, Args)]
pub(crate) struct Where {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,
}

pub(crate) fn run(arguments: Where, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let folder = where_is(&project, &arguments.package, &call.context())?;
    if call.json() {
        let package = arguments.package.to_string();
        return Ok(Answer::document(call, Exit::Fine, &WhereAnswer { package, folder }));
    }
    Ok(Answer::raw(format!("{}\n", folder.display())))
}
