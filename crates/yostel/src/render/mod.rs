//! What people read: colours, tables, sizes, ages, and how a diagnostic looks.

#[cfg(test)]
mod tests;

use comfy_table::{Cell, ContentArrangement, Table, presets};
use yostel_answers::Diagnostic;

pub(crate) use yostel_answers::words::{age, count, join, lag, size};

pub(crate) use crate::role::Role;
use crate::sanitise::{painted, sanitise};

/// Paints text: marks it, for [`crate::sanitise::shown`] to turn into colour.
pub(crate) fn paint(role: Role, text: impl std::fmt::Display) -> String {
    painted(role, text)
}

/// A table of columns without lines, as wide as it needs to be and no wider than the terminal.
pub(crate) struct Columns {
    table: Table,
}

impl Columns {
    pub(crate) fn new(headings: &[&str]) -> Self {
        let mut table = Table::new();
        table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(width());
        if !headings.is_empty() {
            table.set_header(headings.iter().map(|heading| Cell::new(heading.to_uppercase())));
        }
        Self { table }
    }

    pub(crate) fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        self.table.add_row(cells.into_iter().map(|cell| Cell::new(sanitise(&abridged(&cell)))));
    }

    /// Returns the lines, indented by two, without trailing blanks.
    pub(crate) fn finish(self) -> String {
        let text = self.table.to_string();
        text.lines().map(|line| format!(" {}\n", line.trim_end())).collect()
    }
}

fn width() -> u16 {
    use std::io::IsTerminal;
    let of_terminal = terminal_size::terminal_size().map(|(width, _)| width.0);
    // A pipe has no width: a table there is as wide as its content, so that tools find one row on one line.
    match of_terminal {
        Some(width) if std::io::stdout().is_terminal() => width.clamp(60, 200),
        _ => 400,
    }
}

/// Leaves out the middle of words that would fill the screen, like the path of a folder thousands of levels down, and of
/// whole texts, like a constraint with hundreds of alternatives.
fn abridged(text: &str) -> String {
    let words: Vec<String> = text.split(' ').map(|word| without_middle(word, 160, 80)).collect();
    without_middle(&words.join(" "), 1200, 400)
}

fn without_middle(text: &str, start: usize, end: usize) -> String {
    let length = text.chars().count();
    if length <= start + end {
        return text.to_owned();
    }
    let first: String = text.chars().take(start).collect();
    let last: String = text.chars().skip(length - end).collect();
    format!("{first}…{last}")
}

/// Renders a diagnostic for people.
pub(crate) fn diagnostic(diagnostic: &Diagnostic) -> String {
    let headline = sanitise(&abridged(&diagnostic.headline));
    let mut text = format!("{} {}\n", paint(Role::Bad, "error:"), paint(Role::Title, headline));
    if let Some(place) = &diagnostic.place {
        let number = place.line.to_string();
        let gutter = " ".repeat(number.len());
        text.push_str(&format!("{gutter} at {}:{}:{}\n", sanitise(&place.file), place.line, place.column));
        // A tab is as wide as the terminal wants; one blank for each keeps the mark below what it marks.
        let excerpt = sanitise(&place.excerpt.replace('\t', " "));
        text.push_str(&format!(" {} {excerpt}\n", paint(Role::Quiet, format!("{number} |"))));
        let before: String = place.excerpt.chars().take(place.marked.start).collect();
        let marked: String = place.excerpt.chars().skip(place.marked.start).take(place.marked.len().max(1)).collect();
        let wide = |text: &str| unicode_width::UnicodeWidthStr::width(sanitise(&text.replace('\t', " ")).as_str());
        let mark = "^".repeat(wide(&marked).max(1));
        let blank = " ".repeat(wide(&before));
        text.push_str(&format!(" {} {blank}{}\n", paint(Role::Quiet, format!("{gutter} |")), paint(Role::Bad, mark)));
    }
    for note in &diagnostic.notes {
        text.push_str(&format!("  {}\n", sanitise(&abridged(&note.to_string()))));
    }
    for (i, next) in diagnostic.next.iter().enumerate() {
        let lead = if i == 0 { "next:" } else { "  or:" };
        text.push_str(&format!("{} {}\n", paint(Role::Good, lead), sanitise(&next.to_string())));
    }
    text
}
