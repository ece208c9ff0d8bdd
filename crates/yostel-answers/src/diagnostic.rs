//! What a person or program is told about a problem: plain data, which terminal, JSON and editor render alike.

use std::fmt;
use std::ops::Range;

use schemars::JsonSchema;
use serde::Serialize;

use crate::code::Code;
use crate::collision::CollisionTold;

/// One problem, told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Diagnostic {
    /// Stable code, explained in docs/errors.md.
    pub code: Code,
    /// How bad it is.
    pub severity: Severity,
    /// What is the matter, in one sentence, the package or file first.
    pub headline: String,
    /// Where it is, when it is in a file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<Place>,
    /// What led to it, in the order in which it is told.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<Note>,
    /// What to do, the best first; never empty.
    pub next: Vec<Suggestion>,
    /// Of a collision, the same as data.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub collision: Option<Box<CollisionTold>>,
}

/// How bad a problem is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// It can wait.
    Warning,
    /// Nothing was done because of it.
    Error,
}

/// A sentence about a problem, with a place of its own when it is about another than the problem.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Note {
    /// The file that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line of that file, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// The sentence.
    pub says: String,
}

impl Note {
    /// Makes a note about a line of a file.
    pub fn at(file: &str, line: usize, says: impl Into<String>) -> Self {
        Self { file: Some(file.to_owned()), line: Some(line), says: says.into() }
    }
}

impl<T: Into<String>> From<T> for Note {
    fn from(says: T) -> Self {
        Self { file: None, line: None, says: says.into() }
    }
}

impl fmt::Display for Note {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let (Some(file), Some(line)) = (&self.file, self.line) {
            write!(out, "{file}:{line}: ")?;
        }
        out.write_str(&self.says)
    }
}

/// What to do about a problem. Its text is what `Display` writes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Suggestion {
    /// Run a command. What is in capital letters in it, or `…`, is to be filled in.
    Run {
        /// The command.
        command: String,
        /// What it is good for.
        #[serde(skip_serializing_if = "Option::is_none")]
        purpose: Option<String>,
    },
    /// Write something in place of what the problem's place marks.
    Edit {
        /// The text to write.
        with: String,
        /// That, in a sentence.
        says: String,
    },
    /// Anything else.
    Advice {
        /// What to do, in a sentence.
        says: String,
    },
}

impl fmt::Display for Suggestion {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Run { command, purpose: Some(purpose) } => write!(out, "{command}, {purpose}"),
            Self::Run { command, purpose: None } => out.write_str(command),
            Self::Edit { says, .. } | Self::Advice { says } => out.write_str(says),
        }
    }
}

impl<T: Into<String>> From<T> for Suggestion {
    fn from(says: T) -> Self {
        Self::Advice { says: says.into() }
    }
}

impl Suggestion {
    /// Suggests a command, and says what it is good for.
    pub fn run(command: impl Into<String>, purpose: impl Into<String>) -> Self {
        Self::Run { command: command.into(), purpose: Some(purpose.into()) }
    }

    /// Suggests a command that needs no explanation.
    pub fn command(command: impl Into<String>) -> Self {
        Self::Run { command: command.into(), purpose: None }
    }

    /// Suggests another text in place of what is marked.
    pub fn edit(with: impl Into<String>, says: impl Into<String>) -> Self {
        Self::Edit { with: with.into(), says: says.into() }
    }
}

impl Diagnostic {
    /// Makes an error with one thing to do about it.
    pub fn new(code: Code, headline: impl Into<String>, next: impl Into<Suggestion>) -> Self {
        let (headline, next) = (headline.into(), vec![next.into()]);
        let (place, notes, collision) = (None, Vec::new(), None);
        Self { code, severity: Severity::Error, headline, place, notes, next, collision }
    }

    /// Adds a note.
    #[must_use]
    pub fn note(mut self, note: impl Into<Note>) -> Self {
        self.notes.push(note.into());
        self
    }

