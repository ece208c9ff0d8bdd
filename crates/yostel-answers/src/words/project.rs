//! Projects: what cannot be read, and what the manifest cannot be made to say.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Place, Suggestion};
use yostel_documents::{EditError, PackageName, Purpose, Word, nearest};
use yostel_flows::{NotAltered, PathProblem, ProjectError};

use super::manifest::{of_manifest, of_workspace};
use super::patch::of_not_altered;
use super::place::of_io;
use super::{TOLD, Viewpoint, join, shell_word, tell};

/// Tells why a project cannot be read, or its manifest not be written.
pub(super) fn of_project(error: &ProjectError, view: &Viewpoint<'_>) -> Vec<Diagnostic> {
    // Long: an arm per error, so that a new error does not compile until it has its words.
    let headline = error.to_string();
    let told = match error {
        ProjectError::Manifest { path, text, problems } => {
            let file = view.show(path);
            return problems.iter().take(TOLD).map(|problem| of_manifest(problem, &file, text)).collect();
        }
        ProjectError::Workspace { path, text, span, problem } => of_workspace(problem, &view.show(path), text, span),
        ProjectError::NoSuchProject { name, known } => {
            let near = nearest(name.as_str(), known.iter().map(PackageName::as_str));
            let known: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || "name a project of this workspace".to_owned(),
                |near| format!("{near} exists, if that is the one"),
            );
            tell(Code::NoSuchProject, headline, next).note(format!("the projects are {}", join(&known)))
        }
        ProjectError::NoChecks(path) => {
            let headline = format!("no manifest of this project has a check: {}", view.show(path));
            let example = "write one into yostel.toml:\n[checks.smoke]\nrun = \"make test\"";
            tell(Code::NoChecks, headline, example)
        }
        ProjectError::NotInGit { folder, said } => {
            let headline = format!("{} is in no repository of git's that can be set up", view.show(folder));
            tell(Code::NotInGit, headline, Suggestion::run("git init", "to begin one")).note(said.clone())
        }
        ProjectError::NoSuchCheck { name, known } => {
            let near = nearest(name.as_str(), known.iter().map(Word::as_str));
            let known: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near
                .map_or_else(|| "name one that exists".to_owned(), |near| format!("{near} exists, if that is the one"));
            tell(Code::NoSuchCheck, headline, next).note(format!("the manifests have {}", join(&known)))
        }
        ProjectError::CheckNowhere { check, pattern } => {
            let next = format!("correct `in` below [checks.{check}]: it takes names of projects, or LEVEL/*");
            let headline =
                format!("the check {check} is to run in `{pattern}`, and no project of this workspace is called that");
            tell(Code::CheckNowhere, headline, next)
        }
        ProjectError::Path { package, problem: PathProblem::NoFolder, .. } => {
            tell(Code::Path, headline, format!("name a folder that exists as the `path` of {package}"))
        }
        ProjectError::Path { problem: PathProblem::OtherName(found), .. } => {
            tell(Code::Path, headline, format!("need it as {found}, which is what its manifest says"))
        }
        ProjectError::NoProject(_) => {
            tell(Code::NoProject, headline, Suggestion::run("yostel init", "to start one here"))
                .or(Suggestion::run("yostel -C FOLDER …", "to work on one elsewhere"))
        }
        ProjectError::Read { path, cause } => of_io(Code::CannotRead, format!("{}: {cause}", view.show(path)), cause),
        ProjectError::NoBaseline(path) => {
            let file = shell_word(&view.show(path));
            let headline = format!("there is no {}", view.show(path));
            tell(
                Code::BaselineMissing,
                headline,
                Suggestion::run(
                    format!("yostel audit --baseline {file} --renew"),
                    "to begin one with what is found now",
                ),
            )
        }
        ProjectError::Baseline { path, text, error } => {
            let file = view.show(path);
            let told = tell(
                Code::Baseline,
                format!("{file} is no baseline: {}", error.says),
                "correct it, or delete it and renew it",
            );
            match &error.span {
                Some(span) => told.at(Place::of(file, text, span)),
                None => told,
            }
        }
        ProjectError::Statements { path, why } => tell(
            Code::Statements,
            format!("{} is no OpenVEX document: {why}", view.show(path)),
            "correct it; or remove it, and its name from `statements` in [policy]",
        ),
        ProjectError::NoSuchAdvisory { id, packages } => {
            let of: Vec<String> = packages.iter().map(ToString::to_string).collect();
            let what = if of.is_empty() { "what is locked".to_owned() } else { join(&of) };
            let next = Suggestion::run("yostel audit advisories", "to see those that affect something");
            tell(Code::NoSuchAdvisory, format!("no advisory named {id} affects {what}"), next)
        }
        ProjectError::NotDismissed { id, path } => {
            let headline = format!("{id} is not dismissed in {}", view.show(path));
            let next = Suggestion::run("yostel audit advisories", "to see what is");
            tell(Code::NotDismissed, headline, next)
        }
        ProjectError::Past(until) => {
            let headline = format!("--until cannot be {until}: that day is past");
            tell(Code::Usage, headline, "name a day that is to come")
        }
        ProjectError::NotOurs(path) => {
            let headline =
                format!("{} is there already, and this command did not write it in this form", view.show(path));
            tell(Code::NotOurs, headline, "name another file, or remove that one first")
        }
        ProjectError::OtherTool { accept, .. } => {
            let or = "change `yostel = …` in [project], if this one will do after all";
            tell(Code::OtherTool, headline, format!("install a yostel version that {accept} accepts")).or(or)
        }
        ProjectError::ChangedMeanwhile(path) => {
            let headline = format!("{} was changed by somebody else meanwhile", view.show(path));
            tell(Code::ManifestChanged, headline, "run the same command again")
                .note("that change is kept, nothing else was written")
        }
        ProjectError::NeedsItself(_) => {
            tell(Code::NeedsItself, headline, "name another package").note("the manifest is as it was")
        }
        ProjectError::AlreadyAProject(path) => {
            let headline = format!("{} is there already", view.show(path));
            tell(Code::AlreadyAProject, headline, Suggestion::run("yostel add NAME", "to add a need to it"))
        }
        ProjectError::Deviates { package, agreed: Some(agreed) } => {
            let headline = format!("[agreed] has {package} at {agreed}");
            tell(
                Code::ManifestAgreed,
                headline,
                Suggestion::run(format!("yostel add {package}"), "to use the agreed constraint"),
            )
            .or(Suggestion::run(format!("yostel add {package} CONSTRAINT --agreed"), "to agree on something else"))
            .or(Suggestion::run(format!("yostel add {package} CONSTRAINT --why \"…\""), "to deviate from it"))
            .note("the manifest is as it was")
        }
        ProjectError::Deviates { package, agreed: None } => {
            let headline = format!("[agreed] has no entry for {package}, so there is nothing to deviate from");
            tell(
                Code::ManifestAgreed,
                headline,
                Suggestion::run(format!("yostel add {package} CONSTRAINT"), "without --why"),
            )
        }
        ProjectError::UnknownPurpose { purpose, known } => {
            let near = nearest(purpose.as_str(), known.iter().map(Purpose::as_str));
            let words: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || Suggestion::command(format!("yostel add NAME --for {purpose}")),
                |near| format!("{near} exists, if that is the one").into(),
            );
            tell(Code::UnknownPurpose, format!("the project needs nothing for {purpose}"), next)
                .note(format!("it has needs for {}", join(&words)))
        }
        ProjectError::Edit(EditError::NoSuchAlter(package)) => of_not_altered(&NotAltered::NotOpen, package),
        ProjectError::Edit(EditError::NoSuchNeed(package)) => tell(
            Code::NoSuchNeed,
            format!("yostel.toml has no need named `{package}`"),
            Suggestion::run("yostel list --direct", "to see what it needs"),
        ),
        ProjectError::Edit(EditError::NoSuchSource(name)) => tell(
            Code::NoSuchSource,
            format!("yostel.toml has no source named {name}"),
            Suggestion::run("yostel sources", "to see those that it has"),
        ),
        ProjectError::Edit(EditError::Unreadable) => tell(
            Code::Manifest,
            "the manifest cannot be edited as it is",
            Suggestion::run("yostel lock", "to see what is wrong with it"),
        ),
    };
    vec![told]
}
