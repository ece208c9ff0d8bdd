//! What `[mentions]` says: where versions of packages stand in other files of the project, so that they follow the lock.

use std::ops::Range;

/// A file that mentions a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MentionedIn {
    /// The file, relative to the manifest's folder.
    pub file: String,
    /// How it is mentioned there.
    pub patterns: Vec<MentionPattern>,
    /// Byte range of the file's name in the manifest.
    pub span: Range<usize>,
}

/// What of a package is mentioned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum MentionOf {
    /// Its version.
    Version,
    /// The digest of its archive, in hexadecimal digits.
    Digest,
    /// Its commit, where it comes from a repository.
    Commit,
}

impl MentionOf {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Version, Self::Digest, Self::Commit];

    /// Returns its key.
    pub fn word(self) -> &'static str {
        match self {
            Self::Version => "version",
            Self::Digest => "digest",
            Self::Commit => "commit",
        }
    }
}

/// How a package is mentioned: a text of one line in which `…` stands for what follows the lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MentionPattern {
    /// What stands there.
    pub of: MentionOf,
    before: String,
    after: String,
}

impl MentionPattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// Why it is none, in words.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::{MentionOf, MentionPattern};
    /// let pattern = MentionPattern::parse("FROM clock:…-slim", MentionOf::Version).unwrap();
    /// let text = "# clock 1\nFROM clock:1.2.0-rc.1-slim AS base\n";
    /// let found: Vec<&str> = pattern.places(text).into_iter().map(|at| &text[at]).collect();
    /// assert_eq!(found, ["1.2.0-rc.1"]);
    /// ```
    pub fn parse(text: &str, of: MentionOf) -> Result<Self, &'static str> {
        let (before, after) = text.split_once('…').ok_or("one `…` in it stands for what follows the lock")?;
        if after.contains('…') {
            return Err("there is one `…` in it");
        }
        if text.chars().any(char::is_control) || text.len() > 500 {
            return Err("it is a text on one line, of at most 500 bytes");
        }
        // With nothing before it, any number in the file would be one.
        if before.trim().is_empty() {
            return Err("something stands before the `…`");
        }
        Ok(Self { of, before: before.to_owned(), after: after.to_owned() })
    }

    /// Finds where it stands in a text: the byte ranges of what follows the lock, from the first to the last.
    pub fn places(&self, text: &str) -> Vec<Range<usize>> {
        let may_be = |c: char| match self.of {
            MentionOf::Version => c.is_ascii_alphanumeric() || ".+-_~".contains(c),
            MentionOf::Digest | MentionOf::Commit => c.is_ascii_hexdigit(),
        };
        let mut places = Vec::new();
        let mut from = 0;
        while let Some(at) = text[from..].find(&self.before) {
            let start = from + at + self.before.len();
            let run = text[start..].find(|c: char| !may_be(c)).unwrap_or(text.len() - start);
            // What may be a version is ASCII, so that each of its bytes is a place to cut at.
            let ends = (1..=run).rev().map(|length| start + length);
            let end = match self.after.is_empty() {
                // A sentence may end behind it.
                true => ends.clone().find(|end| text.as_bytes()[end - 1].is_ascii_alphanumeric()),
                false => ends.clone().find(|end| text[*end..].starts_with(&self.after)),
            };
            match end {
                Some(end) => {
                    places.push(start..end);
                    from = end;
                }
                None => from = start,
            }
        }
        places
    }
}

/// Writes values in place of what stands at places of a text, which do not overlap.
pub fn with_values(text: &str, mut places: Vec<(Range<usize>, String)>) -> String {
    places.sort_by_key(|(at, _)| at.start);
    let (mut written, mut from) = (String::with_capacity(text.len()), 0);
    for (at, value) in places {
        if at.start < from {
            continue;
        }
        written.push_str(&text[from..at.start]);
        written.push_str(&value);
        from = at.end;
    }
    written + &text[from..]
}
