//! The order `words`: dotted numbers and words, dates included (docs/versions.md §3).
//!
//! A version is its leading numbers, then a qualifier. Numbers decide first, missing ones counting as zero; then the
//! qualifier, token by token, a missing token counting as the bare version. The order is dense: between any two
//! versions there is another, so intervals need open and closed ends.

use std::fmt;

use super::VersionError;
use super::number::Number;

/// Words that sort before the bare version, lowest first; those in one row are equal.
const EARLY: [&[&str]; 5] = [
    &["dev", "snapshot", "nightly"],
    &["alpha", "a"],
    &["beta", "b"],
    &["milestone", "m"],
    &["candidate", "rc", "cr", "c", "pre", "preview"],
];
/// Words that say nothing: the bare version itself.
const BARE: [&str; 4] = ["final", "ga", "release", "stable"];
/// Words that sort after the bare version and before any other word.
const SERVICE: [&str; 6] = ["sp", "servicepack", "patch", "p", "hotfix", "fix"];

/// One token of a qualifier; the order of the variants is the order of versions.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Token {
    Early(u8),
    Bare,
    Service,
    Other(Box<str>),
    Number(Number),
}

/// Place of a version in the order of words.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct WordsKey {
    /// Leading numbers, trailing zeros cut.
    numbers: Vec<Number>,
    /// From the first word on, trailing `Bare` cut.
    qualifier: Vec<Token>,
}

impl WordsKey {
    pub(super) fn parse(text: &str) -> Result<Self, VersionError> {
        Self::read(text).map_err(|reason| {
            let trimmed = text.trim().trim_start_matches(['v', 'V']);
            let suggestion = Self::read(trimmed).is_ok().then(|| trimmed.to_owned());
            VersionError { text: text.into(), reason, suggestion }
        })
    }

    fn read(text: &str) -> Result<Self, &'static str> {
        if !text.starts_with(|c: char| c.is_ascii_digit()) {
            return Err("a version starts with a digit");
        }
        if !text.bytes().all(|b| b.is_ascii_alphanumeric() || b".-_+".contains(&b)) {
            return Err("a version holds only ASCII letters, digits, `.`, `-`, `_` and `+`");
        }
        let mut key = Self { numbers: Vec::new(), qualifier: Vec::new() };
        for part in text.split(['.', '-', '_', '+']) {
            if part.is_empty() {
                return Err("two separators stand together, or one at the end");
            }
            for token in split_at_digits(part) {
                key.push(token);
            }
        }
        key.trim();
        Ok(key)
    }

    fn push(&mut self, token: &str) {
        if token.starts_with(|c: char| c.is_ascii_digit()) {
            let number = Number::from_digits(token);
            if self.qualifier.is_empty() {
                self.numbers.push(number);
            } else if number.is_zero() {
                self.qualifier.push(Token::Bare);
            } else {
                self.qualifier.push(Token::Number(number));
            }
            return;
        }
        let word = token.to_ascii_lowercase();
        let early = (0u8..).zip(EARLY).find(|(_, row)| row.contains(&word.as_str()));
        self.qualifier.push(match early {
            Some((rank, _)) => Token::Early(rank),
            None if BARE.contains(&word.as_str()) => Token::Bare,
            None if SERVICE.contains(&word.as_str()) => Token::Service,
            None => Token::Other(word.into()),
        });
    }

    fn trim(&mut self) {
        while self.numbers.last().is_some_and(Number::is_zero) {
            self.numbers.pop();
        }
        while self.qualifier.last() == Some(&Token::Bare) {
            self.qualifier.pop();
        }
    }

    fn first_early(&self) -> Option<usize> {
        self.qualifier.iter().position(|token| matches!(token, Token::Early(_)))
    }

    pub(super) fn is_pre_release(&self) -> bool {
        self.first_early().is_some()
    }

    pub(super) fn is_lowest_release(&self) -> bool {
        self.numbers.is_empty() && self.qualifier.is_empty()
    }

    pub(super) fn numbers(&self) -> &[Number] {
        &self.numbers
    }

    pub(super) fn to_core(&self) -> Self {
        let mut core = self.clone();
        core.qualifier.truncate(self.first_early().unwrap_or(self.qualifier.len()));
        core.trim();
        core
    }

    pub(super) fn to_lowest_pre_release(&self) -> Self {
        let mut lowest = self.to_core();
        lowest.qualifier.push(Token::Early(0));
        lowest
    }

    pub(super) fn raised_at(&self, positions: usize) -> Self {
        let mut numbers = self.numbers.clone();
        numbers.resize(positions.max(1), Number::ZERO);
        let last = numbers.last_mut().expect("at least one position");
        *last = last.plus_one();
        Self { numbers, qualifier: Vec::new() }
    }
}

fn split_at_digits(part: &str) -> impl Iterator<Item = &str> {
    let mut rest = part;
    std::iter::from_fn(move || {
        let digits = rest.as_bytes().first()?.is_ascii_digit();
        let end = rest.bytes().position(|b| b.is_ascii_digit() != digits).unwrap_or(rest.len());
        let (token, after) = rest.split_at(end);
        rest = after;
        Some(token)
    })
}

impl PartialOrd for WordsKey {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for WordsKey {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        compare_padded(&self.numbers, &other.numbers, &Number::ZERO)
            .then_with(|| compare_padded(&self.qualifier, &other.qualifier, &Token::Bare))
    }
}

fn compare_padded<T: Ord>(a: &[T], b: &[T], padding: &T) -> std::cmp::Ordering {
    (0..a.len().max(b.len()))
        .map(|i| a.get(i).unwrap_or(padding).cmp(b.get(i).unwrap_or(padding)))
        .find(|order| order.is_ne())
        .unwrap_or(std::cmp::Ordering::Equal)
}

impl fmt::Display for WordsKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.numbers.is_empty() {
            f.write_str("0")?;
        }
        for (i, number) in self.numbers.iter().enumerate() {
            write!(f, "{}{number}", if i == 0 { "" } else { "." })?;
        }
        for token in &self.qualifier {
            match token {
                Token::Early(rank) => write!(f, "-{}", EARLY[usize::from(*rank)][0])?,
                Token::Bare => f.write_str("-final")?,
                Token::Service => write!(f, "-{}", SERVICE[0])?,
                Token::Other(word) => write!(f, "-{word}")?,
                Token::Number(number) => write!(f, "-{number}")?,
            }
        }
        Ok(())
    }
}
