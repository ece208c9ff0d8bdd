//! What a package's author promises: how its versions order, and which positions break (docs/versions.md §4).

use std::fmt;

use super::{Number, Version, VersionError};

/// The rule by which versions of a package are ordered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum Order {
    /// Semantic Versioning 2.0.0.
    #[default]
    Semver,
    /// Dotted numbers and words.
    Words,
}

impl Order {
    /// Reads `semver` or `words`.
    pub fn parse(text: &str) -> Option<Self> {
        [Self::Semver, Self::Words].into_iter().find(|order| order.as_str() == text)
    }

    /// Returns the word for it in a manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Semver => "semver",
            Self::Words => "words",
        }
    }
}

/// A package's numbering: its order, and the last position whose change starts a new compatible line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
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
}

impl Numbering {
    /// Joins an order and a position, from 1; 0 = nothing ever breaks; none = the order's default (`semver`: the first
    /// position that is not zero; `words`: 1).
    ///
    /// # Errors
    /// When there is no such position.
    pub fn new(order: Order, breaks_at: Option<u8>) -> Result<Self, NumberingError> {
        match (order, breaks_at) {
            (Order::Semver, Some(position)) if position > 3 => Err(NumberingError::BreaksBeyondSemver(position)),
            (_, Some(position)) if position > 16 => Err(NumberingError::BreaksTooFar(position)),
            _ => Ok(Self { order, breaks_at }),
        }
    }

    /// Returns the order.
    pub fn order(self) -> Order {
        self.order
    }

    /// Returns the declared position, if one was declared.
    pub fn breaks_at(self) -> Option<u8> {
        self.breaks_at
    }

    /// Reads a version of a package that numbers like this.
    ///
    /// # Errors
    /// As [`Version::parse`].
    pub fn parse_version(self, text: &str) -> Result<Version, VersionError> {
        Version::parse(text, self.order)
    }

    /// Returns how many positions make up the compatible line of `version`; 0 = all versions are one line.
    pub fn line_positions(self, version: &Version) -> usize {
        match (self.breaks_at, self.order) {
            (Some(position), _) => usize::from(position),
            (None, Order::Words) => 1,
            (None, Order::Semver) => version.numbers().iter().position(|n| !n.is_zero()).map_or(3, |i| i + 1),
        }
    }

    /// Names the compatible line of a version, like `2.x` or `0.9.x`.
    pub fn line_name(self, version: &Version) -> String {
        let number = |i: usize| version.numbers().get(i).unwrap_or(&Number::ZERO).to_string();
        let positions = (0..self.line_positions(version)).map(number);
        positions.chain(["x".to_owned()]).collect::<Vec<_>>().join(".")
    }

    /// Tells whether two versions are on one compatible line.
    pub fn is_same_line(self, a: &Version, b: &Version) -> bool {
        let positions = self.line_positions(a).max(self.line_positions(b));
        (0..positions)
            .all(|i| a.numbers().get(i).unwrap_or(&Number::ZERO) == b.numbers().get(i).unwrap_or(&Number::ZERO))
    }

    /// Returns the first release of the next line, or none when nothing ever breaks.
    pub(crate) fn next_line(self, version: &Version) -> Option<Version> {
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
        }
    }
}
