//! `withdraw`: keep a bad release for those locked to it, and from everybody else.

use clap::Args;
use yostel_answers::answers::share::WithdrawAnswer;
use yostel_documents::{PackageName, TakenBack};
use yostel_flows::{FlowError, SayingWhat, say_of_release};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::share::place::registry_there;
use crate::exit::Exit;
use crate::options::package_name;

/// Withdraw a bad release: never newly chosen, kept for those locked to it
#[derive(Debug, Args)]
pub(crate) struct Withdraw {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,

    /// The version
    version: String,

    /// The registry: a source of the manifest, a folder, or oci://HOST/NAME
    #[arg(long, value_name = "REGISTRY")]
    from: String,

    /// What is wrong with it, or why it is taken back
    #[arg(long, value_name = "REASON")]
    why: String,

    /// Take back that it is withdrawn
    #[arg(long)]
    take_back: bool,
}

pub(crate) fn run(arguments: Withdraw, call: &Call) -> Result<Answer, FlowError> {
    let registry = match registry_there(&arguments.from, call.manifests().ok().as_ref(), call) {
        Ok(registry) => registry,
        Err(none) => return Ok(none),
    };
    let what = if arguments.take_back { SayingWhat::TakenBack(TakenBack::Withdrawn) } else { SayingWhat::Withdrawn };
    let (package, version) = (&arguments.package, &arguments.version);
    let new = say_of_release(&registry, (package, version), (what, &arguments.why), &call.settings)?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || WithdrawAnswer {
            package: package.to_string(),
            version: version.clone(),
            taken_back: arguments.take_back,
            new,
            why: arguments.why.clone(),
        },
        || match (arguments.take_back, new) {
            (false, true) => {
                format!("Withdrew {package} {version}: it is never newly chosen, and stays for those locked to it.\n")
            }
            (false, false) => format!("{package} {version} was withdrawn already.\n"),
            (true, true) => format!("{package} {version} is no longer withdrawn: it may be chosen again.\n"),
            (true, false) => format!("{package} {version} is not withdrawn.\n"),
        },
    ))
}
