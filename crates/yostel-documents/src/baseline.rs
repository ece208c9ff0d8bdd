//! A baseline: findings that are known, each until a day (docs/formats.md).

use std::ops::Range;

use jiff::civil::Date;
use serde::Deserialize;
use toml::Spanned;
use toml::value::Datetime;

/// The number of the format.
pub const BASELINE_FORMAT: i64 = 1;

/// Findings that are known.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Baseline {
    /// Each of them, in the order of the file.
    pub known: Vec<Known>,
}

/// A finding that is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// Its name.
    pub id: String,
    /// The last day on which it lets no audit fail.
    pub until: Date,
    /// Why that is so.
    pub why: Option<String>,
}

/// What is wrong with a baseline.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BaselineError {
    /// What, in words, without a full stop.
    pub says: String,
    /// Where, in bytes, when that is known.
    pub span: Option<Range<usize>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Document {
    format: Spanned<i64>,
    #[serde(default)]
    known: Vec<Entry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    id: Spanned<String>,
    until: Spanned<Datetime>,
    why: Option<String>,
}

impl Baseline {
    /// Reads a baseline.
    ///
    /// # Errors
    /// What is wrong first: no TOML, another format, a key that is not known, a day that is none, a name twice.
    pub fn parse(text: &str) -> Result<Self, BaselineError> {
        let wrong = |says: &str, span| BaselineError { says: says.to_owned(), span: Some(span) };
        let document: Document = toml::from_str(text)
            .map_err(|error| BaselineError { says: error.message().to_owned(), span: error.span() })?;
        if *document.format.get_ref() != BASELINE_FORMAT {
            return Err(wrong("this is a format that this yostel does not know", document.format.span()));
        }
        let mut known: Vec<Known> = Vec::new();
        let mut seen = std::collections::BTreeSet::new();
        for Entry { id, until, why } in document.known {
            let day = *until.get_ref();
            let date = day.date.filter(|_| day.time.is_none() && day.offset.is_none());
            let date = date.and_then(|date| {
                let (year, month) = (i16::try_from(date.year).ok()?, i8::try_from(date.month).ok()?);
                Date::new(year, month, i8::try_from(date.day).ok()?).ok()
            });
            let Some(date) = date else { return Err(wrong("this is no day like 2027-03-31", until.span())) };
            if !seen.insert(id.get_ref().clone()) {
                return Err(wrong("this name is there twice", id.span()));
            }
            known.push(Known { id: id.into_inner(), until: date, why });
        }
        Ok(Self { known })
    }

    /// Writes the baseline, each entry below a comment that says what it is. `says` may know of no more than some.
    pub fn write(&self, says: impl Fn(&str) -> Option<String>) -> String {
        let quoted = |text: &str| toml_edit::Value::from(text).to_string();
        let mut text = format!(
            "# Findings that are known, each until a day: an audit with this file fails only on others.\nformat = {BASELINE_FORMAT}\n"
        );
        for Known { id, until, why } in &self.known {
            text.push('\n');
            if let Some(says) = says(id) {
                // A line break or another control character would end the comment, or not be TOML.
                let plain: String = says.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
                text.push_str(&format!("# {plain}\n"));
            }
            text.push_str(&format!("[[known]]\nid = {}\nuntil = {until}\n", quoted(id)));
            if let Some(why) = why {
                text.push_str(&format!("why = {}\n", quoted(why)));
            }
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back_whatever_its_names_and_comments_are() {
        let known = |id: &str, why: Option<&str>| Known {
            id: id.to_owned(),
            until: Date::constant(2027, 3, 31),
            why: why.map(str::to_owned),
        };
        let all = [
            known("outdated:gust@2.0.0", None),
            known("advisory:\"]\n[[known]]\u{1b}:gust@1", Some("it's \"so\"\nand so")),
            known("", Some("")),
        ];
        let baseline = Baseline { known: all.to_vec() };
        let text = baseline.write(|_| Some("says\nformat = 2\u{7f}".to_owned()));
        assert_eq!(Baseline::parse(&text), Ok(baseline), "{text}");
        assert_eq!(Baseline::parse("format = 1\n"), Ok(Baseline::default()));
    }

    #[test]
    fn what_is_wrong_is_said_with_its_place() {
        for (text, says, at) in [
            ("format = 2\n", "this is a format that this yostel does not know", "2"),
            (
                "format = 1\n[[known]]\nid = 'a'\nuntil = 2027-03-31T00:00:00Z\n",
                "this is no day",
                "2027-03-31T00:00:00Z",
            ),
            ("format = 1\nknown = [{id='a', until=2027-03-31}, {id='a', until=2027-03-31}]\n", "twice", "'a'"),
            ("format = 1\nother = 1\n", "unknown field `other`", "other"),
            ("format = 1\n[[known]]\nid = 'a'\n", "missing field `until`", "[[known]]"),
        ] {
            let error = Baseline::parse(text).unwrap_err();
            assert!(error.says.contains(says), "{error:?}");
            assert_eq!(&text[error.span.unwrap()], at, "{says}");
        }
        assert!(Baseline::parse("[").is_err() && Baseline::parse("").is_err());
    }
}
