//! Names: of packages, purposes and sources. Carries out docs/formats.md §1.

use std::fmt;
use std::sync::Arc;

/// Longest name, in bytes.
pub const NAME_LIMIT: usize = 128;

/// A package's name: levels of lower-case words joined by `/`.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PackageName(Arc<str>);

/// Why a name cannot work, and one that would where there is one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` cannot be a name: {reason}", name.escape_debug())]
pub struct NameError {
    /// The name as given.
    pub name: String,
    /// What is wrong with it.
    pub reason: &'static str,
    /// The nearest name that works.
    pub suggestion: Option<String>,
}

impl PackageName {
    /// Checks a name.
    ///
    /// # Errors
    /// When it is empty, longer than [`NAME_LIMIT`], or has a level that does not start and end with a lower-case
    /// letter or digit or holds anything but those, `-`, `.` and `_`.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::PackageName;
    /// assert_eq!(PackageName::parse("ropeway/console").unwrap().as_str(), "ropeway/console");
    /// assert_eq!(PackageName::parse("Gust Model").unwrap_err().suggestion.as_deref(), Some("gust-model"));
    /// ```
    pub fn parse(text: &str) -> Result<Self, NameError> {
        match fault(text, true) {
            None => Ok(Self(text.into())),
            Some(reason) => Err(refuse(text, reason, true)),
        }
    }

    /// Returns the name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the name as a path, in which levels are folders: `ropeway_/console`. A level has `_` at its end, which no
    /// name has, so that the folder of a level and what belongs to a package of that name are never the same.
    pub fn to_path(&self) -> String {
        self.0.replace('/', "_/")
    }

    /// Counts the elements of [`Self::to_path`].
    pub fn levels(&self) -> usize {
        self.0.split('/').count()
    }

    /// Reads back what [`Self::to_path`] wrote; nothing when it wrote something else.
    pub fn from_path(path: &str) -> Option<Self> {
        let name = Self::parse(&path.replace("_/", "/")).ok()?;
        (name.to_path() == path).then_some(name)
    }
}

impl fmt::Display for PackageName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for PackageName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A single lower-case word: the name of a purpose or of a source.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Word(Arc<str>);

impl Word {
    /// Checks a word.
    ///
    /// # Errors
    /// As [`PackageName::parse`]; and `/` is not allowed.
    pub fn parse(text: &str) -> Result<Self, NameError> {
        match fault(text, false) {
            None => Ok(Self(text.into())),
            Some(reason) => Err(refuse(text, reason, false)),
        }
    }

    /// Returns the word as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Word {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Word {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// What a need is for. `run` ships; its needs come along with a package, those of any other purpose do not.
pub type Purpose = Word;

/// A source's name in the manifest.
pub type SourceName = Word;

fn fault(text: &str, levels: bool) -> Option<&'static str> {
    if text.is_empty() {
        return Some("it is empty");
    }
    if text.len() > NAME_LIMIT {
        return Some("it is longer than 128 bytes");
    }
    if !levels && text.contains('/') {
        return Some("it must be one word, without `/`");
    }
    for level in text.split('/') {
        let edge = |c: Option<char>| c.is_some_and(|c| c.is_ascii_lowercase() || c.is_ascii_digit());
        if level.is_empty() {
            return Some("a level between `/` is empty");
        }
        if level.chars().any(|c| c.is_ascii_uppercase()) {
            return Some("names are lower-case, so that they mean the same on every file system");
        }
        if level.chars().any(|c| !c.is_ascii_lowercase() && !c.is_ascii_digit() && !matches!(c, '-' | '.' | '_')) {
            return Some("only lower-case letters, digits, `-`, `.`, `_` and `/` between levels are allowed");
        }
        if !edge(level.chars().next()) || !edge(level.chars().last()) {
            return Some("each level starts and ends with a letter or digit");
        }
    }
    None
}

fn refuse(text: &str, reason: &'static str, levels: bool) -> NameError {
    let folded: String = text
        .chars()
        .map(|c| match c.to_ascii_lowercase() {
            '/' | '\\' if levels => '/',
            c if c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '.' | '_') => c,
            _ => '-',
        })
        .collect();
    let suggestion = folded
        .split('/')
        .map(|level| level.trim_matches(['-', '.', '_']))
        .filter(|level| !level.is_empty())
        .collect::<Vec<_>>()
        .join("/");
    let suggestion: String = suggestion.chars().take(NAME_LIMIT).collect();
    let works = fault(&suggestion, levels).is_none();
    NameError { name: text.to_owned(), reason, suggestion: works.then_some(suggestion) }
}

/// Returns the candidate nearest to `wanted`, when one is near enough to be what was meant.
pub fn nearest<'a>(wanted: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (wanted.chars().count() / 3).max(1);
    candidates
        .into_iter()
        // Whoever typed that knows of it.
        .filter(|candidate| *candidate != wanted)
        .map(|candidate| (edits(wanted, candidate), candidate))
        .filter(|(distance, candidate)| {
            *distance <= limit || (wanted.len() > 2 && candidate.split(['-', '/', '.']).any(|part| part == wanted))
        })
        .min()
        .map(|(_, candidate)| candidate)
}

/// Edit distance that counts a swap of neighbours as one (optimal string alignment).
fn edits(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut before = vec![0; b.len() + 1];
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for i in 1..=a.len() {
        let mut next = vec![i; b.len() + 1];
        for j in 1..=b.len() {
            let change = usize::from(a[i - 1] != b[j - 1]);
            next[j] = (row[j] + 1).min(next[j - 1] + 1).min(row[j - 1] + change);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                next[j] = next[j].min(before[j - 2] + 1);
            }
        }
        before = row;
        row = next;
    }
    row[b.len()]
}

/// Returns the purpose whose needs come along with a package.
pub fn run_purpose() -> Purpose {
    Word::parse("run").expect("`run` is a word")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn good_names_are_taken_and_survive_the_path() {
        for name in ["a", "gust-model", "ropeway/console", "json_tables", "lib.x/2d"] {
            let name = PackageName::parse(name).unwrap();
            assert_eq!(PackageName::from_path(&name.to_path()).unwrap(), name);
            assert_eq!(name.to_path().split('/').count(), name.levels());
        }
        assert_eq!(PackageName::parse("a/b").unwrap().to_path(), "a_/b");
        for none in ["a/b", "a_", "a_/b_", "_/a", "a_/", "A"] {
            assert_eq!(PackageName::from_path(none), None, "{none}");
        }
    }

    #[test]
    fn each_bad_name_comes_with_one_that_works() {
        for (bad, good) in [
            ("Gust Model", "gust-model"),
            ("a//b", "a/b"),
            ("/a", "a"),
            ("-x-", "x"),
            ("a\\b", "a/b"),
            ("Größe", "gr--e"),
            ("..", ""),
        ] {
            let refused = PackageName::parse(bad).unwrap_err();
            assert_eq!(refused.suggestion.as_deref().unwrap_or(""), good, "{bad}");
        }
        assert!(Word::parse("a/b").is_err());
        assert!(PackageName::parse(&"x".repeat(129)).is_err());
    }

    #[test]
    fn nearest_forgives_a_slip_but_not_another_word() {
        let known = ["needs", "sources", "offers", "project"];
        assert_eq!(nearest("need", known), Some("needs"));
        assert_eq!(nearest("soruces", known), Some("sources"));
        assert_eq!(nearest("telescope", known), None);
        assert_eq!(nearest("gust", ["gust-model", "ice-sensor"]), Some("gust-model"));
    }
}
