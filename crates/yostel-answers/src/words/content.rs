//! Content that is not what was vouched for: archives, trees, releases published again.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};
use jiff::Timestamp;
use yostel_documents::{Hunk, Mark, PackageName};
use yostel_flows::{ContentError, ForeignProblem, Republished, Seen};
use yostel_store::{AdmitError, FileChange, UnpackRefusal};
use yostel_versions::Version;

use super::place::{of_git, of_io, of_source, of_store};
use super::{TOLD, TOLD_LINES, Viewpoint, age, count, join, tell};

/// Tells why the content of packages cannot be brought in.
pub(super) fn of_content(error: &ContentError, view: &Viewpoint<'_>) -> Diagnostic {
    let headline = error.to_string();
    match error {
        ContentError::Git { package, commit, error } => of_git(error, package, commit.as_deref()),
        ContentError::Archive { package, .. } => {
            tell(Code::ArchiveMissing, headline, format!("correct `archive` of {package}"))
                .or("get the archive back at that address; one with its digest elsewhere will do too")
        }
        ContentError::Foreign { problem, .. } => tell(
            Code::ForeignManifest,
            headline,
            match problem {
                ForeignProblem::OtherName(found) => format!("need it as {found}"),
                ForeignProblem::Unfit(_) => "take another commit, and tell whoever keeps the repository".into(),
                ForeignProblem::Manifest(_) => "take another commit or archive, one with a manifest in order".into(),
                ForeignProblem::Place(needed, place) => {
                    format!("name the place in your manifest too: {needed}, from {place}")
                }
            },
        ),
        ContentError::Kit { path, error } => {
            let next = "copy the file again, or save it again where it came from";
            let told = tell(Code::Kit, format!("{} cannot be used: {error}", view.show(path)), next);
            told.note("the cache is as it was")
        }
        ContentError::Source(error) => of_source(error, view),
        ContentError::Admit { package, version, place, seen, error } => {
            with_seen(of_admit(error, package, version.as_ref(), place), seen.as_ref(), view)
        }
        ContentError::NotInCache(packages) => {
            let names: Vec<String> =
                packages.iter().take(TOLD).map(|(name, version)| format!("{name} {version}")).collect();
            let more = packages.len().saturating_sub(TOLD);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let names = if more.is_empty() { join(&names) } else { names.join(", ") };
            let headline = format!("the cache does not hold {names}{more}");
            tell(
                Code::NotInCache,
                headline,
                Suggestion::run("yostel install", "without --offline, to fetch what is missing"),
            )
            .note(format!("the cache is {}", view.cache.display()))
        }
        ContentError::NoArtifact { package, version, wanted, offered } => {
            let first = offered.first().map_or("PLATFORM", String::as_str);
            let headline = format!("{package} {version} is locked for {}, not for {wanted}", join(offered));
            tell(Code::NoArtifact, headline, format!("list \"{wanted}\" in platforms of [project], then yostel lock"))
                .or(Suggestion::command(format!("yostel install --platform {first}")))
        }
    }
}

pub(super) fn of_admit(
    error: &AdmitError,
    package: &PackageName,
    version: Option<&Version>,
    place: &str,
) -> Diagnostic {
    let label = version.map_or_else(|| package.to_string(), |version| format!("{package} {version}"));
    match error {
        AdmitError::ArchiveDiffers { expected, found, bytes, expected_bytes } => {
            let size = match bytes.cmp(expected_bytes) {
                std::cmp::Ordering::Equal => format!("both have {}", count(*bytes as usize, "byte")),
                std::cmp::Ordering::Less => {
                    format!("it has {bytes} bytes, {expected_bytes} were announced: it was cut short")
                }
                std::cmp::Ordering::Greater => format!("more than the {expected_bytes} bytes that were announced"),
            };
            if version.is_none() {
                let headline = format!("{label} is not the archive with the digest that its need names");
                let next = format!("correct `digest` of {package}, if the other one is meant");
                let next_of = "ask whoever keeps that address: its archive was changed or damaged";
                return tell(Code::ArchiveDiffers, headline, next)
                    .or(next_of)
                    .note(format!("wanted {expected}"))
                    .note(format!("found  {found}"))
                    .note(format!("from   {place}"));
            }
            tell(
                Code::ArchiveDiffers,
                format!("{label} is not the archive that was locked; nothing was installed"),
                "ask whoever keeps that source: its archive was changed or damaged",
            )
            .note(format!("locked {expected}"))
            .note(format!("found  {found} ({size})"))
            .note(format!("from   {place}"))
            .or(Suggestion::run("yostel install", "once the source is in order again"))
        }
        AdmitError::TreeDiffers { expected, found } => tell(
            Code::TreeDiffers,
            format!("{label} does not unpack to the files that were locked; nothing was installed"),
            Suggestion::run("yostel verify --lock", "to see whether the lockfile still says what its source says"),
        )
        .or("ask whoever published it, if it does: its record and its archive do not belong together")
        .note(format!("locked tree {expected}"))
        .note(format!("found  tree {found}"))
        .note(format!("from   {place}")),
        AdmitError::Refused(refusal) => {
            let why = match refusal {
                UnpackRefusal::UnknownFormat => "a file that is not an archive, or a page of words in place of one",
                UnpackRefusal::Malformed(_) => "an archive that was cut short or damaged",
                UnpackRefusal::TooMuch { .. } => "an archive that fills the disk",
                UnpackRefusal::Leaves(_)
                | UnpackRefusal::Link { .. }
                | UnpackRefusal::BelowLink(_)
                | UnpackRefusal::Kind { .. } => "an archive like this can overwrite files outside the project",
                UnpackRefusal::Name { .. } | UnpackRefusal::Twice(..) => {
                    "an archive like this unpacks differently elsewhere"
                }
            };
            tell(
                Code::ArchiveRefused,
                format!("{label} is refused: {refusal}"),
                format!("do not use it, and ask whoever published it: {why}"),
            )
            .note(format!("from {place}"))
            .note("nothing was installed")
        }
        AdmitError::Read { bytes, cause } => {
            of_io(Code::SourceBroken, format!("{label}: reading it broke off after {bytes} bytes: {cause}"), cause)
                .note(format!("from {place}"))
        }
        AdmitError::Store(error) => of_store(error),
    }
}

