//! `registry`: make one, look into one.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use yostel_answers::answers::share::{RegistryCreateAnswer, RegistryIndexAnswer, RegistryListAnswer};
use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::{SourceName, Word, nearest};
use yostel_flows::{FlowError, LoadedProject, contents, create_registry, write_index};

use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::word;
use crate::render::{Columns, Head, count, next_step};

/// Make a registry in a folder, or look into one
#[derive(Debug, Args)]
pub(crate) struct Registry {
    #[command(subcommand)]
    task: Task,
}

#[derive(Debug, Subcommand)]
enum Task {
    /// Make a registry in a folder that is empty or not there yet
    Create {
        /// The folder, or a source of the manifest that has none yet
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
    /// List what a registry holds
    List {
        /// A source of the manifest, or a folder
        registry: String,
    },
}

/// Returns the folder of a registry, which is named as a source of the manifest, where there is one, or by its folder.
fn registry_folder(named: &str, project: Option<&LoadedProject>, call: &Call) -> PathBuf {
    let source = word(named).ok().and_then(|name: SourceName| {
        project.and_then(|project| Some(project.root.join(project.manifest().sources.get(&name)?.place.folder()?)))
    });
    source.unwrap_or_else(|| call.folder.join(named))
}

/// Refuses what is on a web server: nothing can be written there.
fn refuse_web(named: &str, project: Option<&LoadedProject>, call: &Call) -> Result<(), Answer> {
    let declared = word(named).ok().and_then(|name| project?.manifest().sources.get(&name));
    let Some(declared) = declared.filter(|declared| declared.place.folder().is_none()) else { return Ok(()) };
    let headline = format!("source {named} is on a web server, {}, which cannot be written to", declared.place);
    let next = "name the folder that the server serves";
    Err(failure_of(&[Diagnostic::new(Code::NoSuchRegistry, headline, next)], Exit::Usage, call.format))
}

/// Like [`registry_folder`], of one that is there; else the answer that says so.
pub(super) fn registry_there(named: &str, project: Option<&LoadedProject>, call: &Call) -> Result<PathBuf, Answer> {
    refuse_web(named, project, call)?;
    let folder = registry_folder(named, project, call);
    if folder.exists() {
        return Ok(folder);
    }
    let sources: Vec<&str> =
        project.map_or_else(Vec::new, |project| project.manifest().sources.keys().map(Word::as_str).collect());
    let headline = match sources.contains(&named) {
        true => format!("source {named}: there is no folder {}", call.show(&folder)),
        false => format!("`{named}` is neither a source of the manifest nor a folder"),
    };
    let near = nearest(named, sources.iter().copied().filter(|source| *source != named));
    let make = Suggestion::run(format!("yostel registry create {named}"), "to make one there");
    let diagnostic = match near {
        Some(near) => {
            let exists = format!("{near} exists, if that is the one");
            Diagnostic::new(Code::NoSuchRegistry, headline, exists).or(make)
        }
        None => Diagnostic::new(Code::NoSuchRegistry, headline, make),
    };
    Err(failure_of(&[diagnostic], Exit::Usage, call.format))
}

pub(crate) fn run(arguments: Registry, call: &Call) -> Result<Answer, FlowError> {
    match arguments.task {
        Task::Create { registry, name } => {
            let project = call.manifests().ok();
            if let Err(refused) = refuse_web(&registry, project.as_ref(), call) {
                return Ok(refused);
            }
            let path = registry_folder(&registry, project.as_ref(), call);
            let of_folder = || path.file_name().map_or_else(|| "registry".into(), |n| n.to_string_lossy().into_owned());
            let made = create_registry(&path, &name.unwrap_or_else(of_folder))?;
            let next = format!("in the folder of a package, yostel publish --to REGISTRY; this one is {registry}");
            Ok(Answer::done(
                call,
                Exit::Fine,
                || RegistryCreateAnswer { folder: path.clone(), name: made.name().to_owned() },
                || format!("Made the registry {} in {}.\n{}", made.name(), call.show(&path), next_step(next)),
            ))
        }
        Task::Index { registry } => index(&registry, call),
        Task::List { registry } => {
            let folder = match registry_there(&registry, call.manifests().ok().as_ref(), call) {
                Ok(folder) => folder,
                Err(none) => return Ok(none),
            };
            let (name, documents) = contents(&folder)?;
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
                let newest = document.newest();
                let withdrawn = document.releases.iter().filter(|r| r.withdrawn.is_some()).count();
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
        Ok(folder) => folder,
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
