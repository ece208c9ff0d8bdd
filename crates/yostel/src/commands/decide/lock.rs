//! `lock`: resolve, write the lockfile, tell what moved and because of whom.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use clap::{Args, ValueEnum};
use jiff::Timestamp;
use yostel_answers::answers::decide::LockAnswer;
use yostel_answers::words::ago;
use yostel_answers::words::{Viewpoint, doubt_words, notice_words};
use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::SourceName;
use yostel_documents::{Take, time_of};
use yostel_findings::{BothMoved, Move, MoveKind};
use yostel_flows::{FlowError, Keep, LockReport, LockRequest, SearchError, SearchReport, Sides, Standing, Write, lock};
use yostel_resolve::Overridden;

use crate::answer::{Answer, Said, failure, failure_of, failure_seen_from};
use crate::call::Call;
use crate::commands::using::install::{go_on_to_install, words_after};
use crate::exit::Exit;
use crate::options::GoOn;
use crate::render::{Columns, Head, Role, below, count, join, next_step, note};

/// How many moves are told before `--in-full`.
pub(super) const TOLD: usize = 20;

/// Resolve the needs and write the lockfile, telling what moved and why
///
/// Versions that are locked stay where they can; what must move is told, with who asks for it. Nothing is written when
/// nothing changed.
#[derive(Debug, Default, Args)]
pub(crate) struct Lock {
    /// Ignore what is locked: take the newest of everything that the constraints accept
    #[arg(long)]
    fresh: bool,

    /// Only show what would change
    #[arg(long, conflicts_with = "install")]
    preview: bool,

    #[command(flatten)]
    go_on: GoOn,

    /// Ask no server: what the cache has of their registries is all there is
    #[arg(long)]
    pub(crate) offline: bool,

    /// Show everything, however long
    #[arg(long)]
    in_full: bool,

    /// Only releases published by this day (or RFC 3339 time); what is locked may stay
    #[arg(long, value_name = "DATE", value_parser = moment)]
    as_of: Option<Timestamp>,

    /// Which of the releases that fit to take: newest, or oldest, which proves the lower bounds
    #[arg(long, value_enum, value_name = "WHICH", hide_possible_values = true)]
    take: Option<TakeArgument>,

    /// Refuse packages that only this machine has, like those needed by path
    #[arg(long)]
    shareable: bool,

    /// When there is no set, write a proof of that into this folder, for an independent checker (docs/formats.md)
    #[arg(long, value_name = "FOLDER")]
    proof: Option<PathBuf>,

    /// Search no longer than this (like 30s or 2m): the best set found by then will do
    #[arg(long, value_name = "TIME", value_parser = time)]
    time_limit: Option<Duration>,

    /// Write what comes of two lockfiles that began as one: what either side moved stays moved. Without files, of an
    /// unfinished merge of git's. Merge the manifests first
    #[arg(long, num_args = 0..=3, value_names = ["BASE", "OURS", "THEIRS"], conflicts_with_all = ["fresh", "as_of", "take"])]
    merge: Option<Vec<PathBuf>>,

    /// Merge for git, which calls this with the file that both sides began with, ours, theirs, and its path (yostel init --git)
    #[arg(long, num_args = 4, value_names = ["BASE", "OURS", "THEIRS", "PATH"], conflicts_with_all = ["fresh", "as_of", "take", "merge", "preview", "install"])]
    for_git: Vec<PathBuf>,

