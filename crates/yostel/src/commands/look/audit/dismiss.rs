//! `audit dismiss`: say that an advisory does not affect the project, and why.

use clap::Args;
use jiff::civil::Date;
use yostel_answers::answers::dismiss::DismissAnswer;
use yostel_documents::{PackageName, VEX_JUSTIFICATIONS};
use yostel_findings::Threat;
use yostel_flows::{DismissRequest, FlowError, Saying, dismiss};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::{count, indented, join, next_step, note};

/// Say that an advisory does not affect the project, and why
///
/// It is written down as an OpenVEX statement in yostel.openvex.json, beside the manifest, and counts for the releases that
/// are locked now: another one has to be looked at again. Others may read the file too.
#[derive(Debug, Args)]
pub(crate) struct Dismiss {
    /// The advisory, by any of its names
    id: String,

    /// Why it does not affect the project
    #[arg(long, value_name = "TEXT", required_unless_present = "take_back")]
    why: Option<String>,

    /// The same as a word of the OpenVEX specification
    #[arg(long, value_name = "REASON", value_parser = justification)]
    because: Option<&'static str>,

    /// The last day on which that counts; for good when it is left out
    #[arg(long, value_name = "DATE", value_parser = super::last_day)]
    until: Option<Date>,

    /// Only for this package. May be repeated; all that it affects when it is left out
    #[arg(long = "package", value_name = "PACKAGE", value_parser = package_name)]
    packages: Vec<PackageName>,

    /// Who says it; the project when it is left out
    #[arg(long, value_name = "NAME")]
    author: Option<String>,

    /// Take back what was said of it
    #[arg(long, conflicts_with_all = ["why", "because", "until", "author"])]
    take_back: bool,
}

fn justification(text: &str) -> Result<&'static str, String> {
    let written = text.replace('-', "_");
    let known = VEX_JUSTIFICATIONS.into_iter().find(|known| *known == written);
    known.ok_or_else(|| format!("the reasons are {}", VEX_JUSTIFICATIONS.join(", ").replace('_', "-")))
}

pub(super) fn run(arguments: Dismiss, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let Dismiss { id, why, because, until, packages, author, .. } = arguments;
    let say = why.map(|why| Saying { why, justification: because, until, author });
    let request = DismissRequest { id, packages: packages.into_iter().collect(), say };
    let report = dismiss(&project, &request, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || DismissAnswer::from(&report),
        || {
            let (id, file) = (&report.id, call.show(&report.path));
            if report.taken_back > 0 {
                let said = count(report.taken_back, "statement");
                return indented(0, format!("Took back {said} on {id} in {file}."))
                    + &next_step("yostel audit advisories");
            }
            let names = |threats: &[Threat]| {
                let names = threats.iter().map(|threat| format!("{} {}", threat.package, threat.version));
                join(&names.collect::<Vec<String>>())
            };
            let until = until.map(|until| format!(" until {until}")).unwrap_or_default();
            if !report.contradicted.is_empty() {
                let of = names(&report.contradicted);
                let says = format!("{id} still counts for {of}: another document says otherwise, and is dated later");
                return indented(0, format!("Wrote that into {file}."))
                    + &note(says)
                    + &next_step("yostel audit advisories");
            }
            let of = names(&report.dismissed);
            let said = indented(0, format!("{id} does not count for {of}{until}, says {file} now."));
            said + &next_step(format!("commit {file}, so that it holds for everybody"))
        },
    ))
}
