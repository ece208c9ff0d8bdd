//! What `audit` tells people: one section after the other, as they are read.

use std::collections::{BTreeMap, BTreeSet};

use yostel_answers::words::{
    concern_words, day, debt_words, dispute_words, duplicate_words, edit_words, licence_words, need_command,
    notice_words, quiet_words, size,
};
use yostel_documents::{AskedBy, PackageName};
use yostel_findings::{AuditReport, Dedupe, Duplicate, FindingGroup, News, Outdated, Standing, Trial, Verdict, WayOut};
use yostel_versions::Version;

use super::advisories;
use crate::render::{Columns, Head, Role, count, indented, join, lag, next_step, note, paint};

/// What is left out of the words, and why.
#[derive(Debug, Default)]
pub(super) struct Left {
    /// Findings that a baseline knows.
    pub(super) known: BTreeSet<String>,
    /// Whether none of the others lets the audit fail.
    is_fine: bool,
    /// Whether only a part of what is outdated was asked for.
    is_narrowed: bool,
}

impl Left {
    pub(super) fn of(verdict: &Verdict<'_>, is_fine: bool, is_narrowed: bool) -> Self {
        let known = verdict.all.iter().filter(|judged| matches!(judged.standing, Standing::Known(_)));
        Self { known: known.map(|judged| judged.finding.id.clone()).collect(), is_fine, is_narrowed }
    }

    /// Says how many findings are known.
    fn words(&self) -> Option<String> {
        (!self.known.is_empty()).then(|| format!("{} left out", count(self.known.len(), "known finding")))
    }
}

