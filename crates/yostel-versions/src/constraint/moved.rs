//! Constraints that move with a version: another constraint of the same form, which accepts it.

use super::syntax::{Comparator, ConstraintText, Sign};
use crate::{Numbering, Version};

impl ConstraintText {
    /// Returns a constraint of the same form that accepts this version: a lower bound, an exact version or a prefix with as
    /// many positions as it has, a range that stays as wide as a compatible line where it was no wider, and else an upper
    /// bound further up. What is excluded stays so. One of several alternatives more, where there are several. The same
    /// constraint, when it accepts the version already; `^` and the version, when there is no such constraint.
    #[must_use]
    pub fn moved_to(&self, version: &Version, numbering: &Numbering) -> Self {
        let accepts = |text: &Self| text.bind(numbering).is_ok_and(|bound| bound.accepts(version));
        if accepts(self) {
            return self.clone();
        }
        let last = self.groups().last().map_or(&[][..], Vec::as_slice);
        let mut groups = if self.groups().len() < 2 { Vec::new() } else { self.groups().to_vec() };
        let moved = moved(last, version.as_str(), self.is_one_line(last, numbering)).filter(|moved| !moved.is_empty());
        let same_form = moved.map(|moved| {
            groups.push(moved);
            Self::of(groups, self.on().clone())
        });
        if let Some(same_form) = same_form.filter(accepts) {
            return same_form;
        }
        let caret = Comparator { sign: Sign::Caret, version: version.as_str().to_owned() };
        Self::of(vec![vec![caret]], self.on().clone())
    }

    /// Returns the constraint that accepts whatever is not excluded by name, and what this one accepts.
    #[must_use]
    pub fn loosened(&self) -> Self {
        let excluded = |group: &Vec<Comparator>| {
            let mut all: Vec<Comparator> = group.iter().filter(|one| one.sign == Sign::Not).cloned().collect();
            if all.is_empty() {
                all.push(Comparator { sign: Sign::Any, version: String::new() });
            }
            all
        };
        let mut groups = self.groups().to_vec();
        match &groups[..] {
            [one] => groups.push(excluded(one)),
            // What one alternative excludes, another may accept.
            _ => groups.push(excluded(&Vec::new())),
        }
        Self::of(groups, self.on().clone())
    }

    /// Tells whether a range with a lower bound is no wider than a compatible line.
    fn is_one_line(&self, group: &[Comparator], numbering: &Numbering) -> bool {
        let Some(low) = group.iter().find(|one| one.sign == Sign::AtLeast) else { return false };
        let bind = |group: Vec<Comparator>| Self::of(vec![group], self.on().clone()).bind(numbering);
        let caret = Comparator { sign: Sign::Caret, version: low.version.clone() };
        match (bind(group.to_vec()), bind(vec![caret])) {
            (Ok(range), Ok(line)) => range.is_subset(&line),
            _ => false,
        }
    }
}

/// Moves the comparators of one alternative so that they accept a version; nothing where that has no such form.
fn moved(group: &[Comparator], version: &str, one_line: bool) -> Option<Vec<Comparator>> {
    let mut all: Vec<Comparator> = Vec::new();
    for one in group {
        let to = match one.sign {
            Sign::Any | Sign::Not => one.version.clone(),
            Sign::Exactly | Sign::AtMost => version.to_owned(),
            Sign::Prefix => {
                let start = start_of(version, &one.version);
                numbers(&start).map(|_| start)?
            }
            Sign::Caret => start_of(version, &one.version),
            Sign::AtLeast if one_line => start_of(version, &one.version),
            Sign::AtLeast | Sign::Above => one.version.clone(),
            Sign::Below => above(version, &one.version)?,
        };
        // An excluded version that is wanted now is not excluded any more.
        if one.sign != Sign::Not || to != version {
            all.push(Comparator { sign: one.sign, version: to });
        }
    }
    Some(all)
}

/// Returns the numbers of a version, as far as it has nothing else.
fn numbers(version: &str) -> Option<Vec<u64>> {
    version.split('.').map(|part| part.parse().ok()).collect()
}

fn written(numbers: &[u64]) -> String {
    numbers.iter().map(u64::to_string).collect::<Vec<_>>().join(".")
}

/// Writes as many positions of a version as another text has; all of it, when either has more than numbers.
fn start_of(version: &str, like: &str) -> String {
    match (numbers(version), numbers(like)) {
        (Some(to), Some(like)) if like.len() <= to.len() => written(&to[..like.len()]),
        _ => version.to_owned(),
    }
}

