//! `registry copy`: bring releases from one registry into another.

use std::collections::BTreeSet;

use clap::Args;
use yostel_answers::answers::share::RegistryCopyAnswer;
use yostel_documents::{NamePattern, PackageName, SourceName, SourcePlace};
use yostel_flows::{
    CopyFrom, CopyReport, CopyWhat, FlowError, LoadedProject, LockError, RegistryTarget, Renamed, copy_registry,
    load_lockfile,
};
use yostel_sources::RegistryPlace;

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::share::place::{Named, named, registry_there, shown};
use crate::exit::Exit;
use crate::render::{count, note, size};

/// How many versions of a package are named before the rest is counted.
const MOST_NAMED: usize = 4;

#[derive(Debug, Args)]
pub(crate) struct Copy {
    /// Where from: a source of the manifest, a folder, oci://HOST/NAME, or an address of the web
    from: String,

    /// Where to: a source of the manifest, a folder, or oci://HOST/NAME
    to: String,

    /// Copy only packages of these names, or `level/*`
    #[arg(value_name = "NAME", value_parser = pattern)]
    names: Vec<NamePattern>,

    /// Copy only the versions that the project's lockfile holds
    #[arg(long, conflicts_with = "names")]
    locked: bool,
}

fn pattern(text: &str) -> Result<NamePattern, String> {
    NamePattern::parse(text).map_err(|error| error.to_string())
}

/// Returns where a registry is that is only read.
fn place_of(text: &str, project: Option<&LoadedProject>, call: &Call) -> Result<CopyFrom, Answer> {
    let Named { name, place, root, certificates } = named(text, project, call)?;
    let place = match place {
        SourcePlace::Folder(folder) => {
            if name.is_none() {
                registry_there(text, project, call)?;
            }
            RegistryPlace::Folder(root.join(folder))
        }
        SourcePlace::Web(addresses) => RegistryPlace::Web(addresses),
        SourcePlace::Oci(places) => RegistryPlace::Oci(places),
    };
    Ok(CopyFrom { name, place, certificates })
}

pub(super) fn run(arguments: Copy, call: &Call) -> Result<Answer, FlowError> {
    let project = if arguments.locked { Some(call.manifests()?) } else { call.manifests().ok() };
    let from = match place_of(&arguments.from, project.as_ref(), call) {
        Ok(from) => from,
        Err(none) => return Ok(none),
    };
    let to = match registry_there(&arguments.to, project.as_ref(), call) {
        Ok(to) => to,
        Err(none) => return Ok(none),
    };
    let what = match project.as_ref().filter(|_| arguments.locked) {
        Some(project) => CopyWhat::Versions(locked(project, &from)?),
        None => CopyWhat::Named(arguments.names),
    };
    let report = copy_registry(from, &to, &what, &call.context())?;
    let differs = report.packages.values().any(|copied| !copied.differing.is_empty());
    let exit = match (differs, report.missing.is_empty()) {
        (true, _) => Exit::Integrity,
        (false, false) => Exit::Usage,
        (false, true) => Exit::Fine,
    };
    Ok(Answer::done(call, exit, || RegistryCopyAnswer::of(&report), || told(&report, &to, call)))
}

/// Lists the locked versions that come from a source, or from any when it is none of the manifest.
fn locked(project: &LoadedProject, from: &CopyFrom) -> Result<BTreeSet<(PackageName, String)>, FlowError> {
    let lockfile = load_lockfile(project)?.ok_or_else(|| LockError::NoLockfile(project.lockfile_path()))?;
    let is_from = |source: Option<&SourceName>| match &from.name {
        Some(name) => source == Some(name),
        None => source.is_some(),
    };
    let chosen = lockfile.chosen.iter().filter(|(_, locked)| is_from(locked.from.source()));
    Ok(chosen.map(|(name, locked)| (name.clone(), locked.version.to_string())).collect())
}

fn told(report: &CopyReport, to: &RegistryTarget, call: &Call) -> String {
    let sum = |of: fn(&yostel_flows::CopiedPackage) -> usize| report.packages.values().map(of).sum::<usize>();
    let (new, there, said) =
        (sum(|copied| copied.new.len()), sum(|copied| copied.there.len()), sum(|copied| copied.said.len()));
    let bytes: u64 = report.packages.values().map(|copied| copied.bytes).sum();
    let mounted = sum(|copied| copied.mounted);
    let were = |many: usize| format!("{} {}", count(many, "archive"), if many == 1 { "was" } else { "were" });
    let packages = report.packages.values().filter(|copied| !copied.new.is_empty()).count();
    let place = shown(to, call);
    let before =
        format!("{} {} there already", count(there + said, "release"), if there + said == 1 { "was" } else { "were" });
    let mut text = match (new, there + said) {
        (0, 0) => format!("Nothing was copied to {place}.\n"),
        (0, _) => format!("{place} has all of it: {before}.\n"),
        (_, rest) => {
            let copied = format!("Copied {} of {} to {place}", count(new, "release"), count(packages, "package"));
            let before = if rest == 0 { String::new() } else { format!("; {before}") };
            let carried = match mounted {
                0 => size(bytes),
                _ if bytes == 0 => format!("{} on the server already", were(mounted)),
                _ => format!("{}; {} on the server already", size(bytes), were(mounted)),
            };
            format!("{copied} ({carried}){before}.\n")
        }
    };
    if said > 0 {
        text.push_str(&format!(
            "  News of {} came along: withdrawn, deprecated, taken back, or one more platform.\n",
            count(said, "release")
        ));
    }
    if report.advisories > 0 {
        text.push_str(&format!(
            "  {} with advisories {} new or changed.\n",
            count(report.advisories, "file"),
            if report.advisories == 1 { "is" } else { "are" }
        ));
    }
    if let Some(Renamed { from, to, advisories }) = &report.renamed {
        let (are, they_count) = if *advisories == 1 { ("is", "it counts") } else { ("are", "they count") };
        text.push_str(&note(format!(
            "{} with advisories {are} about packages of {from}, so {they_count} for nothing in this registry, which is \
             called {to}; in one made with `--name {from}`, {they_count}",
            count(*advisories, "file"),
        )));
    }
    for (package, copied) in report.packages.iter().filter(|(_, copied)| !copied.differing.is_empty()) {
        let versions = some(&copied.differing);
        text.push_str(&note(format!(
            "{package} {versions}: published there with other content; nothing of it was changed"
        )));
    }
    for (package, version) in report.missing.iter().take(MOST_NAMED) {
        let version = version.as_ref().map_or_else(String::new, |version| format!(" {version}"));
        text.push_str(&note(format!("{package}{version} is not in the registry that was copied from")));
    }
    if report.missing.len() > MOST_NAMED {
        text.push_str(&note(format!("nor are {} more", report.missing.len() - MOST_NAMED)));
    }
    text
}

fn some(versions: &[String]) -> String {
    match versions.len() {
        0..=MOST_NAMED => versions.join(", "),
        all => format!("{} and {} more", versions[..MOST_NAMED].join(", "), all - MOST_NAMED),
    }
}
