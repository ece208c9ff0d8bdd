//! `explain`: why a package is here, why at this version, and what another would take.

use clap::Args;
use jiff::Timestamp;
use yostel_answers::answers::look::ExplainAnswer;
use yostel_answers::answers::releases::ReleasesTold;
use yostel_documents::PackageName;
use yostel_flows::{Counterfactual, ExplainReport, FlowError, Instead, explain, releases};
use yostel_resolve::{Reason, Why, WithinReach};

use super::releases::words;
use crate::answer::Answer;
use crate::call::Call;
use crate::commands::decide::lock::moves;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::{Columns, Head, Role, count, indented, join, next_step, note, paint};
use yostel_answers::words::{Telling, day, notice_words, story};

/// How many newer releases are told one by one.
const TOLD: usize = 5;

/// Tell why a package is here, why at this version, and what another would take
#[derive(Debug, Args)]
pub(crate) struct Explain {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,

    /// Resolve with this version instead, whatever the project itself says of it: what would move, or what prevents it
    #[arg(long, value_name = "VERSION")]
    instead: Option<String>,

    /// List all releases that there are, of a package that is not locked too: days, marks, notes
    #[arg(long, conflicts_with = "instead")]
    releases: bool,
}

pub(crate) fn run(arguments: Explain, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    if arguments.releases {
        let report = releases(&project, &arguments.package, &call.context())?;
        if call.json() {
            let told = ExplainAnswer::Releases(ReleasesTold::from(&report));
            return Ok(Answer::document(call, Exit::Fine, &told));
        }
        return Ok(Answer::words(Exit::Fine, words(&report)));
    }
    let asked = arguments.instead.as_deref();
    let report = explain(&project, &arguments.package, asked, &call.context())?;
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &ExplainAnswer::Package(Box::new((&report).into()))));
    }
    let text = match (&report.instead, asked) {
        (Some(instead), Some(_)) => format!("{}{}", heading(&report.why), other(instead, &report.why)),
        (instead, _) => {
            let mut text = heading(&report.why) + &particulars(&report) + &here(&report.why) + &newer(&report.why);
            if let Some(instead) = instead {
                text.push_str(&other(instead, &report.why));
            } else if let Some(newest) =
                report.why.newer.iter().find(|newer| matches!(newer.reason, Reason::NotAccepted(_)))
            {
                let (package, version) = (&arguments.package, &newest.version);
                let next = format!("yostel explain {package} --instead {version}");
                text.push_str(&next_step(next));
            }
            text
        }
    };
    Ok(Answer::words(Exit::Fine, text))
}

fn heading(why: &Why) -> String {
    format!("{}\n", paint(Role::Title, format!("{} {}", why.package, why.locked)))
}

/// What is particular about it: what its registry says of it since, and what the manifest says of it.
fn particulars(report: &ExplainReport) -> String {
    let package = &report.why.package;
    let mut text = String::new();
    if let Some(notice) = &report.notice {
        text.push_str(&note(notice_words(notice)));
    }
    if report.forced {
        text.push_str("  is forced to this version: [force] in yostel.toml\n");
    }
    if !report.stands_in_for.is_empty() {
        let others: Vec<String> = report.stands_in_for.iter().map(ToString::to_string).collect();
        text.push_str(&format!("  stands in for {}: [swap] in yostel.toml\n", join(&others)));
    }
    if report.altered {
        text.push_str(&format!("  is changed by a patch of this project: yostel alter {package} --show\n"));
    }
    text
}

/// Why it is here: the ways that lead to it, and who asks for what.
fn here(why: &Why) -> String {
    let mut text = String::new();
    for way in why.ways.iter().take(3) {
        let mut names: Vec<String> = way.iter().map(|(asker, _)| asker.to_string()).collect();
        names.push(format!("{} {}", why.package, why.locked));
        text.push_str(&indented(2, format!("is here through {}", names.join(" > "))));
    }
    if why.ways.len() > 3 {
        text.push_str(&format!("  and {} more ways\n", why.ways.len() - 3));
    }
    let mut columns = Columns::new([Head::package("asked for by"), Head::words("accepts"), Head::plain("for")]);
    for asked in &why.asked_by {
        let purpose = if asked.who.is_project() { asked.purpose.to_string() } else { String::new() };
        columns.row([asked.who.to_string(), asked.accept.to_string(), purpose]);
    }
    text.push_str(&columns.finish());
    for (version, asked_by) in &why.beside {
        let asked: Vec<String> = asked_by.iter().map(|asked| format!("{} {}", asked.who, asked.accept)).collect();
        text.push_str(&note(format!("{version} is installed too, for {}", join(&asked))));
    }
    text
}