    /// Tell what the search did, and how long each part took
    #[arg(long)]
    stats: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum TakeArgument {
    /// As new as can be
    Newest,
    /// As old as can be
    Oldest,
}

/// Reads a day, taken to its end, or a time.
pub(crate) fn moment(text: &str) -> Result<Timestamp, String> {
    let day_end = format!("{text}T23:59:59Z");
    let day = day_end.parse::<Timestamp>().or_else(|_| text.parse::<Timestamp>());
    day.map_err(|_| "a day is written 2026-05-04, a time 2026-05-04T09:00:00Z".to_owned())
}

/// Reads a stretch of time.
pub(crate) fn time(text: &str) -> Result<Duration, String> {
    time_of(text).ok_or_else(|| "a time is written 30s, 2m or 1h30m".to_owned())
}

pub(crate) fn run(arguments: Lock, call: &Call) -> Result<Answer, FlowError> {
    if let [base, ours, theirs, path] = &arguments.for_git[..] {
        return super::for_git::run([base, ours, theirs].map(|file| call.folder.join(file)), path, call);
    }
    let project = call.project()?;
    let merge = match arguments.merge.as_deref() {
        None => None,
        Some([]) => Some(Sides::Git),
        Some([base, ours, theirs]) => Some(Sides::Files([base, ours, theirs].map(|file| call.folder.join(file)))),
        Some(_) => {
            let headline = "--merge takes three lockfiles, or none where git has an unfinished merge".to_owned();
            let next =
                Suggestion::run("yostel lock --merge BASE OURS THEIRS", "with the one that both began with first");
            return Ok(failure_of(&[Diagnostic::new(Code::Usage, headline, next)], Exit::Usage, call.format));
        }
    };
    let request = LockRequest {
        merge,
        keep: if arguments.fresh { Keep::Nothing } else { Keep::Locked },
        write: if arguments.preview { Write::Nothing } else { Write::File },
        as_of: arguments.as_of,
        take: arguments.take.map(|take| match take {
            TakeArgument::Newest => Take::Newest,
            TakeArgument::Oldest => Take::Oldest,
        }),
        proof: arguments.proof.as_ref().map(|folder| call.folder.join(folder)),
        time_limit: arguments.time_limit,
        shareable: arguments.shareable,
    };
    let started = Instant::now();
    let report = match lock(&project, request, &call.context()) {
        Err(FlowError::Search(error)) => return Ok(no_set(error, &arguments, started, call)),
        report => report?,
    };
    let took = started.elapsed();
    let words = || words(&report, &arguments, took, call);
    let installed = match go_on_to_install(arguments.go_on, call) {
        Ok(installed) => installed,
        Err(error) => return Ok(failure(&error, call).after(call, words)),
    };
    let answer = || LockAnswer::from(&report).and_then(installed.as_ref());
    let said = Said::previewing(arguments.preview || arguments.stats);
    Ok(Answer::either(call, Exit::Fine, said, answer, || words() + &words_after(installed.as_ref())))
}

/// Tells why there is no set, as fully as was asked for, and what finding that out took.
fn no_set(error: SearchError, arguments: &Lock, started: Instant, call: &Call) -> Answer {
    let took = started.elapsed();
    let search = match &error {
        SearchError::Collision { search, .. } => search.clone(),
        _ => None,
    };
    let view = Viewpoint { in_full: arguments.in_full || call.json(), ..call.viewpoint() };
    let failure = failure_seen_from(&view, &error.into(), call);
    if !arguments.stats {
        return failure;
    }
    failure.after(call, || stats(search.as_deref(), took))
}

/// Tells which other files follow.
pub(crate) fn follows(files: &[String], written: bool) -> String {
    let verb = if written { "follows" } else { "would follow" };
    files.iter().map(|file| note(format!("{file} {verb}: it mentions what is locked"))).collect()
}

/// Tells a lock that followed another command.
pub(crate) fn words_after_edit(report: &LockReport, call: &Call) -> String {
    let arguments = Lock { go_on: GoOn { install: true }, ..Lock::default() };
    words(report, &arguments, Duration::ZERO, call)
}

fn words(report: &LockReport, arguments: &Lock, took: Duration, call: &Call) -> String {
    let packages = count(report.packages, "package");
    let shown = call.show(&report.path);
    let mut text = if report.moves.is_empty() && report.both_moved.is_some() {
        format!("{packages} locked in {shown}, at the versions that ours had.\n")
    } else if report.moves.is_empty() && !report.changed {
        format!("{packages} locked in {shown}; nothing changed.\n")
    } else if arguments.preview {
        format!("{} would be locked in {shown}; nothing was written.\n", packages)
    } else if report.moves.is_empty() && report.packages == 0 {
        format!("{shown} is written; no package is needed yet.\n")
    } else if report.moves.is_empty() && !report.followed.is_empty() {
        format!("{packages} locked in {shown}; no version changed.\n")
    } else if report.moves.is_empty() {
        format!("{packages} locked in {shown}; no version changed, only the record of what the manifest asks for.\n")
    } else {
        format!("Locked {packages} in {shown}.\n")
    };
    let most = if arguments.in_full { usize::MAX } else { TOLD };
    text.push_str(&moves(&report.moves, most, all_are_in(report.written)));
    let moved = report.moves.iter().filter(|m| matches!(m.kind, MoveKind::Moved { .. })).count();
    let standing = report.search.as_ref().map_or(Standing::Best, |search| search.standing);
    if moved > 0 && !arguments.fresh && report.both_moved.is_none() {
        let verb = if moved == 1 { "package moved" } else { "packages moved" };
        let fewest = match standing {
            Standing::Best | Standing::FewestMoves => "the fewest possible",
            Standing::Found | Standing::NoSet => "the fewest found in time",
        };
        text.push_str(&format!("  {moved} locked {verb}, {fewest}.\n"));
    }
    if standing != Standing::Best {
        let what = "time ran out: this set is valid, but a better one may exist";
        // Once it is written, a plain lock finds that it fits and looks for nothing better.
        let again = match (report.written, report.moves.iter().all(|m| matches!(m.kind, MoveKind::Added { .. }))) {
            (false, _) => "the same again, with more time",
            (true, true) => "yostel lock --fresh, with more time",
            (true, false) => "put yostel.lock back as it was, and lock with more time",
        };
        text.push_str(&note(format!("{what}. For the best: {again}")));
    }
    text.push_str(&by_cache(&report.cached, call));
    for both in report.both_moved.iter().flatten() {
        let BothMoved { package, ours, theirs } = both;
        text.push_str(&note(format!("ours moved {package} to {ours}, theirs to {theirs}; the newer counts")));
    }
    for (package, version) in &report.gone {
        text.push_str(&note(format!("its source has no {package} {version} any more, which was locked")));
    }
    text.push_str(&overridden(&report.overridden));
    for (package, from) in &report.only_here {
        text.push_str(&note(format!("{package} comes from {from}: nobody else can install from this lockfile")));
    }
    text.push_str(&follows(&report.followed, report.written));
    for package in &report.unused_patches {
        text.push_str(&note(format!("[alter] names {package}, which nothing needs: yostel alter {package} --drop")));
    }
    for doubt in report.doubts.iter().take(TOLD) {
        text.push_str(&note(doubt_words(doubt)));
    }
    if report.doubts.len() > TOLD {
        text.push_str(&format!("  and {} like these\n", count(report.doubts.len() - TOLD, "more note")));
    }
    text.push_str(&said(report));
    text.push_str(&held(report, arguments));
    for (package, locked, newer) in report.newer.iter().take(3) {
        let says = format!("{package} stays at {locked}; with yostel update it would be {newer}");
        text.push_str(&note(says));
    }
    if report.newer.len() > 3 {
        let says = format!("so would {} be newer than they are", count(report.newer.len() - 3, "more package"));
        text.push_str(&note(says));
    }
    if arguments.stats {
        text.push_str(&stats(report.search.as_ref(), took));
    }
    if report.written && !report.moves.is_empty() && !arguments.go_on.install && report.for_here {
        text.push_str(&next_step("yostel install"));
    }
    text
}

/// Tells how old that is which the cache has of sources that were not asked.
pub(crate) fn by_cache(cached: &[(SourceName, Option<Timestamp>)], call: &Call) -> String {
    let told = cached.iter().map(|(source, seen)| match seen {
        Some(seen) => {
            note(format!("{source} was not asked: the cache has what it said {}", ago(*seen, call.settings.now)))
        }
        None => note(format!("{source} was not asked, and the cache has nothing of it")),
    });
    told.collect()
}

/// Tells what registries say of what was locked, and of what is.
fn said(report: &LockReport) -> String {
    let gone = match report.written {
        true => ", and is not locked any more",
        false => ", and would not be locked any more",
    };
    let left = report.left.iter().map(|notice| (notice, gone));
    let kept = report.notices.iter().map(|notice| match notice.withdrawn {
        Some(_) => (notice, "; it stays locked until it is updated"),
        None => (notice, ""),
    });
    let all: Vec<String> = left.chain(kept).map(|(notice, so)| note(notice_words(notice) + so)).collect();
    let more = all.len().saturating_sub(TOLD);
    let more = if more > 0 { format!("  and {more} more: yostel audit notices\n") } else { String::new() };
    all.into_iter().take(TOLD).collect::<String>() + &more
}

/// Tells what `--take` and `--as-of` would change, were what is locked not kept.
fn held(report: &LockReport, arguments: &Lock) -> String {
    // What moves anyway is told as that.
    let moves = report.held.iter().filter(|m| !report.moves.iter().any(|told| told.package == m.package));
    let told = moves.map(|m| match &m.kind {
        MoveKind::Moved { from, to, .. } => format!("{} {from} -> {to}", m.package),
        MoveKind::Dropped { from } => format!("{} {from} would go", m.package),
        MoveKind::Added { to } => format!("{} {to} would come", m.package),
        _ => m.package.to_string(),
    });
    let mut told: Vec<String> = told.collect();
    if told.is_empty() {
        return String::new();
    }
    let more = told.len().saturating_sub(4);
    if more > 0 {
        told.truncate(4);
        told.push(format!("{more} more"));
    }
    let asked = [
        arguments.take.map(|take| match take {
            TakeArgument::Newest => " --take newest".to_owned(),
            TakeArgument::Oldest => " --take oldest".to_owned(),
        }),
        arguments.as_of.map(|day| format!(" --as-of {day}")),
    ];
    let asked: String = asked.into_iter().flatten().collect();
    note(format!("what is locked stays; otherwise: {}", join(&told)))
        + &note(format!("to take these: yostel lock --fresh{asked}"))
}

fn stats(search: Option<&SearchReport>, took: Duration) -> String {
    let Some(SearchReport { stats, phases, .. }) = search else {
        return format!("  nothing to search for: the lockfile fits ({} ms)\n", took.as_millis());
    };
    let mut columns = Columns::new([Head::plain(""), Head::plain(""), Head::plain(""), Head::plain("")]);
    let known = format!("of {}", count(stats.releases, "release"));
    columns.row(["looked at".into(), count(stats.looked_at, "release"), known, count(stats.packages, "package")]);
    let asked = [count(stats.questions as usize, "question"), count(stats.decisions as usize, "decision")];
    let [questions, decisions] = asked;
    columns.row(["searched".into(), questions, decisions, format!("{} deduced", stats.propagations)]);
    let conflicts = count(stats.conflicts as usize, "conflict");
    columns.row(["learned".into(), conflicts, count(stats.learned as usize, "clause"), String::new()]);
    let mut text = columns.finish();
    let milliseconds = |time: &Duration| format!("{:.1} ms", time.as_secs_f64() * 1000.0);
    let parts: Vec<String> = phases.iter().map(|(what, time)| format!("{what} {}", milliseconds(time))).collect();
    text.push_str(&format!("  took {}: {}\n", milliseconds(&took), parts.join(", ")));
    text
}

/// Says where all that moves is told: what is written already moves no more.
pub(super) fn all_are_in(is_written: bool) -> &'static str {
    if is_written { "yostel list" } else { "the same with --in-full" }
}

