//! Choosing on a terminal which moves to make.

use std::io::{self, IsTerminal};

use dialoguer::console::{Term, pad_str, truncate_str};
use dialoguer::{Error, MultiSelect};
use yostel_answers::words::{age, versions_words};
use yostel_findings::{Compared, MoveKind};
use yostel_flows::{UpdateReport, UpdateRequest};

use crate::call::Call;
use crate::render::count;
use crate::sanitise::sanitise;

/// What precedes each line: where one is, and whether it is marked.
const MARKS: usize = 8;

/// What was chosen.
pub(super) enum Choice {
    /// All that would move.
    All,
    /// Some of it: what is to be asked for instead.
    Some(UpdateRequest),
    /// Nothing.
    Nothing,
}

/// How many lines of a terminal it takes to ask.
const LINES: u16 = 6;

/// Tells why nobody can be asked; nothing where somebody can.
pub(super) fn why_not() -> Option<String> {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return Some("--choose asks on a terminal, and there is none".to_owned());
    }
    let (lines, _) = Term::stderr().size();
    let is_small = lines < LINES;
    is_small.then(|| {
        format!(
            "the terminal is too small for --choose: it has {} and needs {LINES}",
            count(usize::from(lines), "line")
        )
    })
}

/// Asks which of the moves of a preview to make.
///
/// # Errors
/// What is wrong with the terminal; `Interrupted` where somebody wants the program to end.
pub(super) fn choose(preview: &UpdateReport, request: &UpdateRequest, call: &Call) -> io::Result<Choice> {
    let is_open = |one: &&Compared| {
        let is_asked = preview.asked.as_ref().is_none_or(|asked| asked.contains(&one.moved.package));
        is_asked && matches!(one.moved.kind, MoveKind::Moved { .. })
    };
    let open: Vec<&Compared> = preview.comparison.moves.iter().filter(is_open).collect();
    if open.is_empty() {
        return Ok(Choice::All);
    }
    let term = Term::stderr();
    let asked = MultiSelect::new()
        .with_prompt("What should move? Space marks, a marks all, Enter goes on, Escape moves nothing")
        .items_checked(lines(&open, preview, usize::from(term.size().1), call).into_iter().map(|line| (line, true)))
        .report(false)
        .interact_on_opt(&term);
    let marked = match asked {
        Ok(marked) => marked.unwrap_or_default(),
        Err(Error::IO(error)) => {
            term.show_cursor().ok();
            return Err(error);
        }
    };
    Ok(match marked.len() {
        0 => Choice::Nothing,
        some if some == open.len() => Choice::All,
        _ => {
            // Each as far as was asked for, where that was said.
            let asked = |at: usize| {
                let package = &open[at].moved.package;
                let said = request.packages.iter().find(|(asked, _)| asked == package);
                said.cloned().unwrap_or_else(|| (package.clone(), None))
            };
            Choice::Some(UpdateRequest { packages: marked.into_iter().map(asked).collect(), ..request.clone() })
        }
    })
}

/// Writes a line for each move, none longer than fits.
fn lines(open: &[&Compared], preview: &UpdateReport, columns: usize, call: &Call) -> Vec<String> {
    let cells = |one: &&Compared| {
        let age = one.published.map_or_else(String::new, |published| match age(published, call.settings.now) {
            today if today == "today" => today,
            age => format!("{age} old"),
        });
        let breaks = matches!(one.moved.kind, MoveKind::Moved { crosses_line: true, .. });
        let breaks = if breaks { "not compatible".to_owned() } else { String::new() };
        let ended = preview.comparison.advisories_out.iter().filter(|threat| threat.package == one.moved.package);
        let ended: Vec<String> = ended.map(|threat| format!("ends {}", threat.id)).collect();
        [one.moved.package.to_string(), versions_words(&one.moved.kind), age, breaks, ended.join(", ")]
            .map(|cell| sanitise(&cell))
    };
    let rows: Vec<[String; 5]> = open.iter().map(cells).collect();
    let mut widths = [0; 5];
    for row in &rows {
        for (width, cell) in widths.iter_mut().zip(row) {
            *width = (*width).max(cell.chars().count());
        }
    }
    let line = |row: &[String; 5]| {
        let padded = row
            .iter()
            .zip(widths)
            .map(|(cell, width)| pad_str(cell, width, dialoguer::console::Alignment::Left, None).into_owned());
        let line = padded.collect::<Vec<_>>().join("  ");
        truncate_str(line.trim_end(), columns.saturating_sub(MARKS).max(20), "…").into_owned()
    };
    rows.iter().map(line).collect()
}
