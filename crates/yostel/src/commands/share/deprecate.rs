//! `deprecate`: say that a release is no longer maintained, and what took its place.

use clap::Args;
use yostel_answers::answers::share::DeprecateAnswer;
use yostel_documents::{PackageName, TakenBack};
use yostel_flows::{FlowError, SayingWhat, say_of_release};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::share::place::registry_there;
use crate::exit::Exit;
use crate::options::package_name;

/// Say that a release is no longer maintained, and which package took its place
///
/// It may still be chosen; whoever uses it is told.
#[derive(Debug, Args)]
pub(crate) struct Deprecate {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,

    /// The version
    version: String,

    /// The registry: a source of the manifest, a folder, or oci://HOST/NAME
    #[arg(long, value_name = "REGISTRY")]
    from: String,

    /// Why it is deprecated, or why that is taken back
    #[arg(long, value_name = "REASON")]
    why: String,

    /// Name the package that takes its place
    #[arg(long, value_name = "PACKAGE", value_parser = package_name, conflicts_with = "take_back")]
    replaced_by: Option<PackageName>,

    /// Take back that it is deprecated
    #[arg(long)]
    take_back: bool,
}

pub(crate) fn run(arguments: Deprecate, call: &Call) -> Result<Answer, FlowError> {
    let registry = match registry_there(&arguments.from, call.manifests().ok().as_ref(), call) {
        Ok(registry) => registry,
        Err(none) => return Ok(none),
    };
    let instead = arguments.replaced_by.as_ref();
    let what = match arguments.take_back {
        true => SayingWhat::TakenBack(TakenBack::Deprecated),
        false => SayingWhat::Deprecated(instead),
    };
    let (package, version) = (&arguments.package, &arguments.version);
    let new = say_of_release(&registry, (package, version), (what, &arguments.why), &call.settings)?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || DeprecateAnswer {
            package: package.to_string(),
            version: version.clone(),
            replaced_by: instead.map(ToString::to_string),
            taken_back: arguments.take_back,
            new,
            why: arguments.why.clone(),
        },
        || match (arguments.take_back, new) {
            (false, true) => {
                let instead = instead.map_or_else(String::new, |name| format!(", and {name} took its place"));
                format!("{package} {version} is deprecated now{instead}: whoever uses it is told.\n")
            }
            (false, false) => format!("{package} {version} was deprecated already, in the same words.\n"),
            (true, true) => format!("{package} {version} is no longer deprecated.\n"),
            (true, false) => format!("{package} {version} is not deprecated.\n"),
        },
    ))
}
