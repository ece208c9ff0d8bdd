//! `settle`: the smallest edits that end a collision.

use std::collections::BTreeSet;
use std::time::Duration;

use clap::Args;
use jiff::Timestamp;
use similar::{ChangeTag, TextDiff};
use yostel_answers::answers::decide::SettleAnswer;
use yostel_answers::words::{edit_words, notice_words, rule_edit_words, severity_words};
use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::PackageName;
use yostel_findings::{Move, MoveKind};
use yostel_flows::{FlowError, MOST_EDIT_SETS, SearchError, SettleRequest, Settlement, Settlements, settle};
use yostel_resolve::Extent;

use super::lock::{TOLD, all_are_in, moment, moves, time};
use crate::answer::{Answer, Said, failure, failure_of};
use crate::call::Call;
use crate::commands::using::install::{go_on_to_install, words_after};
use crate::exit::Exit;
use crate::options::{GoOn, package_name};
use crate::render::{Role, count, indented, join, next_step, note, numbered, paint};
use crate::sanitise::sanitise;

/// Find the smallest edits that end a collision, and apply one
///
/// Without a number, lists them: first those that leave alone what was not locked yet, then the smallest. Each was proved
/// by resolving it. With a number, edits the manifest in place and locks.
#[derive(Debug, Args)]
pub(crate) struct Settle {
    /// Which of the listed edits to apply
    number: Option<usize>,

    /// Only show what would change, with the edit of this number
    #[arg(long, requires = "number", conflicts_with = "install")]
    preview: bool,

    /// Show all that moves with the edit of this number, however much
    #[arg(long, requires = "number")]
    in_full: bool,

    /// Keep the need of this package as it is: what else must give? May be repeated
    #[arg(long = "keep", value_name = "PACKAGE", value_parser = package_name)]
    kept: Vec<PackageName>,

    /// Look no longer than this (like 30s or 2m): what was found by then is listed
    #[arg(long, value_name = "TIME", value_parser = time)]
    time_limit: Option<Duration>,

    #[command(flatten)]
    go_on: GoOn,

    /// Only releases published by this day (or RFC 3339 time); what is locked may stay
    #[arg(long, value_name = "DATE", value_parser = moment)]
    as_of: Option<Timestamp>,
}

pub(crate) fn run(arguments: Settle, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    if arguments.go_on.install && arguments.number.is_none() {
        let headline = "--install goes with the number of an edit".to_owned();
        let next = Suggestion::run("yostel settle", "to see the edits, then yostel settle 1 --install");
        return Ok(failure_of(&[Diagnostic::new(Code::Usage, headline, next)], Exit::Usage, call.format));
    }
    let request = SettleRequest {
        as_of: arguments.as_of,
        kept: arguments.kept.iter().cloned().collect(),
        time_limit: arguments.time_limit,
    };
    let Some(settlements) = settle(&project, &request, &call.context())? else {
        return Ok(Answer::done(call, Exit::Fine, SettleAnswer::nothing, || {
            "Nothing collides.\n".to_owned() + &next_step("yostel lock")
        }));
    };
    if settlements.all.is_empty() && settlements.extent == Extent::OutOfTime {
        return Err(SearchError::OutOfTime(request.time_limit.unwrap_or_default()).into());
    }
    if settlements.all.is_empty() {
        return Ok(failure_of(&[no_edit_helps(&request, settlements.extent)], Exit::NoResolution, call.format));
    }
    let Some(number) = arguments.number else {
        return Ok(Answer::either(
            call,
            Exit::Fine,
            Said::Result,
            || SettleAnswer::listed(&settlements),
            || list(&settlements, &asked(&request), project.is_workspace()),
        ));
    };
    let Some(settlement) = number.checked_sub(1).and_then(|at| settlements.all.get(at)) else {
        let listed = if settlements.all.len() == 1 { "1 is".into() } else { format!("{} are", settlements.all.len()) };
        let headline = format!("there is no edit {number}; {listed} listed");
        let again = Suggestion::run(format!("yostel settle{}", asked(&request)), "to see them");
        let diagnostic = Diagnostic::new(Code::NoSuchEdit, headline, again);
        return Ok(failure_of(&[diagnostic], Exit::Usage, call.format));
    };
    if !arguments.preview {
        settlement.proposal.apply(&project, &call.context())?;
    }
    let words = || {
        let files: Vec<String> = settlement.proposal.manifests().keys().cloned().collect();
        let diffs = settlement.proposal.manifests().iter().map(|(file, (before, after))| match files.len() {
            1 => diff(before, after),
            _ => format!("  {file}\n{}", diff(before, after)),
        });
        let (diff, files): (String, String) = (diffs.collect(), join(&files));
        let most = if arguments.in_full { usize::MAX } else { TOLD };
        let moved = moves(settlement.proposal.moves(), most, all_are_in(!arguments.preview));
        let moved = if moved.is_empty() { "Nothing moves.\n".to_owned() } else { format!("What moves:\n{moved}") };
        if arguments.preview {
            let next = format!("yostel settle{} {number}, to do it", asked(&request));
            format!("{files} would become:\n{diff}{moved}{}", next_step(next))
        } else {
            let locked = count(settlement.proposal.lockfile().chosen.len(), "package");
            let next = next_step("yostel install");
            let next = if arguments.go_on.install { "" } else { &next };
            format!("Edited {files}:\n{diff}Locked {locked}. {moved}{next}")
        }
    };
    let installed = match go_on_to_install(arguments.go_on, call) {
        Ok(installed) => installed,
        Err(error) => return Ok(failure(&error, call).after(call, words)),
    };
    let answer = || SettleAnswer::chosen(settlement, !arguments.preview, installed.as_ref());
    let said = Said::previewing(arguments.preview);
    Ok(Answer::either(call, Exit::Fine, said, answer, || words() + &words_after(installed.as_ref())))
}

