//! Manifests and lockfiles: what is wrong, at its line.

use std::ops::Range;

use yostel_answers::{Diagnostic, Place};
use yostel_documents::{Difference, LockfileError, ManifestProblem, ManifestProblemKind};
use yostel_flows::WorkspaceProblem;
use yostel_versions::NumberingError;

use super::{Also, TOLD, bad_accept, bad_name, tell};
use crate::render::join;

pub(super) fn of_manifest(problem: &ManifestProblem, file: &str, text: &str) -> Diagnostic {
    // Long: an arm a problem, as in `diagnostic_of`.
    let headline = problem.to_string();
    let mut diagnostic = match &problem.kind {
        ManifestProblemKind::Syntax(said) if said.contains("unquoted key") => {
            tell("manifest-syntax", headline, "put the name in quotes: \"level/name\" = …")
        }
        ManifestProblemKind::Syntax(_) => {
            tell("manifest-syntax", headline, "correct the line; values are in quotes, tables in [ ]")
        }
        ManifestProblemKind::UnknownKey { key, near, known, .. } => {
            let next = match near {
                Some(near) => format!("write `{near}` instead of `{}`", key.escape_debug()),
                None => {
                    format!("the keys here are {}", join(&known.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>()))
                }
            };
            tell("manifest-unknown-key", headline, next)
        }
        ManifestProblemKind::WrongType { key, .. } if key == "numbering" => {
            tell("manifest-type", headline, "write a table: { order = \"words\" }, for example")
        }
        ManifestProblemKind::WrongType { expected, .. } => tell("manifest-type", headline, format!("write {expected}")),
        ManifestProblemKind::Missing { example, .. } => tell(
            "manifest-missing-key",
            headline,
            format!("write, for example: {}", example.replace('\n', " and below it ")),
        ),
        ManifestProblemKind::Name(error) => bad_name(error),
        ManifestProblemKind::Accept(error) => bad_accept(error, None),
        ManifestProblemKind::Version(error) => {
            if let Some(unlisted) = &error.unlisted {
                let [before, after] = unlisted.words.with(&unlisted.word);
                let next = format!("if it comes before the bare version, write into `numbering`: {before}");
                tell("version", headline, next).or(format!("if it comes after, write: {after}"))
            } else {
                let next = error.suggestion.as_ref().map(|works| format!("write \"{works}\""));
                tell("version", headline, next.unwrap_or_else(|| "write a version like \"1.4.2\"".into()))
            }
        }
        ManifestProblemKind::Numbering(error) => {
            let next = match error {
                NumberingError::BreaksBeyondSemver(_) | NumberingError::BreaksTooFar(_) => {
                    "write { order = \"semver\", breaks-at = 1 }, for example"
                }
                NumberingError::WordsOfSemver => "write order = \"words\", or remove `before` and `after`",
                NumberingError::NotAWord(_) => "write the word in lower-case letters; versions are read in any case",
                NumberingError::WordTwice(_) => "remove one of the two",
                NumberingError::TooManyWords(_) => "keep the words that versions of this package use",
            };
            tell("manifest-value", headline, next)
        }
        ManifestProblemKind::Value { reason, .. } => {
            tell("manifest-value", headline, format!("write another: {reason}"))
        }
        ManifestProblemKind::NotAgreed(package) => {
            tell("manifest-agreed", headline, format!("add to [agreed]: {package} = \"^1\", or whatever will do"))
        }
        ManifestProblemKind::Deviates { package, agreed } => {
            tell("manifest-agreed", headline, format!("write {package} = \"agreed\", which is {agreed}"))
                .or("say why: { accept = \"…\", why = \"…\" }")
        }
        ManifestProblemKind::SwapCircle(_) => {
            tell("manifest-contradiction", headline, "remove one of the swaps that lead back")
        }
        ManifestProblemKind::ForcedAndSwapped(package) => {
            tell("manifest-contradiction", headline, format!("remove {package} from [force], or from [swap]"))
        }
        ManifestProblemKind::TwoPlaces { one, other } => {
            tell("manifest-contradiction", headline, format!("keep `{one}` or `{other}`"))
        }
        ManifestProblemKind::Alone { key, owner } => {
            tell("manifest-contradiction", headline, format!("remove `{key}`, or write `{owner}` beside it"))
        }
        ManifestProblemKind::PackageInTwoPlaces(_) => {
            tell("manifest-contradiction", headline, "say one place, or the same in both")
        }
        ManifestProblemKind::ListedTwice(_) => {
            tell("manifest-contradiction", headline, "remove one of the two entries")
        }
        ManifestProblemKind::NestedWorkspace => {
            tell("workspace", headline, "remove [workspace] here, and list its projects in the one above")
                .or("put `!` and this folder into `projects` of the one above, so that this is a workspace of its own")
        }
        ManifestProblemKind::OnlyInRoot(table) => {
            tell("workspace", headline, format!("move `{table}` to the yostel.toml with [workspace]"))
        }
        ManifestProblemKind::NeedsItself(_) => tell("needs-itself", headline, "remove the line"),
    };
    diagnostic.place = Some(Place::of(file, text, &problem.span));
    diagnostic
}

