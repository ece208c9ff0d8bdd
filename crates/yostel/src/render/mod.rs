//! What people read: colours, tables, sizes, ages, and how a diagnostic looks.

#[cfg(test)]
mod tests;

pub(crate) mod bills;
mod columns;
pub(crate) mod findings;
pub(crate) mod markdown;
pub(crate) mod pictures;
pub(crate) mod report;
pub(crate) mod xml;

use std::collections::BTreeSet;
use std::io::{IsTerminal, Write};
use std::os::fd::AsFd;

use yostel_answers::{Diagnostic, Suggestion};

pub(crate) use yostel_answers::words::{age, ago, count, join, join_first, lag, size};

pub(crate) use self::columns::{Columns, Head};
pub(crate) use crate::role::Role;
use crate::sanitise::{aside, painted, sanitise, shown};

/// How wide lines may be where nobody says: text is not wrapped there, and only the longest cells of tables are.
const UNBOUNDED: usize = 4000;

/// Paints text: marks it, for [`crate::sanitise::shown`] to turn into colour.
pub(crate) fn paint(role: Role, text: impl std::fmt::Display) -> String {
    painted(role, text)
}

/// Returns the day of a time as an answer has it.
pub(crate) fn day_of(time: &str) -> &str {
    time.split('T').next().unwrap_or(time)
}

/// Shortens a commit for people; what is here now has none.
pub(crate) fn commit_of(commit: Option<&str>) -> &str {
    commit.map_or("now", |commit| commit.get(..8).unwrap_or(commit))
}

/// Turns a count into a coordinate, or a value of a plot.
pub(crate) fn float(number: usize) -> f64 {
    u32::try_from(number).map_or(f64::MAX, f64::from)
}

/// Says something below a result: a note, which wraps at words where the terminal is narrow.
pub(crate) fn note(says: impl std::fmt::Display) -> String {
    below(Role::Notice, "note:", says)
}

/// Says something below a result, after a word that leads it.
pub(crate) fn below(role: Role, lead: &str, says: impl std::fmt::Display) -> String {
    let says = sanitise(&abridged(&says.to_string()));
    aside(&format!("  {} {}\n", paint(role, lead), wrapped(&says, 3 + lead.chars().count(), width())))
}

/// Says something so many blanks further in.
pub(crate) fn indented(indent: usize, says: impl std::fmt::Display) -> String {
    let says = sanitise(&abridged(&says.to_string()));
    format!("{}{}\n", " ".repeat(indent), wrapped(&says, indent, width()))
}

/// Writes a row of help: what it is about, and what that is, the further lines below the first of it.
pub(crate) fn help_row(about: &str, says: &str) -> String {
    let of_terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    let said = || std::env::var("COLUMNS").ok()?.parse().ok();
    let width = of_terminal.or_else(said).unwrap_or(MOST_HELP).min(MOST_HELP);
    format!("{about}{}\n", wrapped(says, about.chars().count(), width))
}

/// Says one of several that can be chosen by number, the further lines below its words.
pub(crate) fn numbered(number: usize, says: impl std::fmt::Display) -> String {
    let says = sanitise(&abridged(&says.to_string()));
    paint(Role::Title, format!("{number:>3} {}", wrapped(&says, 4, width()))) + "\n"
}

/// A note that is said while the work goes on, on the standard error.
pub(crate) fn note_at_once(says: impl std::fmt::Display) -> String {
    let says = wrapped(&sanitise(&abridged(&says.to_string())), 6, width_of(&std::io::stderr()));
    format!("{} {says}\n", paint(Role::Notice, "note:"))
}

/// Writes to the standard error at once and in one piece, so that what several processes say does not mix.
pub(crate) fn tell(text: &str) {
    let text = shown(text);
    let text = match anstream::AutoStream::choice(&std::io::stderr()) {
        anstream::ColorChoice::Never => anstream::adapter::strip_str(&text).to_string(),
        _ => text,
    };
    // Where nobody can read it, the work goes on all the same.
    std::io::stderr().write_all(text.as_bytes()).ok();
}

/// Says what to do next.
pub(crate) fn next_step(says: impl std::fmt::Display) -> String {
    next_steps([says])
}

