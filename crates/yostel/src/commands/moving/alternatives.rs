//! Other sets that an update could come to, in words.

use std::collections::BTreeSet;

use yostel_answers::words::versions_words;
use yostel_documents::PackageName;
use yostel_findings::{Compared, MoveKind};
use yostel_flows::{Alternative, UpdateReport};

use crate::commands::look::compare::words::said_besides;
use crate::render::{Role, join_first, next_steps, note, numbered, paint};

/// How many moves of one are named.
const MOST_NAMED: usize = 8;

/// Lists them, and below them what to type for each. `options` follow what is typed.
pub(super) fn words(report: &UpdateReport, options: &str, most: usize) -> String {
    if most == 0 {
        return String::new();
    }
    let asked = report.asked.clone().unwrap_or_default();
    let beside =
        |one: &Compared| matches!(one.moved.kind, MoveKind::Moved { .. }) && !asked.contains(&one.moved.package);
    if !report.comparison.moves.iter().any(beside) {
        return note("nothing else has to move, so there is no other way");
    }
    let mut text = String::new();
    for (number, alternative) in (1..).zip(&report.alternatives) {
        if number == 1 {
            text.push_str(&format!("{}\n", paint(Role::Title, "Other ways, best first")));
        }
        text.push_str(&numbered(number, moves_words(alternative, &asked)));
        text.push_str(&said_besides(&alternative.comparison));
    }
    text.push_str(&match report.alternatives.len() {
        0 => note("there is no other way: every other set moves all of these too"),
        found if found < most => note("there are no others"),
        _ => String::new(),
    });
    let commands = report.alternatives.iter().filter_map(|alternative| {
        let asked = alternative.asked.as_ref()?;
        let words: Vec<String> = asked.iter().map(|(package, version)| format!("{package} {version}")).collect();
        Some(format!("yostel update {}{options}", words.join(" ")))
    });
    text + &next_steps(commands)
}

/// Says what one moves: what was asked for first, and what goes with it.
fn moves_words(alternative: &Alternative, asked: &BTreeSet<PackageName>) -> String {
    let word = |one: &Compared| {
        let (package, versions) = (&one.moved.package, versions_words(&one.moved.kind));
        match &one.moved.kind {
            MoveKind::Moved { crosses_line: true, .. } => format!("{package} {versions} (not compatible)"),
            MoveKind::Added { .. } => format!("{package} {versions} (added)"),
            MoveKind::Dropped { .. } => format!("{package} {versions} (gone)"),
            _ => format!("{package} {versions}"),
        }
    };
    let (named, others): (Vec<&Compared>, Vec<&Compared>) =
        alternative.comparison.moves.iter().partition(|one| asked.contains(&one.moved.package));
    let named = join_first(named.into_iter().map(word), MOST_NAMED);
    match others.is_empty() {
        true => format!("{named}, and nothing else"),
        false => format!("{named}, and with it {}", join_first(others.into_iter().map(word), MOST_NAMED)),
    }
}