    /// Adds another thing to do.
    #[must_use]
    pub fn or(mut self, next: impl Into<Suggestion>) -> Self {
        self.next.push(next.into());
        self
    }

    /// Says where it is.
    #[must_use]
    pub fn at(mut self, place: Place) -> Self {
        self.place = Some(place);
        self
    }
}

/// A place in a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Place {
    /// The file.
    pub file: String,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// The line's text; of a long line, what is around the part that is meant, between `…`.
    pub excerpt: String,
    /// Characters of the excerpt that are meant, from 0.
    pub marked: Range<usize>,
}

impl Place {
    /// Finds the place of a byte range in a text. A range over several lines is cut at the end of the first.
    pub fn of(file: impl Into<String>, text: &str, span: &Range<usize>) -> Self {
        let boundary = |at: usize| (0..=at.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
        let (start, end) = (boundary(span.start), boundary(span.end.max(span.start)));
        let line_start = text[..start].rfind('\n').map_or(0, |at| at + 1);
        let line_end = text[line_start..].find('\n').map_or(text.len(), |at| line_start + at);
        let excerpt = text[line_start..line_end].trim_end_matches('\r').to_owned();
        let characters = |to: usize| text[line_start..to.min(line_end)].chars().count();
        let from = characters(start);
        let until = characters(end.max(start)).min(excerpt.chars().count()).max(from);
        let (excerpt, marked) = around(excerpt, from..until);
        Self {
            file: file.into(),
            line: text[..line_start].matches('\n').count() + 1,
            column: from + 1,
            excerpt,
            marked,
        }
    }
}

impl Place {
    /// The same, without what is meant: it may be secret.
    #[must_use]
    pub fn hidden(self) -> Self {
        let characters = self.excerpt.chars().enumerate();
        let excerpt = characters.map(|(at, c)| if self.marked.contains(&at) { '*' } else { c }).collect();
        Self { excerpt, ..self }
    }
}

/// Cuts a long line down to what is around its marked characters.
fn around(line: String, marked: Range<usize>) -> (String, Range<usize>) {
    const BEFORE: usize = 60;
    const MOST: usize = 180;
    let length = line.chars().count();
    if length <= MOST {
        return (line, marked);
    }
    let start = marked.start.saturating_sub(BEFORE);
    let end = (start + MOST).min(length);
    let (before, after) = (if start > 0 { "…" } else { "" }, if end < length { "…" } else { "" });
    let part: String = line.chars().skip(start).take(end - start).collect();
    let moved = |at: usize| at.min(end) - start + before.chars().count();
    (format!("{before}{part}{after}"), moved(marked.start)..moved(marked.end))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_counts_lines_and_characters() {
        let text = "a = 1\r\nwörd = \"x\"\n";
        let at = text.find("\"x\"").unwrap();
        let place = Place::of("yostel.toml", text, &(at..at + 3));
        assert_eq!((place.line, place.column, place.marked.clone()), (2, 8, 7..10));
        assert_eq!(place.excerpt, "wörd = \"x\"");
        assert_eq!(Place::of("f", text, &(0..200)).marked, 0..5, "cut at the end of the line");
        let long = format!("{}wrong{}", "ö".repeat(1000), "z".repeat(1000));
        let place = Place::of("f", &long, &(2000..2005));
        let marked: String = place.excerpt.chars().skip(place.marked.start).take(place.marked.len()).collect();
        assert_eq!((marked.as_str(), place.column), ("wrong", 1001));
        assert!(
            place.excerpt.chars().count() < 200 && place.excerpt.starts_with("…ö") && place.excerpt.ends_with("z…")
        );
        assert_eq!(Place::of("f", &long, &(0..5000)).excerpt.chars().count(), 181);
        assert_eq!(Place::of("f", "", &(0..0)).line, 1);
        assert_eq!(Place::of("f", "ö", &(1..1)).column, 1, "never inside a character");
    }
}
