//! The order `words`: dotted numbers and words, dates included (docs/versions.md §3).
//!
//! A version is its leading numbers, then a qualifier. Numbers decide first, missing ones counting as zero; then the
//! qualifier, token by token, a missing token counting as the bare version. The order is dense: between any two
//! versions there is another, so intervals need open and closed ends.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::BTreeSet;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::number::Number;
use super::{NumberingError, Unlisted, VersionError};

/// Most words of a list.
const MOST_WORDS: usize = 32;

/// Longest word, in bytes.
const LONGEST_WORD: usize = 16;

/// The words of a package's versions: those that sort before the bare version, rising, and those that sort after it,
/// rising. Cheap to clone.
///
/// A word counts by its distance from the bare version, so words that are added at the outer ends change no order.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Words(Arc<Lists>);

#[derive(Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Lists {
    before: Vec<String>,
    after: Vec<String>,
}

impl Default for Words {
    /// Before: `dev`, `alpha`, `beta`, `rc`; after: `sp`.
    fn default() -> Self {
        let list = |words: &[&str]| words.iter().map(ToString::to_string).collect();
        Self(Arc::new(Lists { before: list(&["dev", "alpha", "beta", "rc"]), after: list(&["sp"]) }))
    }
}

impl Words {
    /// Takes the words before the bare version and those after it, each list rising.
    ///
    /// # Errors
    /// When a word is not one to sixteen lower-case letters, is there twice, or is one of too many.
    pub fn new(before: Vec<String>, after: Vec<String>) -> Result<Self, NumberingError> {
        let mut seen = BTreeSet::new();
        for word in before.iter().chain(&after) {
            if word.is_empty() || word.len() > LONGEST_WORD || !word.bytes().all(|b| b.is_ascii_lowercase()) {
                return Err(NumberingError::NotAWord(word.clone()));
            }
            if !seen.insert(word) {
                return Err(NumberingError::WordTwice(word.clone()));
            }
        }
        match before.len().max(after.len()) > MOST_WORDS {
            true => Err(NumberingError::TooManyWords(MOST_WORDS)),
            false => Ok(Self(Arc::new(Lists { before, after }))),
        }
    }

    /// Returns the words before the bare version, rising.
    pub fn before(&self) -> &[String] {
        &self.0.before
    }

    /// Returns the words after the bare version, rising.
    pub fn after(&self) -> &[String] {
        &self.0.after
    }

    /// Tells whether these are the other's words, and perhaps more at the outer ends: then all that the other orders is
    /// in the same order here.
    pub fn extend(&self, other: &Self) -> bool {
        self.before().ends_with(other.before()) && self.after().starts_with(other.after())
    }

    /// Writes the lists as a manifest has them, with one word more, before the bare version and after it.
    pub fn with(&self, word: &str) -> [String; 2] {
        let word = || std::iter::once(word);
        let list = |words: Vec<&str>| words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ");
        let before = list(word().chain(self.before().iter().map(String::as_str)).collect());
        let after = list(self.after().iter().map(String::as_str).chain(word()).collect());
        [format!("before = [{before}]"), format!("after = [{after}]")]
    }

    /// Returns the distance of a word from the bare version, negative for one before it.
    fn rank(&self, word: &str) -> Option<i8> {
        let at = |list: &[String]| list.iter().position(|known| known == word);
        let rank = |distance: usize| i8::try_from(distance).expect("a list holds at most 32 words");
        let before = at(self.before()).map(|at| -rank(self.before().len() - at));
        before.or_else(|| at(self.after()).map(|at| rank(at + 1)))
    }

    /// Returns the word at a distance from the bare version.
    fn at(&self, rank: i8) -> Option<&str> {
        let distance = usize::from(rank.unsigned_abs());
        let list = if rank < 0 { self.before() } else { self.after() };
        let at = if rank < 0 { list.len().checked_sub(distance) } else { distance.checked_sub(1) };
        list.get(at?).map(String::as_str)
    }
}

/// One token of a qualifier; the order of the variants, and within the first that of the number, is the order of versions.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Token {
    /// A word, by its distance from the bare version; 0 is the bare version itself.
    Word(i8),
    Number(Number),
}

/// The bare version.
const BARE: Token = Token::Word(0);

/// Place of a version in the order of words.
#[derive(Debug, Clone)]
pub(crate) struct WordsKey {
    /// Leading numbers, trailing zeros cut.
    numbers: Vec<Number>,
    /// From the first word on, trailing bare ones cut.
    qualifier: Vec<Token>,
    /// To write it with: what it is compared by are the numbers in the tokens.
    words: Words,
}

