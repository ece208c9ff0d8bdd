//! Versions: points in an order that the package's own numbering defines. Carries out docs/versions.md §1 to §3.

mod number;
mod numbering;
mod semver;
#[cfg(test)]
mod tests;
mod words;

use std::borrow::Cow;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

pub(crate) use number::Number;
pub use numbering::{Numbering, NumberingError, Order};
pub use words::Words;

use semver::SemverKey;
use words::WordsKey;

/// Longest text of a version, in bytes: with a package's name and a digest beside it, it is still the name of a file.
pub const VERSION_LIMIT: usize = 100;

/// A version: its text and its place in the order.
///
/// Two versions are equal when they are at the same place: `1.0.0+a` and `1.0.0+b`, or in `words` `1.0` and
/// `1.0.0`. A package has at most one release at one place.
#[derive(Clone)]
pub struct Version {
    text: Arc<str>,
    key: Key,
}

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Key {
    Semver(SemverKey),
    Words(WordsKey),
}

/// Why a text is not a version.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` is not a version: {reason}", text.escape_debug())]
pub struct VersionError {
    /// The text as given.
    pub text: String,
    /// What is wrong with it.
    pub reason: Cow<'static, str>,
    /// The nearest text that works.
    pub suggestion: Option<String>,
    /// The word that its package does not list, when that is what is wrong.
    pub unlisted: Option<Unlisted>,
}

/// A word that a package does not list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unlisted {
    /// The word, in lower case.
    pub word: String,
    /// What is listed.
    pub words: Words,
}

impl Version {
    /// Reads a version in the given order.
    ///
    /// # Errors
    /// For a text of more than [`VERSION_LIMIT`] bytes; for `semver`, whatever the grammar of Semantic Versioning 2.0.0 does not produce; for `words`, a text that does
    /// not start with a digit, holds anything but ASCII letters, digits and single `.`, `-`, `_`, `+`, or a word that is not listed.
    ///
    /// # Examples
    /// ```
    /// use yostel_versions::{Order, Version};
    /// let candidate = Version::parse("1.0.0-rc.1", &Order::Semver).unwrap();
    /// assert!(candidate < Version::parse("1.0.0", &Order::Semver).unwrap());
    /// assert_eq!(Version::parse("1.0", &Order::Semver).unwrap_err().suggestion.as_deref(), Some("1.0.0"));
    /// ```
    pub fn parse(text: &str, order: &Order) -> Result<Self, VersionError> {
        if text.len() > VERSION_LIMIT {
            let text = format!("{}…", &text[..text.floor_char_boundary(40)]);
            return Err(VersionError {
                text,
                reason: "it is longer than 100 bytes".into(),
                suggestion: None,
                unlisted: None,
            });
        }
        let key = match order {
            Order::Semver => Key::Semver(SemverKey::parse(text)?),
            Order::Words(words) => Key::Words(WordsKey::parse(text, words)?),
        };
        Ok(Self { text: text.into(), key })
    }

    /// Returns the text as its author wrote it.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Tells whether this comes before a release of the same numbers: a candidate and the like.
    pub fn is_pre_release(&self) -> bool {
        match &self.key {
            Key::Semver(key) => key.is_pre_release(),
            Key::Words(key) => key.is_pre_release(),
        }
    }

    /// Returns the version that this one is a pre-release of, or itself.
    pub(crate) fn to_core(&self) -> Self {
        Self::from_key(match &self.key {
            Key::Semver(key) => Key::Semver(key.to_core()),
            Key::Words(key) => Key::Words(key.to_core()),
        })
    }

    /// Returns the lowest conceivable pre-release of this version's core.
    pub(crate) fn to_lowest_pre_release(&self) -> Self {
        Self::from_key(match &self.key {
            Key::Semver(key) => Key::Semver(key.to_lowest_pre_release()),
            Key::Words(key) => Key::Words(key.to_lowest_pre_release()),
        })
    }

    /// Returns the very next version in the order, where the order has such a thing (`semver` has, `words` is dense).
    pub(crate) fn successor(&self) -> Option<Self> {
        match &self.key {
            Key::Semver(key) => Some(Self::from_key(Key::Semver(key.successor()))),
            Key::Words(_) => None,
        }
    }

    /// Returns the lowest pre-release of all, where the order has such a thing.
    pub(crate) fn lowest_pre_release(order: &Order) -> Option<Self> {
        match order {
            Order::Semver => Version::parse("0.0.0-0", order).ok(),
            Order::Words(_) => None,
        }
    }

    /// Tells whether no release is below this release, or no pre-release below this pre-release.
    pub(crate) fn is_lowest_of_its_kind(&self) -> bool {
        match &self.key {
            Key::Semver(key) => key.is_lowest_of_its_kind(),
            Key::Words(key) => key.is_lowest_release(),
        }
    }

    /// Returns the version whose first `positions` numbers are this one's, the last of them one higher, the rest zero.
    pub(crate) fn raised_at(&self, positions: usize) -> Self {
        Self::from_key(match &self.key {
            Key::Semver(key) => Key::Semver(key.raised_at(positions)),
            Key::Words(key) => Key::Words(key.raised_at(positions)),
        })
    }

    /// Returns the numbers before any word; positions left out count as zero.
    pub(crate) fn numbers(&self) -> &[Number] {
        match &self.key {
            Key::Semver(key) => key.numbers(),
            Key::Words(key) => key.numbers(),
        }
    }

    fn from_key(key: Key) -> Self {
        let text = match &key {
            Key::Semver(key) => key.to_string(),
            Key::Words(key) => key.to_string(),
        };
        Self { text: text.into(), key }
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.key == other.key
    }
}

impl Eq for Version {}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.key.cmp(&other.key)
    }
}

impl Hash for Version {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.key.hash(state);
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl fmt::Debug for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}
