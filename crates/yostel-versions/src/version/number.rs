//! Numbers of any length: real version strings carry dates, counters and worse, and none may overflow.

use std::cmp::Ordering;
use std::fmt;

/// A non-negative whole number without a limit.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum Number {
    Small(u64),
    /// Decimal digits without leading zeros; always above `u64::MAX`.
    Large(Box<str>),
}

impl Number {
    pub(crate) const ZERO: Self = Self::Small(0);

    /// Reads decimal digits; leading zeros count for nothing.
    pub(crate) fn from_digits(digits: &str) -> Self {
        debug_assert!(!digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()));
        let trimmed = digits.trim_start_matches('0');
        if trimmed.is_empty() {
            return Self::ZERO;
        }
        trimmed.parse().map_or_else(|_| Self::Large(trimmed.into()), Self::Small)
    }

    pub(crate) fn is_zero(&self) -> bool {
        *self == Self::ZERO
    }

    pub(crate) fn plus_one(&self) -> Self {
        match self {
            Self::Small(n) if *n < u64::MAX => Self::Small(n + 1),
            _ => {
                let mut digits = self.to_string().into_bytes();
                match digits.iter().rposition(|&d| d != b'9') {
                    Some(at) => {
                        digits[at] += 1;
                        digits[at + 1..].fill(b'0');
                    }
                    None => {
                        digits.fill(b'0');
                        digits.insert(0, b'1');
                    }
                }
                Self::from_digits(std::str::from_utf8(&digits).expect("digits are ASCII"))
            }
        }
    }
}

impl PartialOrd for Number {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Number {
    fn cmp(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Self::Small(a), Self::Small(b)) => a.cmp(b),
            (Self::Small(_), Self::Large(_)) => Ordering::Less,
            (Self::Large(_), Self::Small(_)) => Ordering::Greater,
            (Self::Large(a), Self::Large(b)) => a.len().cmp(&b.len()).then_with(|| a.cmp(b)),
        }
    }
}

impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Small(n) => n.fmt(f),
            Self::Large(digits) => f.write_str(digits),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counting_goes_on_past_any_machine_word() {
        let largest = Number::Small(u64::MAX);
        assert_eq!(largest.plus_one(), Number::from_digits("18446744073709551616"));
        assert!(largest < largest.plus_one());
        assert_eq!(Number::from_digits("99999999999999999999").plus_one().to_string(), "100000000000000000000");
        assert_eq!(Number::from_digits("18446744073709551999").plus_one().to_string(), "18446744073709552000");
        assert_eq!(Number::from_digits("007"), Number::Small(7));
        assert!(Number::from_digits("00").is_zero());
    }
}
