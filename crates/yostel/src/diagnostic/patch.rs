//! Local changes: patches that cannot be used, changes that cannot be kept.

use yostel_answers::{Diagnostic, Place};
use yostel_documents::{ANY_PLATFORM, PackageName, Rejected, RejectedReason};
use yostel_flows::{NotAltered, PatchProblem};
use yostel_store::AlterError;

use super::place::of_store;
use super::{Also, TOLD_LINES, tell};
use crate::render::join;

/// Tells a patch that cannot be used: where it is wrong, or which of its hunks fits nowhere.
pub(super) fn of_patch(problem: &PatchProblem, package: &PackageName, file: &str, text: &str) -> Diagnostic {
    let drop = format!("yostel alter {package} --drop, to do without the patch");
    let at = |line: usize| {
        let start: usize = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
        let length = text[start..].lines().next().map_or(0, str::len);
        Place::of(file, text, &(start..start + length))
    };
    match problem {
        PatchProblem::Unreadable(cause) => {
            let next = format!("get {file} back from version control");
            tell("patch-unreadable", format!("the patch of {package} cannot be read: {cause}"), next)
                .or(drop)
                .note(format!("[alter] in yostel.toml names {file}"))
        }
        PatchProblem::Syntax(error) => {
            let headline = format!("{file} is not a unified diff: {}", error.reason);
            let mut told = tell("patch-syntax", headline, "write it as `diff -u` does").or(drop);
            told.place = Some(at(error.line));
            told
        }
        PatchProblem::NotMade { platform, error } => {
            let of = if platform == ANY_PLATFORM { String::new() } else { format!(" for {platform}") };
            match error {
                AlterError::Rejected(rejected) => of_rejected(rejected, package, &of, &at, drop),
                AlterError::TreeDiffers { expected, found } => {
                    let headline = format!("the patch of {package}{of} makes other files than were locked");
                    tell("tree-differs", headline, "yostel lock, to lock what it makes now")
                        .note(format!("locked tree {expected}"))
                        .note(format!("found  tree {found}"))
                }
                AlterError::Store(error) => of_store(error),
                AlterError::Link { .. } | AlterError::InTheWay(_) => {
                    tell("patch-rejected", format!("{package}{of}: {error}"), format!("correct {file}")).or(drop)
                }
            }
        }
    }
}

fn of_rejected(
    rejected: &Rejected,
    package: &PackageName,
    of: &str,
    at: &dyn Fn(usize) -> Place,
    drop: String,
) -> Diagnostic {
    let path = &rejected.path;
    let why = match &rejected.reason {
        RejectedReason::Missing => format!("`{path}` is not there any more"),
        RejectedReason::AlreadyThere => format!("`{path}` is there already"),
        RejectedReason::OtherKind => format!("`{path}` is of another kind, or holds more than the patch removes"),
        RejectedReason::NotText => format!("`{path}` is not text"),
        RejectedReason::Hunk { .. } => format!("these lines of `{path}` are not as it expects them"),
    };
    let headline = format!("the patch of {package}{of} does not fit: {why}");
    let again = format!("yostel alter {package} --drop, then yostel alter {package} and make the change anew");
    let mut told = tell("patch-rejected", headline, again);
    if let RejectedReason::Hunk { hunk, found } = &rejected.reason {
        told.place = (hunk.at > 0).then(|| at(hunk.at));
        let lines = hunk.to_string();
        let lines: Vec<&str> = lines.lines().skip(1).collect();
        told.notes.extend(lines.iter().take(2 * TOLD_LINES).map(|line| (*line).to_owned()));
        told.notes.push(if found.is_empty() { "the file ends before that" } else { "there it has:" }.to_owned());
        told.notes.extend(found.iter().take(TOLD_LINES).map(|line| format!(" {}", line.trim_end_matches('\n'))));
    }
    told.note("the lockfile is as it was").or(format!("lock the release it was made for; or {drop}"))
}

pub(super) fn of_not_altered(why: &NotAltered, package: &PackageName) -> Diagnostic {
    let open = format!("yostel alter {package}, to open it");
    let headline = format!("{package}: {why}");
    match why {
        NotAltered::NotOpen => tell("not-altered", headline, open),
        NotAltered::Several => tell("not-altered", headline, format!("take {package} out of `coexist` in [policy]")),
        NotAltered::Live(folder) => tell("not-altered", headline, format!("change it there, in {folder}")),
        NotAltered::Nothing => {
            let next = format!("change something in altered/{}", package.to_path());
            tell("not-altered", headline, next).or(format!("yostel alter {package} --drop, to close it"))
        }
        NotAltered::NotText(files) => {
            let next = "publish a package of your own with these files, since a patch cannot hold them";
            let changed = format!("changed, and not that: {}", join(files));
            tell("not-altered", headline, next).note(changed).or("put them back as they were")
        }
        NotAltered::NoReason => tell(
            "not-altered",
            headline,
            format!("yostel alter {package} --keep --why \"…\", for those who come after"),
        ),
        NotAltered::OtherRelease { .. } => {
            let next = format!("yostel alter {package} --drop, which saves what was changed, then {open}");
            tell("not-altered", headline, next)
        }
    }
}