/// Returns the options that ask the same again: the numbers are those of one list.
fn asked(request: &SettleRequest) -> String {
    let day = request.as_of.map(|day| format!(" --as-of {day}"));
    let kept = request.kept.iter().map(|package| format!(" --keep {package}"));
    let limit = request.time_limit.map(|limit| format!(" --time-limit {}s", limit.as_secs_f64()));
    day.into_iter().chain(kept).chain(limit).collect()
}

/// Says that nothing that may be edited, or that was tried, ends the collision.
fn no_edit_helps(request: &SettleRequest, extent: Extent) -> Diagnostic {
    let kept: Vec<String> = request.kept.iter().map(ToString::to_string).collect();
    // What was not tried may end it.
    let edit = if extent == Extent::Whole { "edit" } else { "edit that was tried" };
    let headline = match kept.is_empty() {
        true if extent == Extent::Whole => "no edit of what is declared ends the collision".to_owned(),
        true => "no edit that was tried ends the collision, and not all were".to_owned(),
        false if kept.len() == 1 => format!("no {edit} ends the collision while {} stays as it is", kept[0]),
        false => format!("no {edit} ends the collision while {} stay as they are", join(&kept)),
    };
    let see = Suggestion::run("yostel lock", "to see what collides");
    let told = match kept.is_empty() {
        true => Diagnostic::new(Code::NoEditHelps, headline, see),
        false => {
            let without = asked(&SettleRequest { kept: BTreeSet::new(), ..request.clone() });
            let without = Suggestion::run(format!("yostel settle{without}"), "to see what else would end it");
            Diagnostic::new(Code::NoEditHelps, headline, without).or(see)
        }
    };
    told.note("the manifest is as it was")
}