/// Tells what was found, and what to do next.
pub(super) fn words(
    report: &AuditReport,
    looked_for: impl Fn(FindingGroup) -> bool,
    is_workspace: bool,
    verbose: bool,
    left: &Left,
) -> String {
    // Long: one section after the other, as they are read.
    if !report.has_findings() {
        let nothing = [
            (
                FindingGroup::Outdated,
                if left.is_narrowed { "nothing outdated of that kind" } else { "nothing outdated" },
            ),
            (FindingGroup::Duplicates, "no duplicates"),
            (FindingGroup::Advisories, "no advisory affects any"),
            (FindingGroup::Notices, "nothing withdrawn or deprecated"),
            (FindingGroup::Licences, "every licence allowed"),
            (FindingGroup::Upkeep, "no upkeep due"),
        ];
        let is_judged = |kind| kind != FindingGroup::Licences || report.judges_licences;
        let said =
            nothing.into_iter().filter(|(kind, _)| looked_for(*kind) && is_judged(*kind)).map(|(_, words)| words);
        let said = match said.collect::<Vec<_>>() {
            said if said.is_empty() => "any licence will do, as [policy] names no allowed-licences".to_owned(),
            said => said.join(", "),
        };
        let said = left.words().map_or(said, |left| format!("nothing new, {left}"));
        return format!("{}: {said}.\n", count(report.packages, "package"));
    }
    let mut text = String::new();
    if !report.alarms.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Bad, "Alarm: the lockfile and the sources tell different things")));
        for alarm in &report.alarms {
            text.push_str(&indented(2, dispute_words(alarm)));
        }
        let next = "take yostel.lock back from version control, or ask whoever publishes these why they changed";
        text.push_str(&next_step(next));
    }
    text.push_str(&advisories::words(report, verbose));
    if !report.notices.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Withdrawn or deprecated since")));
        for notice in &report.notices {
            text.push_str(&indented(2, notice_words(notice)));
        }
    }
    if !report.unlicensed.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Licences")));
        for one in &report.unlicensed {
            text.push_str(&indented(2, licence_words(one)));
        }
    }
    // Both tables begin their second column at one place.
    let longest = report.outdated.iter().map(|outdated| outdated.package.as_str().len()).max().unwrap_or(0);
    for (direct, title) in [(true, "Outdated, asked for by the project"), (false, "Outdated, came along")] {
        let rows: Vec<&Outdated> = report.outdated.iter().filter(|outdated| outdated.direct == direct).collect();
        if rows.is_empty() {
            continue;
        }
        text.push_str(&format!("{}\n", paint(Role::Title, title)));
        let mut columns = Columns::new([
            Head::package("package"),
            Head::plain("locked"),
            Head::plain("accepted").spare(),
            Head::plain("newest"),
            Head::plain("can move"),
            Head::plain("breaks"),
            Head::number("behind").spare(),
            Head::words("held back by"),
        ]);
        for outdated in rows {
            let [package, rest @ ..] = outdated_row(outdated, verbose);
            columns.row(std::iter::once(format!("{package:<longest$}")).chain(rest));
        }
        text.push_str(&columns.finish());
    }
    text.push_str(&news(report));
    if !report.upkeep.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Due for review")));
        let mut columns = Columns::new([
            Head::plain("rule"),
            Head::package("package"),
            Head::place("place"),
            Head::words("what"),
            Head::words("why it is there"),
        ]);
        for upkeep in &report.upkeep {
            let debts: Vec<String> = upkeep.debts.iter().map(debt_words).collect();
            let (line, why) = (format!("{}:{}", upkeep.file, upkeep.line), upkeep.why.clone());
            columns.row([upkeep.rule.word().into(), upkeep.package.to_string(), line, join(&debts), why]);
        }
        text.push_str(&columns.finish());
    }
    if !report.concerns.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "May go wrong one day")));
        for concern in &report.concerns {
            let place = concern.place.as_ref().map(|spot| format!(" ({}:{})", spot.file, spot.line));
            text.push_str(&indented(2, concern_words(concern) + &place.unwrap_or_default()));
        }
    }
    if !report.duplicates.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Duplicates")));
        for duplicate in &report.duplicates {
            text.push_str(&match duplicate {
                Duplicate::Versions { package, versions, bytes } => {
                    several(package, versions, *bytes, &report.dedupes, is_workspace)
                }
                duplicate => indented(2, duplicate_words(duplicate)),
            });
        }
    }
    if !report.quiet.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Quiet")));
        for quiet in &report.quiet {
            text.push_str(&indented(2, quiet_words(quiet)));
        }
    }
    if !report.unknown.is_empty() {
        let names: Vec<String> = report.unknown.iter().map(ToString::to_string).collect();
        text.push_str(&format!("{}\n  {}\n", paint(Role::Title, "In no source any more"), join(&names)));
    }
    let accepted = report.outdated.iter().filter(|outdated| outdated.accepted.is_some()).count();
    let withdrawn = report.notices.iter().filter(|notice| notice.withdrawn.is_some()).count();
    let crossing = report.outdated.iter().filter(|outdated| outdated.crosses_line).count();
    let packages = count(report.packages, "package");
    let mut sums = vec![match looked_for(FindingGroup::Outdated) {
        true if left.is_narrowed => format!("{} of {packages} outdated and of that kind", report.outdated.len()),
        true => format!("{} of {packages} outdated", report.outdated.len()),
        false => format!("{packages} looked at"),
    }];
    if crossing > 0 {
        sums.push(format!("{crossing} not compatible with the newest"));
    }
    if !report.advisories.is_empty() {
        sums.push(format!("{} affected by advisories", count(affected(report), "package")));
    }
    if !report.notices.is_empty() {
        sums.push(format!("{} withdrawn or deprecated", report.notices.len()));
    }
    if !report.unlicensed.is_empty() {
        sums.push(format!("{} not allowed", count(report.unlicensed.len(), "licence")));
    }
    if !report.quiet.is_empty() {
        sums.push(format!("{} quiet", report.quiet.len()));
    }
    if !report.duplicates.is_empty() {
        sums.push(count(report.duplicates.len(), "duplicate"));
    }
    if !report.upkeep.is_empty() {
        sums.push(format!("{} due for review", report.upkeep.len()));
    }
    if !report.concerns.is_empty() {
        sums.push(format!("{} that may go wrong", report.concerns.len()));
    }
    sums.extend(left.words());
    text.push_str(&indented(0, format!("{}.", sums.join(", "))));
    let untried = report.outdated.iter().filter(|one| one.tried.is_none() && !one.several).count();
    if untried > 0 {
        let tries = "yostel explain PACKAGE --instead VERSION tries one";
        text.push_str(&note(format!("it was not tried whether {untried} of them can move: {tries}")));
    }
    if left.is_fine {
        text.push_str(&note("none of these lets the audit fail, as --fail-on says"));
    }
    let out = report
        .advisories
        .iter()
        .find_map(|one| need_command(&one.way, &report.project).map(|(next, _)| (next, &one.threat.id)));
    if let Some((out, id)) = out {
        text.push_str(&next_step(format!("{out}, then yostel lock, to be out of {id}")));
    } else if report.advisories.iter().any(|one| matches!(one.way, WayOut::Fresh(_))) {
        text.push_str(&next_step("yostel update --advisories, to be out of what can be had now"));
    } else if accepted > 0 {
        let takes = format!("yostel update, which takes {}", count(accepted, "update"));
        text.push_str(&next_step(takes));
    } else if withdrawn > 0 {
        let next = "yostel update --preview, to see what it takes to be without what is withdrawn";
        text.push_str(&next_step(next));
    } else if !report.unlicensed.is_empty() {
        let next = "take another package, add the licence to `allowed-licences` in [policy], or except it in [licence-exceptions]";
        text.push_str(&next_step(next));
    } else if let Some(next) = report.outdated.iter().find_map(next_for) {
        text.push_str(&next_step(next));
    }
    text
}

