//! Manifests and lockfiles: what is wrong, at its line.

use std::ops::Range;

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Place, Suggestion};
use yostel_documents::{Difference, LockfileError, ManifestProblem, ManifestProblemKind};
use yostel_flows::WorkspaceProblem;
use yostel_versions::NumberingError;

use super::join;
use super::{TOLD, bad_constraint, bad_name, shell_word, tell};

pub(super) fn of_manifest(problem: &ManifestProblem, file: &str, text: &str) -> Diagnostic {
    // Long: an arm per problem, as in `diagnostic_of`.
    let headline = problem.to_string();
    let mut diagnostic = match &problem.kind {
        ManifestProblemKind::MergeMarks => {
            tell(Code::ManifestMerge, headline, "keep what is meant of both sides and remove the marks")
        }
        ManifestProblemKind::Syntax(said) if said.contains("unquoted key") => {
            tell(Code::ManifestSyntax, headline, "put the name in quotes: \"level/name\" = …")
        }
        ManifestProblemKind::Syntax(_) => {
            tell(Code::ManifestSyntax, headline, "correct the line; values are in quotes, tables in [ ]")
        }
        ManifestProblemKind::UnknownKey { key, near, known, .. } => {
            let next = match near {
                Some(near) => {
                    let says = format!("write `{near}` instead of `{}`", key.escape_debug());
                    Suggestion::edit(near.to_string(), says)
                }
                None => {
                    let known: Vec<String> = known.iter().map(|key| format!("`{key}`")).collect();
                    format!("the keys here are {}", join(&known)).into()
                }
            };
            tell(Code::ManifestUnknownKey, headline, next)
        }
        ManifestProblemKind::WrongType { key, .. } if key == "numbering" => {
            tell(Code::ManifestType, headline, "write a table: { order = \"words\" }, for example")
        }
        ManifestProblemKind::WrongType { expected, .. } => {
            tell(Code::ManifestType, headline, format!("write {expected}"))
        }
        ManifestProblemKind::Missing { example, .. } => tell(
            Code::ManifestMissingKey,
            headline,
            format!("write, for example: {}", example.replace('\n', " and below it ")),
        ),
        ManifestProblemKind::Name(error) => bad_name(error),
        ManifestProblemKind::Constraint(error) => bad_constraint(error, None),
        ManifestProblemKind::Version(error) => {
            if let Some(unlisted) = &error.unlisted {
                let [before, after] = unlisted.words.with(&unlisted.word);
                let next = format!("if it comes before the bare version, write into `numbering`: {before}");
                tell(Code::Version, headline, next).or(format!("if it comes after, write: {after}"))
            } else {
                let write = |works: &String| Suggestion::edit(works, format!("write \"{works}\""));
                let next = error.suggestion.as_ref().map(write);
                tell(Code::Version, headline, next.unwrap_or_else(|| "write a version like \"1.4.2\"".into()))
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
            tell(Code::ManifestValue, headline, next)
        }
        ManifestProblemKind::Value { reason, .. } => {
            tell(Code::ManifestValue, headline, format!("write another: {reason}"))
        }
        ManifestProblemKind::Secret { key, instead } => {
            tell(Code::ManifestValue, headline, format!("write {key} = \"{instead}\""))
        }
        ManifestProblemKind::NotAgreed(package) => {
            tell(Code::ManifestAgreed, headline, format!("add to [agreed]: {package} = \"^1\", or whatever will do"))
        }
        ManifestProblemKind::Deviates { package, agreed } => {
            tell(Code::ManifestAgreed, headline, format!("write {package} = \"agreed\", which is {agreed}"))
                .or("say why: { accept = \"…\", why = \"…\" }")
        }
        ManifestProblemKind::SwapCircle(_) => {
            tell(Code::ManifestContradiction, headline, "remove one of the swaps that lead back")
        }
        ManifestProblemKind::ForcedAndSwapped(package) => {
            tell(Code::ManifestContradiction, headline, format!("remove {package} from [force], or from [swap]"))
        }
        ManifestProblemKind::TwoPlaces { one, other } => {
            tell(Code::ManifestContradiction, headline, format!("keep `{one}` or `{other}`"))
        }
        ManifestProblemKind::Alone { key, owner } => {
            tell(Code::ManifestContradiction, headline, format!("remove `{key}`, or write `{owner}` beside it"))
        }
        ManifestProblemKind::PackageInTwoPlaces(_) => {
            tell(Code::ManifestContradiction, headline, "name one place, or the same in both")
        }
        ManifestProblemKind::ListedTwice(_) => {
            tell(Code::ManifestContradiction, headline, "remove one of the two entries")
        }
        ManifestProblemKind::NestedWorkspace => {
            tell(Code::Workspace, headline, "remove [workspace] here, and list its projects in the one above")
                .or("put `!` and this folder into `projects` of the one above, so that this is a workspace of its own")
        }
        ManifestProblemKind::OnlyInRoot(table) => {
            tell(Code::Workspace, headline, format!("move `{table}` to the yostel.toml with [workspace]"))
        }
        ManifestProblemKind::NeedsItself(_) => tell(Code::NeedsItself, headline, "remove the line"),
    };
    // What is marked with its quotes is written with quotes.
    if text.get(problem.span.clone()).is_some_and(|marked| marked.starts_with(['"', '\''])) {
        for next in &mut diagnostic.next {
            if let Suggestion::Edit { with, .. } = next {
                *with = format!("\"{with}\"");
            }
        }
    }
    let place = Place::of(file, text, &problem.span);
    diagnostic.place = Some(match problem.kind {
        ManifestProblemKind::Secret { .. } => place.hidden(),
        _ => place,
    });
    diagnostic
}

/// Tells what is wrong with the projects of a workspace.
pub(super) fn of_workspace(problem: &WorkspaceProblem, file: &str, text: &str, span: &Range<usize>) -> Diagnostic {
    let headline = problem.to_string();
    let mut diagnostic = match problem {
        WorkspaceProblem::NoProject(folder) => tell(
            Code::Workspace,
            headline,
            Suggestion::run(
                format!("yostel -C {} init", shell_word(folder)),
                "to start one there (make the folder first)",
            ),
        )
        .or("correct or remove the entry"),
        WorkspaceProblem::Twice { folder, .. } => tell(Code::Workspace, headline, "remove one of the two entries")
            .or(format!("leave it out of one: \"!{folder}\"")),
        WorkspaceProblem::Circle(folder) => tell(Code::Workspace, headline, format!("remove the link {folder}"))
            .or(format!("leave it out: add \"!{folder}\" to `projects`")),
        WorkspaceProblem::SameName { other, .. } => {
            tell(Code::Workspace, headline, format!("give the project in {other} another name"))
        }
        WorkspaceProblem::TwoPlaces { package, one, .. } if one.starts_with("project ") => {
            let next = format!("need it by a constraint: yostel add {package} CONSTRAINT");
            tell(Code::ManifestContradiction, headline, next)
                .note("a project of the workspace is taken as it is in its folder, whoever needs it")
        }
        WorkspaceProblem::TwoPlaces { package, .. } => tell(
            Code::ManifestContradiction,
            headline,
            format!("name one place for {package}, the same in all projects"),
        )
        .note("one package is there once, whoever needs it"),
    };
    diagnostic.place = (!span.is_empty()).then(|| Place::of(file, text, span));
    diagnostic
}

/// Words for a lockfile that cannot be used; `both_sides` when git has both sides of its merge.
pub(super) fn of_lockfile(error: &LockfileError, file: &str, text: &str, both_sides: bool) -> Diagnostic {
    let place = |span| Some(Place::of(file, text, span));
    match error {
        LockfileError::MergeMarks { span } => Diagnostic {
            place: place(span),
            ..match both_sides {
                true => {
                    let why = "to keep what both sides moved, once the manifests are merged";
                    tell(Code::LockfileMerge, error.to_string(), Suggestion::run("yostel lock --merge", why))
                }
                false => {
                    let why = "with the lockfile that both sides began with, and those of both sides";
                    let merge = Suggestion::run("yostel lock --merge BASE OURS THEIRS", why);
                    tell(Code::LockfileMerge, error.to_string(), merge)
                }
            }
        },
        LockfileError::NoSeal => tell(
            Code::LockfileChanged,
            format!("{file} has no seal, so nothing vouches for it"),
            "get it back from version control",
        )
        .or(Suggestion::run("yostel lock --fresh", "to resolve anew")),
        LockfileError::SealDiffers { written, found, span } => {
            let mut diagnostic =
                tell(Code::LockfileChanged, error.to_string(), "get it back from version control, then: yostel lock")
                    .note(format!("its seal says {written}"))
                    .note(format!("its content has {found}"))
                    .or(Suggestion::run("yostel lock --fresh", "to resolve anew"));
            diagnostic.place = place(span);
            diagnostic
        }
        LockfileError::Format { .. } => {
            tell(Code::LockfileLaterFormat, error.to_string(), "use the yostel that wrote it, or a newer one")
        }
        LockfileError::Part { span, .. } => {
            let headline = format!("{file} cannot be used: {error}");
            let mut diagnostic = tell(Code::LockfileBroken, headline, "get it back from version control")
                .or(Suggestion::run("yostel lock --fresh", "to resolve anew"));
            if !span.is_empty() {
                diagnostic.place = place(span);
            }
            diagnostic
        }
    }
}

/// Says in one line that what follows is about a lockfile that no longer fits.
pub fn stale_note(differences: &[Difference]) -> String {
    let first = differences.first().map(ToString::to_string).unwrap_or_default();
    let more = match differences.len().saturating_sub(1) {
        0 => String::new(),
        more => format!(", and {more} more"),
    };
    format!("this is what is locked, and it no longer fits ({first}{more}); yostel lock brings it up to date")
}

pub(super) fn of_stale(differences: &[Difference]) -> Diagnostic {
    let mut diagnostic = tell(
        Code::LockfileStale,
        "yostel.lock no longer fits yostel.toml",
        Suggestion::run("yostel lock", "to bring it up to date with the fewest moves"),
    );
    diagnostic.notes = differences.iter().take(TOLD).map(|one| one.to_string().into()).collect();
    if differences.len() > TOLD {
        diagnostic.notes.push(format!("and {} more", differences.len() - TOLD).into());
    }
    diagnostic
}
