//! Semantic Versioning 2.0.0, to the letter (sections 2, 9, 10 and 11 of that specification).

use std::cmp::Ordering;
use std::fmt;

use super::VersionError;
use super::number::Number;

/// Place of a version in the semantic order. Build metadata has no place in it (§10).
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct SemverKey {
    numbers: [Number; 3],
    /// Identifiers after `-`; empty for a release.
    pre: Vec<Identifier>,
}

/// Numeric identifiers sort before words (§11.4.3), which the order of the variants says.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Identifier {
    Numeric(Number),
    Text(Box<str>),
}

impl SemverKey {
    pub(super) fn parse(text: &str) -> Result<Self, VersionError> {
        Self::read(text).map_err(|reason| VersionError {
            text: text.into(),
            reason: reason.into(),
            suggestion: suggest(text),
            unlisted: None,
        })
    }

    fn read(text: &str) -> Result<Self, &'static str> {
        let (rest, build) = match text.split_once('+') {
            Some((rest, build)) => (rest, Some(build)),
            None => (text, None),
        };
        let (numbers, pre) = match rest.split_once('-') {
            Some((numbers, pre)) => (numbers, Some(pre)),
            None => (rest, None),
        };
        if numbers.starts_with(['v', 'V']) {
            return Err("a version starts with a digit, not with `v`");
        }
        let parts: Vec<&str> = numbers.split('.').collect();
        for part in &parts {
            if part.is_empty() || !part.bytes().all(|b| b.is_ascii_digit()) {
                return Err("Semantic Versioning wants three numbers joined by dots, like 1.4.2");
            }
            if part.len() > 1 && part.starts_with('0') {
                return Err("Semantic Versioning allows no leading zeros");
            }
        }
        let [major, minor, patch] = parts[..] else {
            return Err("Semantic Versioning wants exactly three numbers, like 1.4.2");
        };
        let mut identifiers = Vec::new();
        for part in pre.iter().flat_map(|pre| pre.split('.')) {
            check_identifier(part)?;
            if !part.bytes().all(|b| b.is_ascii_digit()) {
                identifiers.push(Identifier::Text(part.into()));
            } else if part.len() > 1 && part.starts_with('0') {
                return Err("a number after `-` must not start with zero");
            } else {
                identifiers.push(Identifier::Numeric(Number::from_digits(part)));
            }
        }
        build.iter().flat_map(|build| build.split('.')).try_for_each(check_identifier)?;
        Ok(Self { numbers: [major, minor, patch].map(Number::from_digits), pre: identifiers })
    }

    pub(super) fn is_pre_release(&self) -> bool {
        !self.pre.is_empty()
    }

    pub(super) fn numbers(&self) -> &[Number] {
        &self.numbers
    }

    pub(super) fn to_core(&self) -> Self {
        Self { numbers: self.numbers.clone(), pre: Vec::new() }
    }

    pub(super) fn to_lowest_pre_release(&self) -> Self {
        Self { numbers: self.numbers.clone(), pre: vec![Identifier::Numeric(Number::ZERO)] }
    }

    pub(super) fn is_lowest_of_its_kind(&self) -> bool {
        self.numbers.iter().all(Number::is_zero) && matches!(&self.pre[..], [] | [Identifier::Numeric(Number::ZERO)])
    }

    /// After a pre-release comes the same with one more identifier, the lowest there is; after a release comes the
    /// lowest pre-release of the next patch.
    pub(super) fn successor(&self) -> Self {
        if self.is_pre_release() {
            let mut next = self.clone();
            next.pre.push(Identifier::Numeric(Number::ZERO));
            return next;
        }
        self.raised_at(3).to_lowest_pre_release()
    }

    pub(super) fn raised_at(&self, positions: usize) -> Self {
        let mut numbers = [const { Number::ZERO }; 3];
        let last = positions.clamp(1, 3) - 1;
        numbers[..last].clone_from_slice(&self.numbers[..last]);
        numbers[last] = self.numbers[last].plus_one();
        Self { numbers, pre: Vec::new() }
    }
}

fn check_identifier(part: &str) -> Result<(), &'static str> {
    if part.is_empty() {
        Err("an identifier after `-` or `+` is empty")
    } else if !part.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') {
        Err("identifiers after `-` and `+` hold only ASCII letters, digits and `-`")
    } else {
        Ok(())
    }
}

/// Fills up missing numbers, cuts a leading `v` and leading zeros; nothing when that is not enough.
fn suggest(text: &str) -> Option<String> {
    let text = text.trim().trim_start_matches(['v', 'V']);
    let end = text.find(['-', '+']).unwrap_or(text.len());
    let (numbers, rest) = text.split_at(end);
    let mut parts: Vec<String> = numbers
        .split('.')
        .map(|part| match part.trim_start_matches('0') {
            "" if !part.is_empty() => "0".to_owned(),
            trimmed => trimmed.to_owned(),
        })
        .collect();
    while parts.len() < 3 {
        parts.push("0".into());
    }
    let suggestion = format!("{}{rest}", parts.join("."));
    SemverKey::read(&suggestion).is_ok().then_some(suggestion)
}

impl PartialOrd for SemverKey {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for SemverKey {
    /// §11: numbers first; a pre-release before its release; identifiers one by one, more of them winning.
    fn cmp(&self, other: &Self) -> Ordering {
        self.numbers
            .cmp(&other.numbers)
            .then_with(|| self.pre.is_empty().cmp(&other.pre.is_empty()))
            .then_with(|| self.pre.cmp(&other.pre))
    }
}

impl fmt::Display for SemverKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [major, minor, patch] = &self.numbers;
        write!(f, "{major}.{minor}.{patch}")?;
        for (i, identifier) in self.pre.iter().enumerate() {
            f.write_str(if i == 0 { "-" } else { "." })?;
            match identifier {
                Identifier::Numeric(number) => number.fmt(f)?,
                Identifier::Text(text) => f.write_str(text)?,
            }
        }
        Ok(())
    }
}
