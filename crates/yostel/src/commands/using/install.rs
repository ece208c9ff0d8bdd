//! `install`: exactly what the lockfile says, or nothing.

use clap::Args;
use yostel_answers::answers::using::InstallAnswer;
use yostel_answers::words::notice_words;
use yostel_documents::{PackageName, Purpose};
use yostel_flows::{FlowError, InstallReport, InstallRequest, install, install_again};
use yostel_store::{Placing, altered_folder};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::{GoOn, package_name, word};
use crate::render::{Role, below, count, note, size};

/// Install exactly what the lockfile says, or nothing
///
/// Everything is fetched and checked before anything changes. The last line is one digest over all that is installed:
/// equal digests mean equal trees, on any machine.
#[derive(Debug, Args)]
pub(crate) struct Install {
    /// Ask no source; the cache must hold everything
    #[arg(long)]
    offline: bool,

    /// Install for another platform than this machine's, like linux/arm64
    #[arg(long, value_name = "PLATFORM")]
    platform: Option<String>,

    /// Only what is needed for this purpose, like run for what ships; may be repeated
    #[arg(long = "for", value_name = "PURPOSE", value_parser = word)]
    purposes: Vec<Purpose>,

    /// Only what this project of the workspace needs, and what those packages need; may be repeated
    #[arg(long, value_name = "PROJECT", value_parser = package_name)]
    needed_by: Vec<PackageName>,

    /// Real files, no link out of the project: for containers, and for copying the project elsewhere
    #[arg(long, conflicts_with = "whole_trees", env = "YOSTEL_SELF_CONTAINED", hide_env_values = true)]
    self_contained: bool,

    /// One link per package into the cache: fastest, but broken once the cache is gone
    #[arg(long)]
    whole_trees: bool,

    /// Trust the record of the last install instead of looking at every installed file
    #[arg(long)]
    quick: bool,

    /// Name what was fetched
    #[arg(short, long, conflicts_with = "quiet")]
    verbose: bool,
}

pub(crate) fn run(arguments: Install, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let placing = match (arguments.self_contained, arguments.whole_trees) {
        (true, _) => Placing::Copy,
        (_, true) => Placing::LinkTrees,
        _ => Placing::LinkFiles,
    };
    let request = InstallRequest {
        offline: arguments.offline,
        platform: arguments.platform,
        placing,
        purposes: arguments.purposes.into_iter().collect(),
        projects: arguments.needed_by.into_iter().collect(),
        quick: arguments.quick,
    };
    let report = install(&project, &request, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || InstallAnswer::from(&report),
        || words(&report, arguments.self_contained, arguments.verbose),
    ))
}

/// Installs what another command led to, if that was asked for.
pub(crate) fn go_on_to_install(go_on: GoOn, call: &Call) -> Result<Option<InstallReport>, FlowError> {
    go_on.install.then(|| install_again(&call.project()?, &call.context())).transpose()
}

/// Tells an install that followed another command.
pub(crate) fn words_after(report: Option<&InstallReport>) -> String {
    report.map(|report| words(report, false, false)).unwrap_or_default()
}

/// How many releases are told of that something was said of since they were published.
const MOST_NOTICES: usize = 3;

fn words(report: &InstallReport, self_contained: bool, verbose: bool) -> String {
    let packages = count(report.packages, "package");
    let mut text = match &report.done {
        None => format!("{packages} installed; nothing to do.\n"),
        Some(done) => {
            let mut parts = Vec::new();
            if !report.fetched.is_empty() {
                let bytes = report.fetched.iter().map(|(_, _, bytes)| bytes).sum();
                parts.push(format!("{} fetched ({})", report.fetched.len(), size(bytes)));
            }
            let cached = done.placed.len().saturating_sub(report.fetched.len());
            if cached > 0 {
                parts.push(format!("{cached} from the cache"));
            }
            let there = report.packages.saturating_sub(done.placed.len() + done.replaced.len());
            if there > 0 {
                parts.push(format!("{there} already there"));
            }
            if done.removed > 0 {
                parts.push(format!("{} removed", done.removed));
            }
            match parts.is_empty() {
                true => "Nothing to install: the lockfile has no packages.\n".to_owned(),
                false => format!("Installed {packages}: {}.\n", parts.join(", ")),
            }
        }
    };
    for replaced in report.done.iter().flat_map(|done| &done.replaced) {
        let files: Vec<&str> = replaced.differences.iter().take(3).map(|difference| difference.path()).collect();
        let more = replaced.differences.len().saturating_sub(files.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let says = format!("{} had been changed here ({}{more})", replaced.package, files.join(", "));
        text.push_str(&below(Role::Notice, "put back:", says));
    }
    for (package, version) in &report.put_back {
        let says = format!("the cache's copy of {package} {version} had been changed");
        text.push_str(&below(Role::Notice, "put back:", says));
    }
    for notice in report.notices.iter().take(MOST_NOTICES) {
        text.push_str(&note(notice_words(notice)));
    }
    if report.notices.len() > MOST_NOTICES {
        text.push_str(&format!("  and {} more: yostel audit notices\n", report.notices.len() - MOST_NOTICES));
    }
    for package in &report.open {
        text.push_str(&open_note(package));
    }
    if verbose {
        for (package, version, bytes) in &report.fetched {
            text.push_str(&format!("  fetched {package} {version}, {}\n", size(*bytes)));
        }
    }
    let copied = report.done.as_ref().map_or(0, |done| done.copied);
    if copied > 0 && self_contained {
        text.push_str(&format!(
            "  {} of their own; nothing leads out of the project\n",
            count(copied as usize, "file")
        ));
    } else if copied > 0 && verbose {
        text.push_str(&format!("  {copied} files copied, since the cache is on another file system\n"));
    }
    if let Some(reason) = report.done.as_ref().and_then(|done| done.unrecorded.as_ref()) {
        text.push_str(&note("the cache cannot note this install, so the next one looks at every file again"));
        text.push_str(&note(reason));
    }
    text.push_str(&format!("  digest {}\n", report.digest));
    text
}

/// Says that a package is open for changes.
pub(super) fn open_note(package: &PackageName) -> String {
    let folder = altered_folder(package);
    note(format!("{package} is open for changes in {folder} and stays as it is"))
}