/// Tells what is wrong with the projects of a workspace.
pub(super) fn of_workspace(problem: &WorkspaceProblem, file: &str, text: &str, span: &Range<usize>) -> Diagnostic {
    let headline = problem.to_string();
    let mut diagnostic = match problem {
        WorkspaceProblem::NoProject(folder) => {
            tell("workspace", headline, format!("yostel -C {folder} init, to start one there (make the folder first)"))
                .or("correct or remove the entry")
        }
        WorkspaceProblem::Twice { folder, .. } => tell("workspace", headline, "remove one of the two entries")
            .or(format!("leave it out of one: \"!{folder}\"")),
        WorkspaceProblem::Circle(folder) => tell("workspace", headline, format!("remove the link {folder}"))
            .or(format!("leave it out: add \"!{folder}\" to `projects`")),
        WorkspaceProblem::SameName { other, .. } => {
            tell("workspace", headline, format!("give the project in {other} another name"))
        }
        WorkspaceProblem::TwoPlaces { package, one, .. } if one.starts_with("project ") => {
            let next = format!("need it by a constraint: yostel add {package} CONSTRAINT");
            tell("manifest-contradiction", headline, next)
                .note("a project of the workspace is there as it lies, whoever needs it")
        }
        WorkspaceProblem::TwoPlaces { package, .. } => {
            tell("manifest-contradiction", headline, format!("say one place for {package}, the same in all projects"))
                .note("one package is there once, whoever needs it")
        }
    };
    diagnostic.place = (!span.is_empty()).then(|| Place::of(file, text, span));
    diagnostic
}

pub(super) fn of_lockfile(error: &LockfileError, file: &str, text: &str) -> Diagnostic {
    let place = |span| Some(Place::of(file, text, span));
    match error {
        LockfileError::MergeMarks { span } => Diagnostic {
            place: place(span),
            ..tell(
                "lockfile-merge",
                error.to_string(),
                "take one side whole: git checkout --theirs yostel.lock, then: yostel lock",
            )
        },
        LockfileError::NoSeal => tell(
            "lockfile-changed",
            format!("{file} has no seal, so nothing vouches for it"),
            "get it back from version control",
        )
        .or("yostel lock --fresh, to resolve anew"),
        LockfileError::SealDiffers { written, found, span } => {
            let mut diagnostic =
                tell("lockfile-changed", error.to_string(), "get it back from version control, then: yostel lock")
                    .note(format!("its seal says {written}"))
                    .note(format!("its content has {found}"))
                    .or("yostel lock --fresh, to resolve anew");
            diagnostic.place = place(span);
            diagnostic
        }
        LockfileError::Format { .. } => {
            tell("lockfile-later-format", error.to_string(), "use the yostel that wrote it, or a newer one")
        }
        LockfileError::Part { span, .. } => {
            let headline = format!("{file} cannot be used: {error}");
            let mut diagnostic = tell("lockfile-broken", headline, "get it back from version control")
                .or("yostel lock --fresh, to resolve anew");
            if !span.is_empty() {
                diagnostic.place = place(span);
            }
            diagnostic
        }
    }
}

pub(super) fn of_stale(differences: &[Difference]) -> Diagnostic {
    let mut diagnostic = tell(
        "lockfile-stale",
        "yostel.lock no longer fits yostel.toml",
        "yostel lock, to bring it up to date with the fewest moves",
    );
    diagnostic.notes = differences.iter().take(TOLD).map(ToString::to_string).collect();
    if differences.len() > TOLD {
        diagnostic.notes.push(format!("and {} more", differences.len() - TOLD));
    }
    diagnostic
}
