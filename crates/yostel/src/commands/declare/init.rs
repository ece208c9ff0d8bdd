//! `init`: a first manifest.

use clap::Args;
use yostel_answers::answers::declare::InitAnswer;
use yostel_documents::{NameError, PackageName, SourceName};
use yostel_flows::{
    FlowError, GitReport, InitReport, InitRequest, LoadedProject, MANIFEST_NAME, ProjectError, SourceDoubt, init,
    prepare_git,
};

use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::commands::declare::sources::place_typed;
use crate::exit::Exit;
use crate::options::{package_name, source_in, word};
use crate::render::{join, next_step, note};
use yostel_answers::words::{bad_name, shell_word};

/// Write a first manifest into this folder
///
/// With --git, also tells git how to merge and compare manifests and lockfiles; where there is a manifest already, only that.
#[derive(Debug, Args)]
pub(crate) struct Init {
    /// The project's name; the folder's name when left out
    #[arg(value_parser = package_name)]
    name: Option<PackageName>,

    /// Name a source in the manifest: a word, and the registry's folder or address
    #[arg(long, value_name = "NAME=FOLDER or URL", value_parser = source_in)]
    source: Option<(SourceName, String)>,

    /// Let git merge and compare manifests and lockfiles: lines in .gitattributes, and settings of this clone
    #[arg(long)]
    git: bool,
}

pub(crate) fn run(arguments: Init, call: &Call) -> Result<Answer, FlowError> {
    if arguments.git && arguments.name.is_none() && arguments.source.is_none() {
        // What is there already needs no first manifest.
        match call.manifests() {
            Ok(project) => return only_git(&project, call),
            Err(FlowError::Project(ProjectError::NoProject(_))) => {}
            Err(error) => return Err(error),
        }
    }
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
    let source = match arguments.source.map(|(name, typed)| {
        let instead = |without: &str| format!("yostel init --source {name}={}", shell_word(without));
        place_typed(&typed, instead).map(|place| (name.clone(), place))
    }) {
        None => None,
        Some(Ok(source)) => Some(source),
        Some(Err(diagnostic)) => return Ok(failure_of(&[*diagnostic], Exit::Usage, call.format)),
    };
    let request = InitRequest { name, source };
    let report = init(&call.folder, &request, &call.context())?;
    let git = arguments.git.then(|| prepare_git(&call.folder, &call.context())).transpose()?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || InitAnswer::of(&report, &request.name, git.as_ref()),
        || {
            let folder = request.source.as_ref().map(|(_, place)| shell_word(&place.to_string())).unwrap_or_default();
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
            let git = git.as_ref().map(|git| git_words(git, call)).unwrap_or_default();
            format!("Wrote {shown} for {}.\n{git}{doubt}{}", request.name, next_step(next))
        },
    ))
}

/// Tells git about a project that is there already.
fn only_git(project: &LoadedProject, call: &Call) -> Result<Answer, FlowError> {
    let git = prepare_git(&project.root, &call.context())?;
    let report = InitReport { path: project.root.join(MANIFEST_NAME), doubt: None, nearby: Vec::new() };
    let answer = || InitAnswer::of(&report, project.top.name(), Some(&git));
    Ok(Answer::done(call, Exit::Fine, answer, || git_words(&git, call)))
}

fn git_words(git: &GitReport, call: &Call) -> String {
    if git.lines.is_empty() && git.settings.is_empty() {
        return "Git merges and compares manifests and lockfiles already.\n".to_owned();
    }
    let mut text = "Git merges and compares manifests and lockfiles from now on.\n".to_owned();
    for line in &git.lines {
        text.push_str(&note(format!("{} has `{line}` now; commit it", call.show(&git.attributes))));
    }
    for (key, value, before) in &git.settings {
        let before = before.as_ref().map(|before| format!("; it was `{before}`")).unwrap_or_default();
        text.push_str(&note(format!("{key} is `{value}` in this clone{before}")));
    }
    text
}

/// Names a source like its folder, where that makes a name.
fn source_name(folder: &str) -> String {
    let last = folder.rsplit('/').find(|part| !part.is_empty()).unwrap_or_default();
    word(last).map_or_else(|_| "registry".to_owned(), |name| name.to_string())
}
