//! What a person or program is told about a problem: plain data, which terminal, JSON and editor render alike.

use std::ops::Range;

use serde::Serialize;

/// One problem, told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Diagnostic {
    /// Stable code, explained in docs/errors.md.
    pub code: &'static str,
    /// What is the matter, in one sentence, the package or file first.
    pub headline: String,
    /// Where it stands, when it stands in a file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<Place>,
    /// What led to it, in the order in which it is told.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// What to do: sentences, or commands to copy; never empty.
    pub next: Vec<String>,
}

/// A place in a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
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
