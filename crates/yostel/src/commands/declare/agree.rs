//! `agree`: move constraints that projects have in common to `[agreed]`.

use clap::Args;
use yostel_answers::answers::declare::AgreeAnswer;
use yostel_documents::PackageName;
use yostel_flows::{AgreeReport, FlowError, agree};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::{count, join, next_step, note};

/// Agree once on the constraints that several projects share
///
/// A package that two or more projects need with the same constraint gets that constraint in the root manifest's table of what is
/// agreed, and their needs say "agreed". One that they need with different constraints stays as it is, and is reported.
#[derive(Debug, Args)]
pub(crate) struct Agree {
    /// Only those of these packages
    #[arg(value_name = "PACKAGE", value_parser = package_name)]
    packages: Vec<PackageName>,
}

pub(crate) fn run(arguments: Agree, call: &Call) -> Result<Answer, FlowError> {
    let project = call.manifests()?;
    let report = agree(&project, &arguments.packages, &call.context())?;
    let AgreeReport { path, gathered, apart } = &report;
    let names = |names: &[PackageName]| names.iter().map(ToString::to_string).collect::<Vec<_>>();
    Ok(Answer::done(
        call,
        Exit::Fine,
        || AgreeAnswer::from(&report),
        || {
            let mut text = match gathered.len() {
                0 => "There is nothing to agree on: no package that several projects need has the same constraint in all of them.\n"
                    .to_owned(),
                number => format!("Agreed on {} in {}:\n", count(number, "constraint"), call.show(path)),
            };
            for (package, (accept, projects)) in gathered {
                text.push_str(&format!("  {package} {accept}, which {} had\n", join(&names(projects))));
            }
            for (package, needs) in apart {
                let needs: Vec<String> = needs.iter().map(|(who, accept)| format!("{who} {accept}")).collect();
                text.push_str(&note(format!("{package} stays as it is: {}", join(&needs))));
            }
            if !gathered.is_empty() {
                text.push_str(&next_step("yostel lock"));
            }
            text
        },
    ))
}