/// Says what to do about a package that is behind: the need to change, where that is all, or what tells more.
fn next_for(outdated: &Outdated) -> Option<String> {
    let Outdated { package, newest, tried, .. } = outdated;
    match tried.as_ref()? {
        Trial::Free { edits, others } => {
            let moves = match others {
                0 => "nothing else moves".to_owned(),
                1 => "1 other package moves".to_owned(),
                others => format!("{others} other packages move"),
            };
            let edit = if edits.is_empty() { "" } else { " --edit" };
            Some(format!("yostel update {package}{edit}, to have the newest ({moves})"))
        }
        Trial::Blocked => {
            Some(format!("yostel explain {package} --instead {newest}, to see what keeps the newest out"))
        }
    }
}

/// Tells what newer releases say that is new in them, where that was asked for.
fn news(report: &AuditReport) -> String {
    let mut text = String::new();
    for outdated in report.outdated.iter().filter(|outdated| !outdated.news.is_empty()) {
        if text.is_empty() {
            text.push_str(&format!("{}\n", paint(Role::Title, "What is new")));
        }
        text.push_str(&format!("  {} {}\n", paint(Role::Package, &outdated.package), outdated.locked));
        for News { version, published, notes } in &outdated.news {
            let says = notes.as_deref().unwrap_or("it does not say");
            text.push_str(&indented(4, format!("{version}, {}: {says}", day(*published))));
        }
    }
    text
}

/// Counts the packages that advisories affect.
fn affected(report: &AuditReport) -> usize {
    report.advisories.iter().map(|one| &one.threat.package).collect::<BTreeSet<_>>().len()
}

fn outdated_row(outdated: &Outdated, verbose: bool) -> [String; 8] {
    let held: Vec<String> =
        outdated.held_by.iter().map(|holder| format!("{} ({})", holder.who, holder.accept)).collect();
    let behind = outdated.published.map(|then| lag(then, outdated.newest_published)).unwrap_or_else(|| "?".into());
    let shown =
        if held.len() > 2 && !verbose { format!("{} and {} more", held[0], held.len() - 1) } else { held.join(", ") };
    [
        outdated.package.to_string(),
        outdated.locked.to_string(),
        outdated.accepted.as_ref().map_or_else(|| "-".into(), ToString::to_string),
        outdated.newest.to_string(),
        match &outdated.tried {
            Some(Trial::Free { others: 0, .. }) => "alone".into(),
            Some(Trial::Free { others, .. }) => format!("with {others} more"),
            Some(Trial::Blocked) => "no".into(),
            None if outdated.several => "-".into(),
            None => "?".into(),
        },
        if outdated.crosses_line { "yes".into() } else { "-".into() },
        behind,
        match (shown.is_empty(), outdated.kept_out) {
            (true, true) => "what others need".into(),
            (true, false) => "-".into(),
            (false, _) => shown,
        },
    ]
}

/// Tells of a package at several versions: who asks for which, and what would join them.
fn several(
    package: &PackageName,
    versions: &[(Version, BTreeSet<AskedBy>)],
    bytes: Option<u64>,
    dedupes: &BTreeMap<PackageName, Dedupe>,
    is_workspace: bool,
) -> String {
    let all: Vec<String> = versions.iter().map(|(version, _)| version.to_string()).collect();
    let spare = bytes.filter(|bytes| *bytes > 0).map(|bytes| format!(" ({} too many)", size(bytes)));
    let mut text = format!("  {package} is there at {}{}\n", join(&all), spare.unwrap_or_default());
    for (version, asked_by) in versions {
        let asked: Vec<String> = asked_by.iter().map(|asked| format!("{} {}", asked.who, asked.accept)).collect();
        text.push_str(&indented(4, format!("{version}, asked for by {}", join(&asked))));
    }
    let next = paint(Role::Good, "to join them:");
    text.push_str(&match dedupes.get(package) {
        Some(Dedupe::ByPolicyOnly) => {
            format!("    {next} take {package} out of `coexist` in [policy], then yostel lock\n")
        }
        Some(Dedupe::Edits(edits)) => {
            let edits: Vec<String> = edits.iter().map(|edit| edit_words(edit, is_workspace)).collect();
            format!("    {next} {}, and take {package} out of `coexist` in [policy]\n", join(&edits))
        }
        Some(Dedupe::Impossible) | None => {
            "    no change of what the project needs brings them to one version today\n".to_owned()
        }
    });
    text
}