/// Writes the upper bound that is as far above a version as another was: the same position is one more, and what followed it
/// follows it again; nothing where either has more than numbers.
fn above(version: &str, like: &str) -> Option<String> {
    let (to, like) = (numbers(version)?, numbers(like)?);
    let counts = like.iter().rposition(|number| *number != 0).map_or(1, |at| at + 1).min(to.len());
    let mut bound = to[..counts].to_vec();
    if let Some(last) = bound.last_mut() {
        *last = last.saturating_add(1);
    }
    bound.resize(like.len().max(counts), 0);
    Some(written(&bound))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::Order;

    fn moved_to(text: &str, version: &str, numbering: &Numbering) -> String {
        let version = numbering.parse_version(version).unwrap();
        ConstraintText::parse(text).unwrap().moved_to(&version, numbering).to_string()
    }

    #[test]
    fn each_constraint_keeps_its_form() {
        for (text, version, after) in [
            ("^2", "3.1.4", "^3"),
            ("^2.1", "3.1.4", "^3.1"),
            ("^2.1.0", "3.1.4", "^3.1.4"),
            ("^2.1.0", "3.0.0-rc.1", "^3.0.0-rc.1"),
            ("=2.2.0", "3.1.4", "=3.1.4"),
            ("1.4.*", "2.6.1", "2.6.*"),
            ("1.*", "2.6.1", "2.*"),
            (">=2.1, <3", "3.4.1", ">=3.4, <4"),
            (">=2.1.0, <3.0.0", "3.4.1", ">=3.4.1, <4.0.0"),
            // Wider than a line: it opens further up, and what it accepted it accepts.
            (">=1, <3", "3.4.1", ">=1, <4"),
            (">=2.1, <2.5", "2.6.0", ">=2.6, <2.7"),
            ("<3", "4.1.0", "<5"),
            ("<=3.2.1", "4.1.0", "<=4.1.0"),
            (">=2, <3, !=2.5.0", "3.4.1", ">=3, <4, !=2.5.0"),
            ("^1 || ^2", "3.4.1", "^1 || ^2 || ^3"),
            ("^2 on linux/*", "3.4.1", "^3 on linux/*"),
            // It accepts it already.
            (">=2", "3.4.1", ">=2"),
            ("*", "3.4.1", "*"),
            ("*", "4.0.0-rc.1", "^4.0.0-rc.1"),
            ("!=3.4.1", "3.4.1", "^3.4.1"),
        ] {
            assert_eq!(moved_to(text, version, &Numbering::default()), after, "{text} to {version}");
        }
        let dates = Numbering::new(Order::words(), Some(1)).unwrap();
        assert_eq!(moved_to(">=2025.1, <2026", "2026.2sp1", &dates), "^2026.2sp1");
        assert_eq!(moved_to(">=2025.1, <2026", "2026.2", &dates), ">=2026.2, <2027");
    }

    #[test]
    fn what_is_loosened_still_excludes_what_was_excluded_by_name() {
        for (text, after) in [
            ("^2", "^2 || *"),
            (">=2, !=2.5.0", ">=2, !=2.5.0 || !=2.5.0"),
            ("^2.0.0-rc.1", "^2.0.0-rc.1 || *"),
            ("^1 || ^2, !=2.5.0", "^1 || ^2, !=2.5.0 || *"),
        ] {
            assert_eq!(ConstraintText::parse(text).unwrap().loosened().to_string(), after);
        }
    }

    proptest! {
        #[test]
        fn the_version_is_always_accepted(
            parts in prop::collection::vec((0usize..8, 0u64..4, 0u64..4, 0u64..4, 1usize..4), 1..4),
            split in any::<bool>(),
            (major, minor, patch) in (0u64..5, 0u64..5, 0u64..5),
            pre in any::<bool>(),
        ) {
            let numbering = Numbering::default();
            let comparator = |(sign, a, b, c, positions): &(usize, u64, u64, u64, usize)| {
                let all = [*a, *b, *c];
                let version = written(&all[..*positions]);
                let sign = ["^", "=", ">=", ">", "<", "<=", "!=", ".*"][*sign];
                match sign {
                    ".*" => format!("{version}.*"),
                    "=" | "!=" | ">" | "<=" => format!("{sign}{}", written(&all)),
                    sign => format!("{sign}{version}"),
                }
            };
            let texts: Vec<String> = parts.iter().map(comparator).collect();
            let text = ConstraintText::parse(&texts.join(if split { " || " } else { ", " }));
            let version = numbering.parse_version(&format!("{major}.{minor}.{patch}{}", if pre { "-rc.1" } else { "" }));
            if let (Ok(text), Ok(version)) = (text, version) {
                let moved = text.moved_to(&version, &numbering);
                prop_assert!(moved.bind(&numbering).unwrap().accepts(&version), "{} to {}: {}", text, version, moved);
                prop_assert_eq!(ConstraintText::parse(moved.as_str()).unwrap(), moved);
                let loose = text.loosened().bind(&numbering).unwrap();
                prop_assert!(text.bind(&numbering).unwrap().is_subset(&loose));
            }
        }
    }
}