/// Says since when a release is there, and from when it counts.
fn too_young(published: Timestamp, counts_from: Option<Timestamp>) -> String {
    let from = counts_from.map_or_else(String::new, |from| format!(", counts from {}", day(from)));
    format!("too young: published {}{from}", day(published))
}

fn newer(why: &Why) -> String {
    if why.newer.is_empty() {
        return "  It is the newest there is.\n".into();
    }
    let mut columns = Columns::new([Head::plain("newer"), Head::words("kept out by")]);
    for not_taken in why.newer.iter().take(TOLD) {
        let reason = match &not_taken.reason {
            Reason::NotAccepted(holders) => {
                let held: Vec<String> =
                    holders.iter().map(|h| format!("{} accepts only {}", h.who, h.accept)).collect();
                join(&held)
            }
            Reason::Withdrawn(withdrawal) => format!("withdrawn {}: {}", day(withdrawal.on), withdrawal.why),
            Reason::Unserved(platform) => format!("offers nothing for {platform}"),
            Reason::PublishedLater(published) => format!("published {}, after the day asked for", day(*published)),
            Reason::TooYoung(published, from) => too_young(*published, *from),
            Reason::NeverMet(package) => format!("needs {package}, and no release of {package} fits"),
            Reason::Accepted => "all needs allow it; see below".into(),
        };
        columns.row([not_taken.version.to_string(), reason]);
    }
    let more = why.newer.len().saturating_sub(TOLD);
    let more = if more > 0 { format!("  and {} below these\n", count(more, "release")) } else { String::new() };
    columns.finish() + &more
}

fn other(instead: &Instead, why: &Why) -> String {
    let (version, package) = (&instead.version, &why.package);
    // An older one has to be named exactly, or the newer that is locked would still do.
    let accept = if *version < why.locked { format!("={version}") } else { format!("^{version}") };
    let aside: Vec<String> =
        instead.set_aside.iter().map(|requirement| format!("{} {}", requirement.package, requirement.accept)).collect();
    let need = (!aside.is_empty()).then(|| format!("your own need, {}, is changed", join(&aside)));
    let force = instead.unforced.then(|| "[force] names it no longer".to_owned());
    let aside: Vec<String> = need.into_iter().chain(force).collect();
    let aside = if aside.is_empty() { String::new() } else { format!(" once {}", join(&aside)) };
    match &instead.outcome {
        Counterfactual::Possible(moved) if moved.is_empty() => {
            format!("  {package} {version} is what is locked.\n")
        }
        Counterfactual::Possible(moved) => {
            let others = moved.iter().filter(|m| m.package != *package).count();
            let others = match others {
                0 => "it alone would move".to_owned(),
                others => format!("{others} more would move, which is the fewest"),
            };
            let next = match instead.unforced {
                true => format!("take {package} out of [force], then yostel add {package} '{accept}' and yostel lock"),
                false => format!("yostel add {package} '{accept}', then yostel lock"),
            };
            format!(
                "  {package} {version} is possible{aside}; {others}:\n{}{}",
                moves(moved, usize::MAX, ""),
                next_step(next)
            )
        }
        Counterfactual::Impossible { collision, demand, places, rules } => {
            let aside_too = if aside.is_empty() { String::new() } else { format!(", not even{aside}") };
            let lines: Vec<String> = story(collision, &Telling { places, rules, asked: Some(demand) })
                .iter()
                .map(|line| format!("    {}\n", crate::sanitise::sanitise(&line.to_string())))
                .collect();
            let of_it = |reach: &&WithinReach| reach.package == *package && reach.accept == demand.accept;
            let is_barred = collision.reach.iter().find(of_it).is_some_and(|reach| !reach.barred.is_empty());
            let next = match is_barred {
                true => {
                    format!(
                        "write {package} = {{ version = \"{version}\", why = \"…\" }} below [admit], if it must be this one"
                    )
                }
                false => {
                    format!("yostel add {package} '{accept}', then yostel settle, for the smallest edits that allow it")
                }
            };
            format!("  {package} {version} is not possible{aside_too}:\n{}{}", lines.concat(), next_step(next))
        }
    }
}
