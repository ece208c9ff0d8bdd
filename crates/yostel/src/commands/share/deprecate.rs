//! `deprecate`: say that a release is no longer maintained, and what took its place.

use clap::Args;
use yostel_answers::answers::share::DeprecateAnswer;
use yostel_documents::{PackageName, TakenBack};
use yostel_flows::{FlowError, SayingWhat};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::share::of_release::OfRelease;
use crate::exit::Exit;
use crate::options::package_name;

/// Say that a release is no longer maintained, and which package took its place
///
/// It may still be chosen; whoever uses it is told.
#[derive(Debug, Args)]
pub(crate) struct Deprecate {
    #[command(flatten)]
    of: OfRelease,

    /// Name the package that takes its place
    #[arg(long, value_name = "PACKAGE", value_parser = package_name, conflicts_with = "take_back")]
    replaced_by: Option<PackageName>,
}

pub(crate) fn run(arguments: Deprecate, call: &Call) -> Result<Answer, FlowError> {
    let (of, instead) = (&arguments.of, arguments.replaced_by.as_ref());
    let what = match of.take_back {
        true => SayingWhat::TakenBack(TakenBack::Deprecated),
        false => SayingWhat::Deprecated(instead),
    };
    let new = match of.say(what, call)? {
        Ok(new) => new,
        Err(none) => return Ok(none),
    };
    let (package, version) = (&of.package, &of.version);
    Ok(Answer::done(
        call,
        Exit::Fine,
        || DeprecateAnswer {
            package: package.to_string(),
            version: version.clone(),
            replaced_by: instead.map(ToString::to_string),
            taken_back: of.take_back,
            new,
            why: of.why.clone(),
        },
        || match (of.take_back, new) {
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
