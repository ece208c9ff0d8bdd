//! `withdraw`: keep a bad release for those locked to it, and from everybody else.

use clap::Args;
use serde_json::json;
use yostel_documents::PackageName;
use yostel_flows::{FlowError, withdraw};

use super::registry::registry_there;
use super::{Answer, package_name};
use crate::context::Context;
use crate::exit::Exit;

/// Withdraw a bad release: never newly chosen, kept for those locked to it
#[derive(Debug, Args)]
pub(crate) struct Withdraw {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,

    /// The version
    version: String,

    /// The registry: a source of the manifest, or a folder
    #[arg(long, value_name = "REGISTRY")]
    from: String,

    /// What is wrong with it
    #[arg(long, value_name = "REASON")]
    why: String,
}

pub(crate) fn run(arguments: Withdraw, context: &Context) -> Result<Answer, FlowError> {
    let registry = match registry_there(&arguments.from, context.manifests().ok().as_ref(), context) {
        Ok(registry) => registry,
        Err(none) => return Ok(none),
    };
    let new = withdraw(&registry, &arguments.package, &arguments.version, &arguments.why, &context.settings)?;
    let (package, version) = (&arguments.package, &arguments.version);
    Ok(Answer::either(
        context,
        Exit::Fine,
        "withdraw",
        || json!({ "package": package.as_str(), "version": version, "new": new, "why": arguments.why }),
        || {
            if new {
                format!("Withdrew {package} {version}: it is never newly chosen, and stays for those locked to it.\n")
            } else {
                format!("{package} {version} was withdrawn already.\n")
            }
        },
    ))
}
