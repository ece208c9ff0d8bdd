//! Local changes: patches that cannot be used, changes that cannot be kept.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Place, Suggestion};
use yostel_documents::{ANY_PLATFORM, PackageName, Rejected, RejectedReason};
use yostel_flows::{ChangeError, NotAltered, PatchProblem};
use yostel_store::AlterError;

use super::join;
use super::place::of_store;
use super::{TOLD_LINES, Viewpoint, tell};

/// Tells why local changes cannot be made, kept or dropped.
pub(super) fn of_change(error: &ChangeError, view: &Viewpoint<'_>) -> Diagnostic {
    match error {
        ChangeError::Patch { package, path, text, problem } => of_patch(problem, package, &view.show(path), text),
        ChangeError::NotAltered { package, why } => of_not_altered(why, package),
    }
}

/// Tells a patch that cannot be used: where it is wrong, or which of its hunks fits nowhere.
fn of_patch(problem: &PatchProblem, package: &PackageName, file: &str, text: &str) -> Diagnostic {
    let drop = Suggestion::run(format!("yostel alter {package} --drop"), "to do without the patch");
    let at = |line: usize| {
        let start: usize = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
        let length = text[start..].lines().next().map_or(0, str::len);
        Place::of(file, text, &(start..start + length))
    };
    match problem {
        PatchProblem::Unreadable(cause) => {
            let next = format!("get {file} back from version control");
            tell(Code::PatchUnreadable, format!("the patch of {package} cannot be read: {cause}"), next)
                .or(drop)
                .note(format!("[alter] in yostel.toml names {file}"))
        }
        PatchProblem::Syntax(error) => {
            let headline = format!("{file} is not a unified diff: {}", error.reason);
            let mut told = tell(Code::PatchSyntax, headline, "write it as `diff -u` does").or(drop);
            told.place = Some(at(error.line));
            told
        }
        PatchProblem::NotMade { platform, error } => {
            let of = if platform == ANY_PLATFORM { String::new() } else { format!(" for {platform}") };
            match error {
                AlterError::Rejected(rejected) => of_rejected(rejected, package, &of, &at, drop),
                AlterError::TreeDiffers { expected, found } => {
                    let headline = format!("the patch of {package}{of} makes other files than were locked");
                    tell(Code::TreeDiffers, headline, Suggestion::run("yostel lock", "to lock what it makes now"))
                        .note(format!("locked tree {expected}"))
                        .note(format!("found  tree {found}"))
                }
                AlterError::Store(error) => of_store(error),
                AlterError::Link { .. } | AlterError::InTheWay(_) => {
                    tell(Code::PatchRejected, format!("{package}{of}: {error}"), format!("correct {file}")).or(drop)
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
    drop: Suggestion,
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
    let again = Suggestion::run(
        format!("yostel alter {package} --drop"),
        format!("then yostel alter {package}, to make the change anew"),
    );
    let mut told = tell(Code::PatchRejected, headline, again);
    if let RejectedReason::Hunk { hunk, found } = &rejected.reason {
        told.place = (hunk.at > 0).then(|| at(hunk.at));
        let lines = hunk.to_string();
        let lines: Vec<&str> = lines.lines().skip(1).collect();
        told.notes.extend(lines.iter().take(2 * TOLD_LINES).map(|line| (*line).into()));
        told.notes.push(if found.is_empty() { "the file ends before that" } else { "there it has:" }.into());
        told.notes.extend(found.iter().take(TOLD_LINES).map(|line| format!(" {}", line.trim_end_matches('\n')).into()));
    }
    told.note("the lockfile is as it was").or(format!("lock the release it was made for; or {drop}"))
}

pub(super) fn of_not_altered(why: &NotAltered, package: &PackageName) -> Diagnostic {
    let open = Suggestion::run(format!("yostel alter {package}"), "to open it");
    let headline = format!("{package}: {why}");
    match why {
        NotAltered::NotOpen => tell(Code::NotAltered, headline, open),
        NotAltered::Several => tell(Code::NotAltered, headline, format!("take {package} out of `coexist` in [policy]")),
        NotAltered::LocalPackage(folder) => tell(Code::NotAltered, headline, format!("change it there, in {folder}")),
        NotAltered::Nothing => {
            let next = format!("change something in altered/{}", package.to_path());
            tell(Code::NotAltered, headline, next)
                .or(Suggestion::run(format!("yostel alter {package} --drop"), "to close it"))
        }
        NotAltered::NotText(files) => {
            let next = "publish a package of your own with these files, since a patch cannot hold them";
            let changed = format!("changed, but not text: {}", join(files));
            tell(Code::NotAltered, headline, next).note(changed).or("put them back as they were")
        }
        NotAltered::NoReason => tell(
            Code::NotAltered,
            headline,
            Suggestion::run(format!("yostel alter {package} --keep --why \"…\""), "for those who come after"),
        ),
        NotAltered::OtherRelease { .. } => {
            let next = Suggestion::run(
                format!("yostel alter {package} --drop"),
                format!("which saves what was changed, then {open}"),
            );
            tell(Code::NotAltered, headline, next)
        }
    }
}