impl WordsKey {
    pub(super) fn parse(text: &str, words: &Words) -> Result<Self, VersionError> {
        Self::read(text, words).map_err(|(reason, unlisted)| {
            let trimmed = text.trim().trim_start_matches(['v', 'V']);
            let suggestion = Self::read(trimmed, words).is_ok().then(|| trimmed.to_owned());
            VersionError { text: text.into(), reason, suggestion, unlisted }
        })
    }

    fn read(text: &str, words: &Words) -> Result<Self, (Cow<'static, str>, Option<Unlisted>)> {
        let fail = |reason: &'static str| Err((reason.into(), None));
        if !text.starts_with(|c: char| c.is_ascii_digit()) {
            return fail("a version starts with a digit");
        }
        if !text.bytes().all(|b| b.is_ascii_alphanumeric() || b".-_+".contains(&b)) {
            return fail("a version holds only ASCII letters, digits, `.`, `-`, `_` and `+`");
        }
        let mut key = Self { numbers: Vec::new(), qualifier: Vec::new(), words: words.clone() };
        for part in text.split(['.', '-', '_', '+']) {
            if part.is_empty() {
                return fail("two separators are next to each other, or one is at the end");
            }
            for token in split_at_digits(part) {
                key.push(token).map_err(|word| {
                    let reason = format!("its package lists no word `{word}`");
                    (reason.into(), Some(Unlisted { word, words: words.clone() }))
                })?;
            }
        }
        if key.is_below_the_lowest() {
            return fail("nothing sorts before the first of its package's words, so no other such word can follow it");
        }
        key.trim();
        Ok(key)
    }

    /// Tells whether it would sort below the lowest pre-release there is: the first word of all, and another after it.
    fn is_below_the_lowest(&self) -> bool {
        let first = self.words.before().first().and_then(|word| self.words.rank(word)).map(Token::Word);
        let mut early = self.qualifier.iter().skip_while(|token| !matches!(token, Token::Word(..0)));
        early.next() == first.as_ref() && early.any(|token| matches!(token, Token::Word(..0)))
    }

    /// Takes a token in; one that is a word in neither list is handed back.
    fn push(&mut self, token: &str) -> Result<(), String> {
        if token.starts_with(|c: char| c.is_ascii_digit()) {
            let number = Number::from_digits(token);
            if self.qualifier.is_empty() {
                self.numbers.push(number);
            } else if number.is_zero() {
                self.qualifier.push(BARE);
            } else {
                self.qualifier.push(Token::Number(number));
            }
            return Ok(());
        }
        let word = token.to_ascii_lowercase();
        self.qualifier.push(Token::Word(self.words.rank(&word).ok_or(word)?));
        Ok(())
    }

    fn trim(&mut self) {
        while self.numbers.last().is_some_and(Number::is_zero) {
            self.numbers.pop();
        }
        while self.qualifier.last() == Some(&BARE) {
            self.qualifier.pop();
        }
    }

    fn first_early(&self) -> Option<usize> {
        self.qualifier.iter().position(|token| matches!(token, Token::Word(..0)))
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
        if let Some(rank) = self.words.before().first().and_then(|word| self.words.rank(word)) {
            lowest.qualifier.push(Token::Word(rank));
        }
        lowest
    }

    pub(super) fn raised_at(&self, positions: usize) -> Self {
        let mut numbers = self.numbers.clone();
        numbers.resize(positions.max(1), Number::ZERO);
        let last = numbers.last_mut().expect("at least one position");
        *last = last.plus_one();
        Self { numbers, qualifier: Vec::new(), words: self.words.clone() }
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

impl PartialEq for WordsKey {
    fn eq(&self, other: &Self) -> bool {
        (&self.numbers, &self.qualifier) == (&other.numbers, &other.qualifier)
    }
}

impl Eq for WordsKey {}

impl Hash for WordsKey {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (&self.numbers, &self.qualifier).hash(state);
    }
}

impl PartialOrd for WordsKey {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for WordsKey {
    fn cmp(&self, other: &Self) -> Ordering {
        compare_padded(&self.numbers, &other.numbers, &Number::ZERO)
            .then_with(|| compare_padded(&self.qualifier, &other.qualifier, &BARE))
    }
}

fn compare_padded<T: Ord>(a: &[T], b: &[T], padding: &T) -> Ordering {
    (0..a.len().max(b.len()))
        .map(|i| a.get(i).unwrap_or(padding).cmp(b.get(i).unwrap_or(padding)))
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
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
                Token::Word(rank) => write!(f, "-{}", self.words.at(*rank).unwrap_or("0"))?,
                Token::Number(number) => write!(f, "-{number}")?,
            }
        }
        Ok(())
    }
}
