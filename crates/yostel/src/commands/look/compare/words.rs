//! What a change of a lockfile means, for people: on a terminal, and in Markdown.

use jiff::Timestamp;
use yostel_answers::answers::compare::is_alarm;
use yostel_answers::words::{age, cause_words, severity_words, side_words, size, versions_words};
use yostel_findings::{Compared, Comparison, MoveKind, Threat};
use yostel_flows::{CompareReport, Side};

use crate::call::Call;
use crate::render::markdown::escaped;
use crate::render::{Columns, Head, Role, below, count, indented, join, note, paint};
use crate::sanitise::sanitise;

/// How many advisories, and how many packages of a licence, are named.
const MOST_NAMED: usize = 5;

/// Tells it on a terminal: alarms first, then what breaks, moves, comes and goes.
pub(super) fn text(report: &CompareReport, call: &Call) -> String {
    let [old, new] = names(report, call);
    let what = format!("{old} -> {new}");
    table(&report.comparison, &what, call.settings.now, &cause_words, (&|_| false, usize::MAX))
        + &said_besides(&report.comparison)
        + &untold(report).map(note).unwrap_or_default()
}

/// Tells what comes with the moves.
pub(crate) fn said_besides(comparison: &Comparison) -> String {
    besides(comparison).into_iter().map(|(role, lead, says)| below(role, lead, says)).collect()
}

/// Tells what moved, at most so much of it, and what was asked for first; ages are those at a time.
pub(crate) fn table(
    comparison: &Comparison,
    what: &str,
    now: Timestamp,
    because: &dyn Fn(&Compared) -> String,
    (is_asked, most): (&dyn Fn(&Compared) -> bool, usize),
) -> String {
    let mut text = String::new();
    let alarms: Vec<&Compared> = comparison.moves.iter().filter(|one| is_alarm(&one.moved.kind)).collect();
    if !alarms.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Bad, "Alarm: not what it was, under the same version")));
    }
    for one in &alarms {
        let package = paint(Role::Package, &one.moved.package);
        text.push_str(&format!("  {package} {}\n", sanitise(&versions_words(&one.moved.kind))));
    }
    text.push_str(&indented(0, format!("{what}: {}.", sums(comparison))));
    let mut rows = ranked(comparison);
    // What was asked for comes first, however little it breaks.
    rows.sort_by_key(|(_, one)| !is_asked(one));
    if rows.is_empty() {
        return text;
    }
    // Without what sources tell, nobody knows any age.
    let has_ages = rows.iter().any(|(_, one)| one.published.is_some());
    let ages = has_ages.then_some(Head::number("age").spare());
    let heads = [Head::change("what"), Head::package("package"), Head::words("versions")];
    let mut columns = Columns::new(heads.into_iter().chain(ages).chain([Head::words("because")]));
    let more = rows.len().saturating_sub(most);
    for (rank, one) in rows.into_iter().take(most) {
        let kind = &one.moved.kind;
        let age = one.published.map_or_else(|| "-".to_owned(), |published| age(published, now));
        let cells = [rank.word().to_owned(), one.moved.package.to_string(), versions_words(kind)];
        columns.row(cells.into_iter().chain(has_ages.then_some(age)).chain([because(one)]));
    }
    text.push_str(&columns.finish());
    if more > 0 { text + &format!("  and {more} more: --in-full\n") } else { text }
}

/// Tells it as a comment in a review.
pub(super) fn markdown(report: &CompareReport, call: &Call) -> String {
    let [old, new] = names(report, call);
    let mut text = format!("## Lockfile: {} → {}\n\n", escaped(&old), escaped(&new));
    text.push_str(&markdown_of(&report.comparison));
    if let Some(untold) = untold(report) {
        text.push_str(&format!("\n{}.\n", escaped(&untold)));
    }
    text
}

/// Writes what moved in Markdown.
pub(crate) fn markdown_of(comparison: &Comparison) -> String {
    let mut text = String::new();
    for one in comparison.moves.iter().filter(|one| is_alarm(&one.moved.kind)) {
        let (package, what) = (escaped(one.moved.package.as_str()), escaped(&versions_words(&one.moved.kind)));
        text.push_str(&format!("**Alarm: {package} {what}. Find out why before this goes in.**\n\n"));
    }
    text.push_str(&format!("{}.\n", sums(comparison).replace("nothing moved", "Nothing moved")));
    let rows = ranked(comparison);
    if !rows.is_empty() {
        text.push_str("\n| what | package | versions | because |\n| --- | --- | --- | --- |\n");
    }
    for (rank, one) in rows {
        let word = if rank == Rank::Breaks { "**breaks**" } else { rank.word() };
        let versions = versions_words(&one.moved.kind).replace(" -> ", " → ");
        let cells = [one.moved.package.as_str(), &versions, &cause_words(one)].map(escaped);
        text.push_str(&format!("| {word} | {} |\n", cells.join(" | ")));
    }
    let besides = besides(comparison);
    if !besides.is_empty() {
        text.push('\n');
    }
    for (_, lead, says) in besides {
        text.push_str(&format!("- {lead} {}\n", escaped(&says)));
    }
    text
}