fn list(settlements: &Settlements, asked: &str, is_workspace: bool) -> String {
    let mut text = indented(0, "Each of these edits of the manifest ends the collision, proved by resolving it:");
    for (number, settlement) in (1..).zip(&settlements.all) {
        let needs = settlement.needs.iter().map(|edit| edit_words(edit, is_workspace));
        let edits: Vec<String> =
            needs.chain(settlement.rules.iter().map(|edit| rule_edit_words(edit, is_workspace))).collect();
        text.push_str(&numbered(number, join(&edits)));
        text.push_str(&indented(6, consequence(settlement)));
        for notice in settlement.notices.iter().take(MOST_NAMED) {
            text.push_str(&format!("      {} {}\n", paint(Role::Notice, "note:"), sanitise(&notice_words(notice))));
        }
        for threat in settlement.advisories.iter().take(MOST_NAMED) {
            let severity = severity_words(threat).map(|words| format!(", {words}")).unwrap_or_default();
            let says = format!("{} {} is affected by {}{severity}", threat.package, threat.version, threat.id);
            text.push_str(&format!("      {} {}\n", paint(Role::Notice, "note:"), sanitise(&says)));
        }
    }
    let more = match settlements.extent {
        Extent::OutOfTime => Some("time ran out; there may be more"),
        Extent::Part if settlements.all.len() < MOST_EDIT_SETS => Some("not all edits were tried; there may be more"),
        Extent::Part | Extent::Whole => None,
    };
    if let Some(more) = more {
        text.push_str(&note(more));
    }
    text + &next_step(format!("yostel settle{asked} --preview 1, or yostel settle{asked} 1"))
}

/// How many packages that move are named.
const MOST_NAMED: usize = 2;

/// Says in one line what an edit leads to: what moves and how far, and how many packages come and go.
fn consequence(settlement: &Settlement) -> String {
    let proposal = &settlement.proposal;
    let moved: Vec<String> = proposal.moves().iter().filter_map(move_words).collect();
    let more = moved.len().saturating_sub(MOST_NAMED);
    let mut parts: Vec<String> = moved.into_iter().take(MOST_NAMED).collect();
    if more > 0 {
        parts.push(if more == 1 { "1 more moves".to_owned() } else { format!("{more} more move") });
    }
    let counted = |what: &str, is: fn(&MoveKind) -> bool| {
        let number = proposal.moves().iter().filter(|m| is(&m.kind)).count();
        (number > 0).then(|| format!("{number} {what}"))
    };
    // Of what is edited, the version says more than that it is new.
    let edited: BTreeSet<&PackageName> = settlement.needs.iter().map(|edit| &edit.requirement().package).collect();
    parts.extend(proposal.moves().iter().filter(|m| edited.contains(&m.package)).filter_map(|m| match &m.kind {
        MoveKind::Added { to } => Some(format!("{} {to}", m.package)),
        _ => None,
    }));
    parts.extend(counted("added", |kind| matches!(kind, MoveKind::Added { .. })));
    let gone = proposal.moves().iter().filter(|m| matches!(m.kind, MoveKind::Dropped { .. }));
    let gone: Vec<String> = gone.map(|m| m.package.to_string()).collect();
    let gone = match &gone[..] {
        [] => String::new(),
        few if few.len() <= MOST_NAMED => format!("; gone: {}", join(few)),
        many => format!("; gone: {}", count(many.len(), "package")),
    };
    match parts.is_empty() {
        true => format!("leads to: no locked version changes{gone}"),
        false => format!("leads to: {}{gone}", join(&parts)),
    }
}

/// Says how far a package moves; nothing when it does not move.
fn move_words(one: &Move) -> Option<String> {
    let MoveKind::Moved { from, to, crosses_line } = &one.kind else { return None };
    let way = if to > from { "up" } else { "down" };
    let breaks = if *crosses_line { " (not compatible)" } else { "" };
    Some(format!("{} {way} to {to}{breaks}", one.package))
}

/// Shows the lines that differ, with one of call.
fn diff(before: &str, after: &str) -> String {
    let diff = TextDiff::from_lines(before, after);
    let mut text = String::new();
    for group in diff.grouped_ops(1) {
        for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
            let line = change.value().trim_end_matches(['\n', '\r']);
            let line = crate::sanitise::sanitise(line);
            text.push_str(&match change.tag() {
                ChangeTag::Delete => format!("  {}\n", paint(Role::Bad, format!("- {line}"))),
                ChangeTag::Insert => format!("  {}\n", paint(Role::Good, format!("+ {line}"))),
                ChangeTag::Equal => format!("    {line}\n"),
            });
        }
    }
    text
}