/// Tells moves as a table: those that changed something first, what merely came along last. Where there are more than `most`,
/// says that all of them are in `all`.
pub(crate) fn moves(moves: &[Move], most: usize, all: &str) -> String {
    let mut sorted: Vec<&Move> = moves.iter().collect();
    sorted.sort_by_key(|m| {
        let direct = m.asked_by.iter().any(|asked| asked.who.is_project());
        (matches!(m.kind, MoveKind::Added { .. }), !direct, m.package.clone())
    });
    let mut columns = Columns::new([Head::change(""), Head::package(""), Head::plain(""), Head::words("")]);
    let mut crossing = 0;
    for m in sorted.iter().take(most) {
        let (what, versions) = match &m.kind {
            MoveKind::Added { to } => ("added", to.to_string()),
            MoveKind::Dropped { from } => ("gone", from.to_string()),
            MoveKind::Moved { from, to, crosses_line } => {
                crossing += usize::from(*crosses_line);
                ("moved", format!("{from} -> {to}{}", if *crosses_line { ", not compatible" } else { "" }))
            }
            MoveKind::Content { version } => ("content", format!("{version}, other content")),
            MoveKind::Record { version } => ("record", format!("{version}, its source describes it otherwise")),
            MoveKind::Origin { version, from, to } => ("origin", format!("{version}, {from} -> {to}")),
            MoveKind::Platforms { to, .. } => ("platforms", format!("now for {}", to.join(", "))),
            MoveKind::Altered { now: true } => ("changed", "with a patch".to_owned()),
            MoveKind::Altered { now: false } => ("changed", "without a patch again".to_owned()),
            MoveKind::Purposes { to, .. } => {
                ("purpose", format!("now for {}", to.iter().map(|p| p.as_str()).collect::<Vec<_>>().join(", ")))
            }
        };
        let because = if matches!(m.kind, MoveKind::Dropped { .. }) {
            "nothing needs it any more".to_owned()
        } else {
            because(m)
        };
        columns.row([what.to_owned(), m.package.to_string(), versions, because]);
    }
    let mut text = if moves.is_empty() { String::new() } else { columns.finish() };
    if sorted.len() > most {
        text.push_str(&format!("  … and {} more: {all}\n", sorted.len() - most));
    }
    if crossing > 0 {
        let are = if crossing == 1 { "1 move is".to_owned() } else { format!("{crossing} moves are") };
        text.push_str(&below(Role::Notice, "careful:", format!("{are} not compatible with what was locked")));
    }
    text
}

