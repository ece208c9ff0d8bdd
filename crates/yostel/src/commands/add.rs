//! `add`: declare a need, and hear what it admits today.

use clap::Args;
use serde_json::json;
use yostel_core::{Accept, Diagnostic, NeedForm, PackageName, Purpose, Version};
use yostel_flows::{AddReport, AddRequest, FlowError, GatherReport, LoadedProject, add, gather_agreed};

use super::{Answer, origin_document, package_name, word};
use crate::context::{Context, failure_of};
use crate::diagnostic::bad_accept;
use crate::exit::Exit;
use crate::render::{Role, count, join, paint};

/// Add a need to the manifest, or change its constraint
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// The package
    #[arg(value_parser = package_name, required_unless_present = "move_to_agreed")]
    package: Option<PackageName>,

    /// Which versions will do, like '^2.1' or '>=2.1, <3'; what is compatible with the newest when left out
    constraint: Option<String>,

    /// What it is for: run (ships with the project), build, test, or a word of your own
    #[arg(long = "for", value_name = "PURPOSE", default_value = "run", value_parser = word)]
    purpose: Purpose,

    /// Agree on the constraint for every package, whoever asks, and need what is agreed
    #[arg(long)]
    agreed: bool,

    /// Move constraints that two or more projects have in common to what is agreed; of this package, or of all
    #[arg(long, conflicts_with_all = ["agreed", "why", "constraint", "purpose"])]
    move_to_agreed: bool,

    /// Why this need deviates from what is agreed
    #[arg(long, value_name = "WHY", conflicts_with = "agreed")]
    why: Option<String>,
}

pub(crate) fn run(arguments: Add, context: &Context) -> Result<Answer, FlowError> {
    let project = context.project()?;
    let Some(package) = arguments.package.clone().filter(|_| !arguments.move_to_agreed) else {
        return gather(arguments.package.as_slice(), &project, context);
    };
    let accept = match arguments.constraint.as_deref().map(Accept::parse).transpose() {
        Ok(accept) => accept,
        Err(error) => {
            let diagnostic: Diagnostic = bad_accept(&error, Some(&package));
            return Ok(failure_of(&[diagnostic], Exit::Usage, context.format));
        }
    };
    let report = add(
        &project,
        AddRequest { package, accept, purpose: arguments.purpose, agreed: arguments.agreed, why: arguments.why },
    )?;
    let texts = |versions: &[Version]| versions.iter().map(ToString::to_string).collect::<Vec<_>>();
    Ok(Answer::either(
        context,
        Exit::Fine,
        "add",
        || {
            json!({
                "manifest": report.path,
                "package": report.package.as_str(),
                "purpose": report.purpose.as_str(),
                "accept": report.accept.as_str(),
                "agreed": report.form == NeedForm::Agreed,
                "means": report.constraint.to_words(),
                "before": report.before,
                "source": origin_document(&report.source),
                "admitted": texts(&report.admitted),
                "newest-not-admitted": report.newest_not_admitted.as_ref().map(ToString::to_string),
                "bounded-above": report.constraint.is_bounded_above(),
            })
        },
        || words(&report, context),
    ))
}

fn gather(only: &[PackageName], project: &LoadedProject, context: &Context) -> Result<Answer, FlowError> {
    let GatherReport { path, gathered, apart } = gather_agreed(project, only)?;
    let names = |names: &[PackageName]| names.iter().map(ToString::to_string).collect::<Vec<_>>();
    Ok(Answer::either(
        context,
        Exit::Fine,
        "add",
        || {
            json!({
                "manifest": path,
                "agreed": gathered.iter().map(|(package, (accept, projects))| json!({
                    "package": package.as_str(), "accept": accept.as_str(), "projects": names(projects),
                })).collect::<Vec<_>>(),
                "apart": apart.iter().map(|(package, needs)| json!({
                    "package": package.as_str(),
                    "needs": needs.iter().map(|(project, accept)| json!({
                        "project": project.as_str(), "accept": accept.as_str(),
                    })).collect::<Vec<_>>(),
                })).collect::<Vec<_>>(),
            })
        },
        || {
            let mut text = match gathered.len() {
                0 => "No two projects have a constraint in common that is not agreed on yet.\n".to_owned(),
                number => format!("Agreed on {} in {}:\n", count(number, "constraint"), context.show(&path)),
            };
            for (package, (accept, projects)) in &gathered {
                text.push_str(&format!("  {package} {accept}, which {} had\n", join(&names(projects))));
            }
            for (package, needs) in &apart {
                let needs: Vec<String> = needs.iter().map(|(who, accept)| format!("{who} {accept}")).collect();
                let note = paint(Role::Notice, "note:");
                text.push_str(&format!("  {note} {package} stays as it is: {}\n", join(&needs)));
            }
            if !gathered.is_empty() {
                text.push_str(&format!("{} yostel lock\n", paint(Role::Good, "next:")));
            }
            text
        },
    ))
}

fn words(report: &AddReport, context: &Context) -> String {
    let AddReport { package, accept, .. } = report;
    let mut text = match &report.before {
        before if report.form == NeedForm::Agreed => {
            let verb = if before.is_some() { "Changed" } else { "Added" };
            let path = context.show(&report.path);
            format!("{verb} {package} to what is agreed, {accept}, for {} in {path}.\n", report.purpose)
        }
        Some(before) if before == accept.as_str() => {
            format!("{package} {accept} was in {} already.\n", context.show(&report.path))
        }
        Some(before) => format!("Changed {package} from {before} to {accept} in {}.\n", context.show(&report.path)),
        None => {
            format!("Added {package} {accept} to [needs.{}] in {}.\n", report.purpose, context.show(&report.path))
        }
    };
    let newest = report.admitted.last().map(ToString::to_string).unwrap_or_default();
    let shown: Vec<String> = report.admitted.iter().rev().take(4).map(ToString::to_string).collect();
    let more = report.admitted.len().saturating_sub(shown.len());
    let more = if more > 0 { format!(" and {more} older") } else { String::new() };
    text.push_str(&format!("  It admits {}.\n", report.constraint.to_words()));
    text.push_str(&format!(
        "  Today that is {} of {} in {}: {}{more}; the newest is {}.\n",
        report.admitted.len(),
        count(report.releases, "release"),
        report.source,
        shown.join(", "),
        paint(Role::Title, &newest),
    ));
    if let Some(newer) = &report.newest_not_admitted {
        text.push_str(&format!("  {} {newer} is newer and not admitted.\n", paint(Role::Notice, "note:")));
    }
    if report.withdrawn > 0 {
        let withdrawn = count(report.withdrawn, "withdrawn release");
        text.push_str(&format!("  {} {withdrawn} left out.\n", paint(Role::Notice, "note:")));
    }
    if let Some((why, instead)) = &report.deprecated {
        let instead = instead.as_ref().map(|name| format!("; {name} took its place")).unwrap_or_default();
        text.push_str(&format!("  {} given up by its author: {why}{instead}.\n", paint(Role::Notice, "warning:")));
    }
    if !report.constraint.is_bounded_above() {
        let advice = format!("a breaking release would be taken in. Bounded: yostel add {package} '^{newest}'");
        text.push_str(&format!("  {} nothing bounds it from above, so {advice}\n", paint(Role::Notice, "warning:")));
    }
    text.push_str(&format!("{} yostel lock\n", paint(Role::Good, "next:")));
    text
}