/// Lists what moved, but for alarms, in the order in which one wants to read it.
fn ranked(comparison: &Comparison) -> Vec<(Rank, &Compared)> {
    let moves = comparison.moves.iter().filter(|one| !is_alarm(&one.moved.kind));
    let mut rows: Vec<(Rank, &Compared)> = moves.map(|one| (rank(&one.moved.kind), one)).collect();
    rows.sort_by_key(|(rank, _)| *rank);
    rows
}

fn names(report: &CompareReport, call: &Call) -> [String; 2] {
    report.sides.clone().map(|side| match &side {
        Side::File(path) => call.show(path),
        other => side_words(other),
    })
}

/// Counts what happened.
fn sums(comparison: &Comparison) -> String {
    let number = |is: fn(&MoveKind) -> bool| comparison.moves.iter().filter(|one| is(&one.moved.kind)).count();
    let counted = [
        (number(|kind| matches!(kind, MoveKind::Moved { .. })), "moved"),
        (number(|kind| matches!(kind, MoveKind::Moved { crosses_line: true, .. })), "of them not compatible"),
        (number(|kind| matches!(kind, MoveKind::Added { .. })), "added"),
        (number(|kind| matches!(kind, MoveKind::Dropped { .. })), "gone"),
        (
            number(|kind| !matches!(kind, MoveKind::Moved { .. } | MoveKind::Added { .. } | MoveKind::Dropped { .. })),
            "otherwise changed",
        ),
    ];
    let mut said: Vec<String> = counted
        .into_iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, what)| format!("{number} {what}"))
        .collect();
    if said.is_empty() {
        said.push("nothing moved".to_owned());
    }
    said.push(match (comparison.packages_before, comparison.packages) {
        (before, now) if before == now => count(now, "package"),
        (before, now) => format!("{} in place of {before}", count(now, "package")),
    });
    said.join(", ")
}

/// What a move is first of all, in the order in which one wants to read it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    Breaks,
    Down,
    Up,
    Added,
    Gone,
    Other,
}

impl Rank {
    fn word(self) -> &'static str {
        match self {
            Self::Breaks => "breaks",
            Self::Down => "down",
            Self::Up => "up",
            Self::Added => "added",
            Self::Gone => "gone",
            Self::Other => "other",
        }
    }
}

fn rank(kind: &MoveKind) -> Rank {
    match kind {
        MoveKind::Moved { crosses_line: true, .. } => Rank::Breaks,
        MoveKind::Moved { from, to, .. } if to < from => Rank::Down,
        MoveKind::Moved { .. } => Rank::Up,
        MoveKind::Added { .. } => Rank::Added,
        MoveKind::Dropped { .. } => Rank::Gone,
        _ => Rank::Other,
    }
}

/// What comes with the moves, a line each: how it is to be taken, a word that leads it, and the rest.
fn besides(comparison: &Comparison) -> Vec<(Role, &'static str, String)> {
    let named = |threats: &[Threat]| {
        let one = |threat: &Threat| {
            let severity = severity_words(threat).map(|words| format!(", {words}")).unwrap_or_default();
            format!("{} ({} {}{severity})", threat.id, threat.package, threat.version)
        };
        some_of(threats.iter().map(one).collect())
    };
    let mut lines = Vec::new();
    if !comparison.advisories_in.is_empty() {
        lines.push((Role::Bad, "careful:", format!("newly affected by {}", named(&comparison.advisories_in))));
    }
    if !comparison.advisories_out.is_empty() {
        lines.push((Role::Good, "good:", format!("no longer affected by {}", named(&comparison.advisories_out))));
    }
    let told = |licence: &Option<String>| licence.clone().unwrap_or_else(|| "none told".to_owned());
    for one in &comparison.moves {
        if let Some((before, after)) = &one.licences {
            let says = format!("of {}: {}, and before {}", one.moved.package, told(after), told(before));
            lines.push((Role::Notice, "licence", says));
        }
    }
    for (licence, packages) in &comparison.new_licences {
        let packages = some_of(packages.iter().map(ToString::to_string).collect());
        lines.push((Role::Notice, "licence", format!("that nothing had before: {licence} ({packages})")));
    }
    if comparison.bytes != 0 {
        let more = if comparison.bytes > 0 { "more" } else { "less" };
        lines.push((Role::Quiet, "to fetch:", format!("{} {more}", size(comparison.bytes.unsigned_abs()))));
    }
    lines
}

fn some_of(mut all: Vec<String>) -> String {
    let more = all.len().saturating_sub(MOST_NAMED);
    all.truncate(MOST_NAMED);
    if more > 0 {
        all.push(format!("{more} more"));
    }
    join(&all)
}

fn untold(report: &CompareReport) -> Option<String> {
    if let Some(why) = &report.untold {
        return Some(format!("licences and advisories are not told: {why}"));
    }
    let unread = report.unread.len();
    (unread > 0).then(|| format!("{} cannot be read: yostel audit advisories", count(unread, "advisory file")))
}