/// Says what to do next, and what else would do.
pub(crate) fn next_steps<T: std::fmt::Display>(all: impl IntoIterator<Item = T>) -> String {
    aside(&led(all.into_iter().map(|says| sanitise(&says.to_string()))))
}

/// Puts before the first step that it is the next, and before each other that it would do too.
fn led(steps: impl Iterator<Item = String>) -> String {
    let leads = std::iter::once("next:").chain(std::iter::repeat("  or:"));
    steps.zip(leads).map(|(says, lead)| format!("{} {says}\n", paint(Role::Good, lead))).collect()
}

/// How wide lines may be that go to the standard output.
pub(crate) fn width() -> usize {
    width_of(&std::io::stdout())
}

fn width_of(stream: &(impl IsTerminal + AsFd)) -> usize {
    // A pipe has no width: lines there are as long as what they say, so that tools find one row on one line.
    let of_terminal = terminal_size::terminal_size_of(stream).filter(|_| stream.is_terminal());
    of_terminal.map_or(UNBOUNDED, |(width, _)| usize::from(width.0).clamp(60, 200))
}

/// How wide help is at most, as the library that reads arguments wraps the rest of it.
const MOST_HELP: usize = 100;

/// Wraps a text at words, with its further lines indented; `indent` is where the first begins.
fn wrapped(text: &str, indent: usize, width: usize) -> String {
    if width == UNBOUNDED {
        return text.to_owned();
    }
    let blank = " ".repeat(indent);
    let options = textwrap::Options::new(width)
        .initial_indent(&blank)
        .subsequent_indent(&blank)
        .break_words(false)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::fill(text, options).get(indent..).unwrap_or_default().to_owned()
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

/// Renders a diagnostic for people, for the standard error.
pub(crate) fn diagnostic(diagnostic: &Diagnostic) -> String {
    diagnostic_within(width_of(&std::io::stderr()), diagnostic)
}

fn diagnostic_within(width: usize, diagnostic: &Diagnostic) -> String {
    let headline = wrapped(&sanitise(&abridged(&diagnostic.headline)), 7, width);
    let mut text = format!("{} {}\n", paint(Role::Bad, "error:"), paint(Role::Title, headline));
    if let Some(place) = &diagnostic.place {
        let number = place.line.to_string();
        let gutter = " ".repeat(number.len());
        let at = format!("{}:{}:{}", sanitise(&place.file), place.line, place.column);
        text.push_str(&format!("{gutter} at {}\n", paint(Role::Place, at)));
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
    let packages = diagnostic.collision.as_ref().map(|collision| collision.packages()).unwrap_or_default();
    for note in &diagnostic.notes {
        let says = wrapped(&sanitise(&abridged(&note.to_string())), 4, width);
        let place = note.file.as_ref().zip(note.line).map(|(file, line)| sanitise(&format!("{file}:{line}")));
        let says = match place.as_ref().and_then(|place| says.strip_prefix(place.as_str()).map(|rest| (place, rest))) {
            Some((place, rest)) => paint(Role::Place, place) + &with_packages(rest, &packages),
            None => with_packages(&says, &packages),
        };
        text.push_str(&format!("  {says}\n"));
    }
    text + &led(diagnostic.next.iter().map(|next| suggestion(next, width)))
}

/// Paints the names of these packages.
fn with_packages(text: &str, packages: &BTreeSet<&str>) -> String {
    let word = |word: &str| {
        let core = word.trim_end_matches([' ', '\n', ',', ':', ';', '.']);
        match packages.contains(core) {
            true => paint(Role::Package, core) + &word[core.len()..],
            false => word.to_owned(),
        }
    };
    text.split_inclusive([' ', '\n']).map(word).collect()
}

/// A command is never broken, so that it can be copied; what it is good for wraps.
fn suggestion(next: &Suggestion, width: usize) -> String {
    match next {
        Suggestion::Run { command, .. } => {
            let says = sanitise(&next.to_string());
            let whole = sanitise(command);
            let first = whole.replace(' ', "\u{fde2}");
            wrapped(&says.replacen(&whole, &first, 1), 6, width).replace('\u{fde2}', " ")
        }
        Suggestion::Edit { .. } | Suggestion::Advice { .. } => wrapped(&sanitise(&next.to_string()), 6, width),
    }
}
