//! `where`: the folder of an installed package.

use clap::Args;
use serde_json::json;
use yostel_documents::PackageName;
use yostel_flows::{FlowError, where_is};

use super::{Answer, package_name};
use crate::context::Context;
use crate::exit::Exit;

/// Print the folder where a package is installed
#[derive(Debug, Args)]
pub(crate) struct Where {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,
}

pub(crate) fn run(arguments: Where, context: &Context) -> Result<Answer, FlowError> {
    let project = context.project()?;
    let folder = where_is(&project, &arguments.package, &context.settings)?;
    if context.json() {
        let content = json!({ "package": arguments.package.as_str(), "folder": folder });
        return Ok(Answer::document(Exit::Fine, "where", content));
    }
    Ok(Answer::raw(format!("{}\n", folder.display())))
}
