//! `init`: a first manifest.

use clap::Args;
use yostel_answers::answers::declare::InitAnswer;
use yostel_documents::{NameError, PackageName, SourceName};
use yostel_flows::{FlowError, InitRequest, SourceDoubt, init};

use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::{package_name, source_in, word};
use crate::render::{join, next_step, note};
use yostel_answers::words::{bad_name, shell_word};

/// Write a first manifest into this folder
#[derive(Debug, Args)]
pub(crate) struct Init {
    /// The project's name; the folder's name when left out
    #[arg(value_parser = package_name)]
    name: Option<PackageName>,

    /// Name a source in the manifest: a word, and the registry's folder
    #[arg(long, value_name = "NAME=FOLDER", value_parser = source_in)]
    source: Option<(SourceName, String)>,
}

pub(crate) fn run(arguments: Init, call: &Call) -> Result<Answer, FlowError> {
    let refuse = |error: &NameError| Ok(failure_of(&[bad_name(error)], Exit::Usage, call.format));
    let name = match arguments.name {
        Some(name) => name,
        None => {
            let folder = call.folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            match PackageName::parse(&folder) {
                Ok(name) => name,
                // The nearest name that works; it is told, and can be changed.
                Err(error) => match error.suggestion.as_deref().map(PackageName::parse) {
                    Some(Ok(name)) => name,
                    _ => return refuse(&error),
                },
            }
        }
    };
    let request = InitRequest { name, source: arguments.source };
    let report = init(&call.folder, &request, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || InitAnswer::of(&report, &request.name),
        || {
            let folder = request.source.as_ref().map(|(_, folder)| shell_word(folder)).unwrap_or_default();
            let doubt = match report.doubt {
                None if report.nearby.is_empty() => String::new(),
                None => {
                    let there = if report.nearby.len() == 1 { "there is a registry" } else { "there are registries" };
                    note(format!("{there} in {}", join(&report.nearby)))
                }
                Some(SourceDoubt::NoFolder) => note(format!("there is no folder {folder}")),
                Some(SourceDoubt::NoRegistry) => note(format!("there is no registry in {folder}")),
            };
            let next = match (&request.source, report.doubt) {
                (Some(_), None) => "yostel add NAME".to_owned(),
                (Some(_), Some(SourceDoubt::NoFolder)) => {
                    format!("yostel registry create {folder}, or correct the folder in yostel.toml")
                }
                (Some(_), Some(SourceDoubt::NoRegistry)) => "correct the folder in yostel.toml".to_owned(),
                (None, _) => match report.nearby.first() {
                    Some(near) => {
                        let near = shell_word(near);
                        format!("yostel sources add {} {near}, then yostel add NAME", source_name(&near))
                    }
                    None => "yostel sources add NAME FOLDER, with a registry's folder".to_owned(),
                },
            };
            let shown = call.show(&report.path);
            format!("Wrote {shown} for {}.\n{doubt}{}", request.name, next_step(next))
        },
    ))
}

/// Names a source like its folder, where that makes a name.
fn source_name(folder: &str) -> String {
    let last = folder.rsplit('/').find(|part| !part.is_empty()).unwrap_or_default();
    word(last).map_or_else(|_| "registry".to_owned(), |name| name.to_string())
}
