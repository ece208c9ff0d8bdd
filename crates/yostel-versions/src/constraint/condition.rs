//! Conditions: on which platforms a need counts. Carries out docs/versions.md §7.

use std::fmt;

/// Platforms by pattern: those that one of the patterns names, all when none does, without those that one with `!` names.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub(super) struct Condition(Vec<Pattern>);

/// `SYSTEM/ARCHITECTURE`, each a word or `*`; with `!`, those are left out. What names some is before what leaves out.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Pattern {
    out: bool,
    system: String,
    architecture: String,
}

impl Pattern {
    fn parse(text: &str) -> Option<Self> {
        let (out, names) = text.strip_prefix('!').map_or((false, text), |names| (true, names));
        let (system, architecture) = names.split_once('/')?;
        let word = |part: &str| {
            let legal = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_';
            part == "*" || (!part.is_empty() && part.bytes().all(legal))
        };
        let known = word(system) && word(architecture);
        known.then(|| Self { out, system: system.to_owned(), architecture: architecture.to_owned() })
    }

    /// Returns what two patterns both name; nothing where they name nothing in common.
    fn common(&self, other: &Self) -> Option<Self> {
        let word = |one: &str, other: &str| match (one, other) {
            ("*", word) | (word, "*") => Some(word.to_owned()),
            (one, other) => (one == other).then(|| one.to_owned()),
        };
        let (system, architecture) =
            (word(&self.system, &other.system)?, word(&self.architecture, &other.architecture)?);
        Some(Self { out: false, system, architecture })
    }

    fn names(&self, platform: &str) -> bool {
        let like = |pattern: &str, name: &str| pattern == "*" || pattern == name;
        platform.split_once('/').is_some_and(|(s, a)| like(&self.system, s) && like(&self.architecture, a))
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}/{}", if self.out { "!" } else { "" }, self.system, self.architecture)
    }
}

impl Condition {
    /// Reads patterns; the text of the first that is none, when one is.
    pub(super) fn parse<'t>(patterns: impl Iterator<Item = &'t str>) -> Result<Self, String> {
        let mut read = Vec::new();
        for text in patterns {
            read.push(Pattern::parse(text).ok_or_else(|| text.to_owned())?);
        }
        read.sort();
        read.dedup();
        Ok(Self(read))
    }

    pub(super) fn is_everywhere(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn patterns(&self) -> impl Iterator<Item = String> {
        self.0.iter().map(Pattern::to_string)
    }

    /// Tells whether there may be a platform that both cover.
    pub(super) fn meets(&self, other: &Self) -> bool {
        let named = |condition: &Self| -> Vec<Pattern> {
            let named: Vec<Pattern> = condition.0.iter().filter(|pattern| !pattern.out).cloned().collect();
            let all = || vec![Pattern { out: false, system: "*".into(), architecture: "*".into() }];
            if named.is_empty() { all() } else { named }
        };
        let is_out = |common: &Pattern| {
            let out = self.0.iter().chain(&other.0).filter(|pattern| pattern.out);
            out.into_iter().any(|pattern| pattern.common(common).as_ref() == Some(common))
        };
        named(self).iter().any(|one| named(other).iter().filter_map(|two| one.common(two)).any(|both| !is_out(&both)))
    }

    /// Returns a condition that covers what either does; where one leaves platforms out and they differ, it is everywhere.
    pub(super) fn or(&self, other: &Self) -> Self {
        if self == other {
            return self.clone();
        }
        let both = self.0.iter().chain(&other.0);
        if self.is_everywhere() || other.is_everywhere() || both.clone().any(|pattern| pattern.out) {
            return Self::default();
        }
        let mut both: Vec<Pattern> = both.cloned().collect();
        both.sort();
        both.dedup();
        Self(both)
    }

    pub(super) fn covers(&self, platform: &str) -> bool {
        let mut named = self.0.iter().filter(|pattern| !pattern.out).peekable();
        let is_named = named.peek().is_none() || named.any(|pattern| pattern.names(platform));
        is_named && !self.0.iter().any(|pattern| pattern.out && pattern.names(platform))
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, pattern) in self.0.iter().enumerate() {
            write!(f, "{}{pattern}", if at == 0 { "" } else { ", " })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::constraint::ConstraintText;

    #[test]
    fn patterns_name_platforms_and_leave_others_out() {
        let covered = |patterns: &[&str]| -> Vec<&str> {
            let condition = Condition::parse(patterns.iter().copied()).unwrap();
            let all = ["linux/amd64", "linux/arm64", "windows/amd64"];
            all.into_iter().filter(|platform| condition.covers(platform)).collect()
        };
        assert_eq!(covered(&[]).len(), 3);
        assert_eq!(covered(&["linux/*"]), ["linux/amd64", "linux/arm64"]);
        assert_eq!(covered(&["*/arm64", "windows/amd64"]), ["linux/arm64", "windows/amd64"]);
        assert_eq!(covered(&["!windows/*"]), ["linux/amd64", "linux/arm64"]);
        assert_eq!(covered(&["linux/*", "!linux/arm64"]), ["linux/amd64"]);
        assert_eq!(covered(&["darwin/*"]), [""; 0]);
        let condition = |patterns: &[&str]| Condition::parse(patterns.iter().copied()).unwrap();
        for (one, other, meet, either) in [
            (&[][..], &["linux/*"][..], true, &[][..]),
            (&["linux/*"], &["*/amd64"], true, &["*/amd64", "linux/*"]),
            (&["linux/*"], &["windows/amd64", "linux/arm64"], true, &["linux/*", "linux/arm64", "windows/amd64"]),
            (&["linux/*"], &["windows/*"], false, &["linux/*", "windows/*"]),
            (&["linux/*"], &["!linux/*"], false, &[]),
            (&["linux/amd64"], &["!linux/*"], false, &[]),
            (&["linux/*"], &["!linux/amd64"], true, &[]),
            (&["!linux/*"], &["!windows/*"], true, &[]),
            (&["!linux/*"], &["!linux/*"], true, &["!linux/*"]),
        ] {
            let (one, other) = (condition(one), condition(other));
            assert_eq!((one.meets(&other), other.meets(&one)), (meet, meet), "{one} and {other}");
            assert_eq!((one.or(&other), other.or(&one)), (condition(either), condition(either)), "{one} or {other}");
        }
        for wrong in ["linux", "Linux/*", "linux/", "!!linux/*", "linux/*/x", "", "lin*/x"] {
            assert_eq!(Condition::parse([wrong].into_iter()).unwrap_err(), wrong);
        }
    }

    #[test]
    fn a_constraint_with_its_platforms_reads_back_as_itself_and_joins() {
        let accept = |text: &str| ConstraintText::parse(text).unwrap();
        let one = accept(">=1.2,<3 || ^4  on  !windows/*,linux/*,linux/*");
        assert_eq!(one.as_str(), ">=1.2, <3 || ^4 on linux/*, !windows/*");
        assert_eq!(accept(one.as_str()), one);
        assert_eq!(one.everywhere().as_str(), ">=1.2, <3 || ^4");
        assert_eq!(accept("^5").where_counts(&one).as_str(), "^5 on linux/*, !windows/*");
        assert_eq!(accept("^5").and(&accept("<6 on linux/*")).as_str(), "^5, <6 on linux/*");
        assert_eq!(accept("^5 on linux/*").and(&accept("<6")).as_str(), "^5, <6 on linux/*");
        assert!(ConstraintText::parse("^5 on ").is_err() && ConstraintText::parse(" on linux/*").is_err());
    }
}