/// Tells who does not get what it asked for, because the manifest says so.
fn overridden(all: &[Overridden]) -> String {
    let mut text = String::new();
    for one in all.iter().take(5) {
        let rule = if one.package == one.asked.package { "forced:" } else { "swapped:" };
        text.push_str(&below(Role::Notice, rule, format!("{} and gets {} {}", one.asked, one.package, one.version)));
    }
    if all.len() > 5 {
        text.push_str(&format!("  and {} more of this kind\n", all.len() - 5));
    }
    text
}

/// Says who pulled a package, and along which way when that is not a direct need.
fn because(m: &Move) -> String {
    let puller = m.pulled_by.last();
    let first = m.asked_by.iter().find(|asked| Some(&asked.who) == puller);
    let Some(first) = first else { return String::new() };
    let way = match &m.pulled_by[..] {
        [way @ .., _] if way.len() > 1 && matches!(m.kind, MoveKind::Moved { .. }) => {
            let names: Vec<String> = way.iter().map(ToString::to_string).collect();
            format!(", through {}", names.join(" > "))
        }
        _ => String::new(),
    };
    let more = match m.asked_by.len() - 1 {
        0 => String::new(),
        n => format!(" and {n} more"),
    };
    format!("{} needs {}{way}{more}", first.who, first.accept)
}
