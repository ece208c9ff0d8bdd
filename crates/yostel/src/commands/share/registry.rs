//! `registry`: make one, look into one.

use clap::{Args, Subcommand};
use yostel_answers::answers::share::{RegistryCreateAnswer, RegistryIndexAnswer, RegistryListAnswer};
use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_flows::{FlowError, RegistryTarget, contents, create_registry, write_index};

use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::commands::share::place::{registry_there, shown, target};
use crate::exit::Exit;
use crate::render::{Columns, Head, count, next_step};

/// Make a registry, look into one, or copy releases from one to another
#[derive(Debug, Args)]
pub(crate) struct Registry {
    #[command(subcommand)]
    task: Task,
}

#[derive(Debug, Subcommand)]
enum Task {
    /// Make a registry in a folder that is empty or not there yet, or in an OCI registry
    Create {
        /// The folder, oci://HOST/NAME in an OCI registry, or a source of the manifest that has none yet
        registry: String,
        /// The registry's name; the folder's when left out
        #[arg(long)]
        name: Option<String>,
    },
    /// Write the index of a registry: over HTTP, it tells what the registry holds. Publishing does this itself
    Index {
        /// A source of the manifest, or a folder
        registry: String,
    },
    /// Copy releases from one registry to another: all, some packages, or what is locked. What is there already is not fetched
    Copy(super::copy::Copy),
    /// List what a registry holds
    List {
        /// A source of the manifest, a folder, or oci://HOST/NAME
        registry: String,
    },
}

pub(crate) fn run(arguments: Registry, call: &Call) -> Result<Answer, FlowError> {
    match arguments.task {
        Task::Create { registry, name } => {
            let project = call.manifests().ok();
            let target = match target(&registry, project.as_ref(), call) {
                Ok(target) => target,
                Err(refused) => return Ok(refused),
            };
            let last = |text: &str| text.rsplit('/').next().unwrap_or_default().to_owned();
            let of_place = || match &target {
                RegistryTarget::Folder(path) => {
                    path.file_name().map_or_else(|| "registry".into(), |n| n.to_string_lossy().into_owned())
                }
                RegistryTarget::Oci { place, .. } => last(place.prefix()),
            };
            let made = create_registry(&target, &name.unwrap_or_else(of_place), &call.settings)?;
            let next = format!("in the folder of a package, yostel publish --to REGISTRY; this one is {registry}");
            let place = shown(&target, call);
            Ok(Answer::done(
                call,
                Exit::Fine,
                || RegistryCreateAnswer { folder: target.folder().cloned(), place: place.clone(), name: made.clone() },
                || format!("Made the registry {made} in {place}.\n{}", next_step(next)),
            ))
        }
        Task::Index { registry } => index(&registry, call),
        Task::Copy(arguments) => super::copy::run(arguments, call),
        Task::List { registry } => {
            let target = match registry_there(&registry, call.manifests().ok().as_ref(), call) {
                Ok(target) => target,
                Err(none) => return Ok(none),
            };
            let (name, documents) = contents(&target, &call.settings)?;
            if call.json() {
                return Ok(Answer::document(call, Exit::Fine, &RegistryListAnswer::of(&name, &documents)));
            }
            let mut columns = Columns::new([
                Head::package("package"),
                Head::number("releases"),
                Head::plain("newest"),
                Head::plain("published").spare(),
                Head::words("remarks"),
            ]);
            for document in &documents {
                let newest = document.newest().map(|listed| listed.whole());
                let withdrawn = document.releases.iter().filter(|r| r.withdrawn().is_some()).count();
                let mut remarks = Vec::new();
                if withdrawn > 0 {
                    remarks.push(format!("{withdrawn} withdrawn"));
                }
                if let Some(newest) = newest.filter(|newest| newest.deprecated.is_some()) {
                    let instead = newest.replaced_by.as_ref().map(|name| format!(", use {name}")).unwrap_or_default();
                    remarks.push(format!("deprecated{instead}"));
                }
                columns.row([
                    document.name.to_string(),
                    document.releases.len().to_string(),
                    newest.map_or_else(|| "-".into(), |release| release.version.to_string()),
                    newest.map_or_else(String::new, |release| release.published.strftime("%Y-%m-%d").to_string()),
                    remarks.join(", "),
                ]);
            }
            let releases = documents.iter().map(|document| document.releases.len()).sum();
            let total = format!("{name}: {}, {}.\n", count(documents.len(), "package"), count(releases, "release"));
            Ok(Answer::words(Exit::Fine, columns.finish() + &total))
        }
    }
}

/// Writes down what a registry holds.
fn index(registry: &str, call: &Call) -> Result<Answer, FlowError> {
    let folder = match registry_there(registry, call.manifests().ok().as_ref(), call) {
        Ok(RegistryTarget::Folder(folder)) => folder,
        Ok(RegistryTarget::Oci { place, .. }) => {
            let headline = format!("{place} needs no index: an OCI registry lists what it has");
            let next = Suggestion::run(format!("yostel registry list {registry}"), "to see what it holds");
            return Ok(failure_of(&[Diagnostic::new(Code::NoSuchRegistry, headline, next)], Exit::Usage, call.format));
        }
        Err(none) => return Ok(none),
    };
    let (index, changed) = write_index(&folder)?;
    let (packages, advisories) = (index.packages.len(), index.advisories.len());
    let words = || {
        let (shown, packages) = (call.show(&folder), count(packages, "package"));
        let says = match changed {
            true => format!("Wrote the index of {shown}"),
            false => format!("The index of {shown} is up to date"),
        };
        format!("{says}: {packages}, {} with advisories.\n", count(advisories, "file"))
    };
    let answer = || RegistryIndexAnswer { folder: folder.clone(), packages, advisories, changed };
    Ok(Answer::done(call, Exit::Fine, answer, words))
}
