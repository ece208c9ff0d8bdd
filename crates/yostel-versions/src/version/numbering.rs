//! What a package's author promises: how its versions order, and which positions break (docs/versions.md §4).

use std::fmt;

use super::words::Words;
use super::{Number, Version, VersionError};

/// The rule by which versions of a package are ordered.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum Order {
    /// Semantic Versioning 2.0.0.
    #[default]
    Semver,
    /// Dotted numbers and words: these.
    Words(Words),
}

impl Order {
    /// Returns the order of words with the words that are there by default.
    pub fn words() -> Self {
        Self::Words(Words::default())
    }

    /// Reads `semver` or `words`, with its default words.
    pub fn parse(text: &str) -> Option<Self> {
        [Self::Semver, Self::words()].into_iter().find(|order| order.as_str() == text)
    }

    /// Returns the word for it in a manifest.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::Semver => "semver",
            Self::Words(_) => "words",
        }
    }
}

/// A package's numbering: its order, and the last position whose change starts a new compatible line.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Numbering {
    order: Order,
    breaks_at: Option<u8>,
}

/// Why a numbering is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NumberingError {
    /// Semantic versions have three positions.
    #[error("`breaks-at` is {0}, but semantic versions have three positions")]
    BreaksBeyondSemver(u8),
    /// No real scheme has so many positions.
    #[error("`breaks-at` is {0}; the most is 16")]
    BreaksTooFar(u8),
    /// Semantic versions have an order of their own for words.
    #[error("`before` and `after` belong to the order `words`; semantic versions compare words by their letters")]
    WordsOfSemver,
    /// What is no word.
    #[error("`{}` is no word: a word has one to sixteen lower-case letters", .0.escape_debug())]
    NotAWord(String),
    /// A word that would be at two places.
    #[error("the word `{0}` is listed twice")]
    WordTwice(String),
    /// No real scheme has so many words.
    #[error("a list holds at most {0} words")]
    TooManyWords(usize),
}

impl Numbering {
    /// Joins an order and a position, from 1; 0 = nothing ever breaks; none = the order's default (`semver`: the first
    /// position that is not zero; `words`: 1).
    ///
    /// # Errors
    /// When there is no such position.
    pub fn new(order: Order, breaks_at: Option<u8>) -> Result<Self, NumberingError> {
        match (&order, breaks_at) {
            (Order::Semver, Some(position)) if position > 3 => Err(NumberingError::BreaksBeyondSemver(position)),
            (_, Some(position)) if position > 16 => Err(NumberingError::BreaksTooFar(position)),
            _ => Ok(Self { order, breaks_at }),
        }
    }

    /// Returns the order.
    pub fn order(&self) -> &Order {
        &self.order
    }

    /// Returns the declared position, if one was declared.
    pub fn breaks_at(&self) -> Option<u8> {
        self.breaks_at
    }

    /// Returns the words that are listed, in the order of words.
    pub fn words(&self) -> Option<&Words> {
        match &self.order {
            Order::Semver => None,
            Order::Words(words) => Some(words),
        }
    }

    /// Returns the one of two numberings that has more words, where both order alike all that both know.
    pub fn joined<'n>(&'n self, other: &'n Self) -> Option<&'n Self> {
        let (one, two) = (self.words(), other.words());
        let extends = |a: Option<&Words>, b: Option<&Words>| a.zip(b).is_some_and(|(a, b)| a.extend(b));
        match self.breaks_at == other.breaks_at {
            true if self == other || extends(one, two) => Some(self),
            true if extends(two, one) => Some(other),
            _ => None,
        }
    }

    /// Reads a version of a package that numbers like this.
    ///
    /// # Errors
    /// As [`Version::parse`].
    pub fn parse_version(&self, text: &str) -> Result<Version, VersionError> {
        Version::parse(text, &self.order)
    }

    /// Returns how many positions make up the compatible line of `version`; 0 = all versions are one line.
    pub fn line_positions(&self, version: &Version) -> usize {
        match (self.breaks_at, &self.order) {
            (Some(position), _) => usize::from(position),
            (None, Order::Words(_)) => 1,
            (None, Order::Semver) => version.numbers().iter().position(|n| !n.is_zero()).map_or(3, |i| i + 1),
        }
    }

    /// Names the compatible line of a version, like `2.x` or `0.9.x`.
    pub fn line_name(&self, version: &Version) -> String {
        let number = |i: usize| version.numbers().get(i).unwrap_or(&Number::ZERO).to_string();
        let positions = (0..self.line_positions(version)).map(number);
        positions.chain(["x".to_owned()]).collect::<Vec<_>>().join(".")
    }

    /// Tells whether two versions are on one compatible line.
    pub fn is_same_line(&self, a: &Version, b: &Version) -> bool {
        let positions = self.line_positions(a).max(self.line_positions(b));
        (0..positions)
            .all(|i| a.numbers().get(i).unwrap_or(&Number::ZERO) == b.numbers().get(i).unwrap_or(&Number::ZERO))
    }

    /// Returns the first release of the next line, or none when nothing ever breaks.
    pub(crate) fn next_line(&self, version: &Version) -> Option<Version> {
        match self.line_positions(version) {
            0 => None,
            positions => Some(version.raised_at(positions)),
        }
    }
}

impl fmt::Display for Numbering {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.order.as_str())?;
        match self.breaks_at {
            None => Ok(()),
            Some(0) => f.write_str(", nothing breaks"),
            Some(position) => write!(f, ", breaks at {position}"),
        }?;
        match self.words().filter(|words| **words != Words::default()) {
            Some(words) => write!(f, ", before: {}, after: {}", words.before().join(" "), words.after().join(" ")),
            None => Ok(()),
        }
    }
}