/// Tells releases that were published again: what was locked, what is offered now, and what differs.
pub(super) fn of_republished(releases: &[Republished], view: &Viewpoint<'_>) -> Diagnostic {
    let names: Vec<String> =
        releases.iter().map(|release| format!("{} {}", release.package, release.version)).collect();
    let headline = format!(
        "{} {} published again with different content",
        join(&names),
        if names.len() == 1 { "was" } else { "were" }
    );
    let here = releases.iter().all(|release| release.changes.is_some());
    let next = if here {
        "ask its publisher why; what is locked can still be installed from the cache"
    } else {
        "ask its publisher why; where a cache still has it, yostel cache save FILE there and yostel cache load FILE here"
    };
    let mut told = tell(Code::Republished, headline, next)
        .or(Suggestion::run("yostel lock --fresh", "to take the new content (and newer versions) over"))
        .note("a release should never change: whoever locked it before gets other files than you would");
    for release in releases.iter().take(TOLD) {
        if releases.len() > 1 {
            told = told.note(format!("{} {}:", release.package, release.version));
        }
        told = told.note(format!("locked {}", release.locked.digest));
        told = with_seen(told, release.seen.as_ref(), view);
        told = told.note(format!("found  {}", release.offered.digest)).note(format!("from   {}", release.place));
        told = match &release.changes {
            None => told.note("what differs cannot be told: the cache does not hold what is locked"),
            Some(changes) if changes.is_empty() => {
                told.note("the files in both are the same; only the archive was made anew")
            }
            Some(changes) => {
                let told = told.note("what differs, from locked to found:");
                changes_told(changes, TOLD_LINES).into_iter().fold(told, Diagnostic::note)
            }
        };
    }
    told
}

/// Adds when the right content was last here.
pub(super) fn with_seen(told: Diagnostic, seen: Option<&Seen>, view: &Viewpoint<'_>) -> Diagnostic {
    let Some(seen) = seen else { return told };
    let ago = |second: i64| match Timestamp::from_second(second) {
        Ok(then) => match age(then, view.now).as_str() {
            "today" => "today".to_owned(),
            age => format!("{age} ago"),
        },
        Err(_) => "at an unknown time".to_owned(),
    };
    let by = match view.show(&seen.by) {
        here if here.is_empty() || here == "." => "this project".to_owned(),
        there => there,
    };
    let (brought, used) = (ago(seen.brought), ago(seen.used));
    told.note(format!("seen   {brought}, brought here from {} by {by}; last used {used}", seen.from))
}

/// Tells what differs in files, in so many lines at most.
pub fn changes_told(changes: &[FileChange], most: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut more = 0;
    for change in changes {
        if lines.len() >= most {
            more += 1;
            continue;
        }
        let unsaid = if change.patch.is_none() { ", which is not text" } else { "" };
        lines.push(format!("{}: {}{unsaid}", change.path, change.word()));
        let hunks = change.patch.iter().flat_map(|patch| &patch.hunks);
        let text: Vec<String> = hunks.flat_map(told_lines).collect();
        let room = most.saturating_sub(lines.len()).max(2);
        lines.extend(text.iter().take(room).cloned());
        if text.len() > room {
            lines.push(format!("    … and {} more of this file", count(text.len() - room, "line")));
        }
    }
    if more > 0 {
        lines.push(format!("and {} more", count(more, "file")));
    }
    lines
}

/// The lines of a hunk that go or come, and one of those around them on each side.
fn told_lines(hunk: &Hunk) -> Vec<String> {
    let changed = |at: usize| hunk.lines.get(at).is_some_and(|line| line.mark != Mark::Same);
    let mut number = hunk.old_start;
    let mut told = Vec::new();
    for (at, line) in hunk.lines.iter().enumerate() {
        let near = changed(at) || changed(at + 1) || at > 0 && changed(at - 1);
        let place = if line.mark == Mark::Added { String::new() } else { number.to_string() };
        number += usize::from(line.mark != Mark::Added);
        if near {
            told.push(format!("{place:>6} {} {}", line.mark.sign(), line.text.trim_end_matches('\n')));
        }
    }
    told
}
