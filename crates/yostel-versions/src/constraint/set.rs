//! Sets of versions as sorted, disjoint, non-touching intervals between cuts.
//!
//! A cut is just before or just after a version, so one kind of interval, from cut to cut, stands for open and closed
//! ends alike and every operation is a walk over sorted cuts.

use crate::version::Version;

/// Which side of its version a cut is on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Side {
    /// The version itself is above the cut.
    Before,
    /// The version itself is below the cut.
    After,
}

/// A place between versions.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Cut {
    /// Below every version.
    Start,
    /// Next to a version.
    At(Version, Side),
    /// Above every version.
    End,
}

/// A set of versions. Invariant: intervals are non-empty, rising, and no two touch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VersionSet(Vec<(Cut, Cut)>);

impl VersionSet {
    /// Returns the set without members.
    pub fn empty() -> Self {
        Self(Vec::new())
    }

    /// Returns the set of all versions.
    pub fn full() -> Self {
        Self(vec![(Cut::Start, Cut::End)])
    }

    /// Returns what is between two cuts; empty when they do not rise.
    pub fn between(low: Cut, high: Cut) -> Self {
        Self(if low < high { vec![(low, high)] } else { Vec::new() })
    }

    /// Returns the intervals, rising.
    pub fn ranges(&self) -> &[(Cut, Cut)] {
        &self.0
    }

    /// Tells whether the set has no members.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Tells whether the version is a member.
    pub fn contains(&self, version: &Version) -> bool {
        let below = |cut: &Cut| match cut {
            Cut::Start => true,
            Cut::At(at, Side::Before) => at <= version,
            Cut::At(at, Side::After) => at < version,
            Cut::End => false,
        };
        let candidate = self.0.partition_point(|(low, _)| below(low));
        candidate > 0 && !below(&self.0[candidate - 1].1)
    }

    /// Returns the members of either.
    pub fn union(&self, other: &Self) -> Self {
        let mut all: Vec<(Cut, Cut)> = self.0.iter().chain(&other.0).cloned().collect();
        all.sort();
        let mut joined: Vec<(Cut, Cut)> = Vec::with_capacity(all.len());
        for (low, high) in all {
            match joined.last_mut() {
                Some((_, end)) if low <= *end => *end = high.max(end.clone()),
                _ => joined.push((low, high)),
            }
        }
        Self(joined)
    }

    /// Returns the members of both.
    pub fn intersection(&self, other: &Self) -> Self {
        let (mut a, mut b) = (self.0.iter().peekable(), other.0.iter().peekable());
        let mut shared = Vec::new();
        while let (Some((low_a, high_a)), Some((low_b, high_b))) = (a.peek(), b.peek()) {
            let (low, high) = (low_a.max(low_b), high_a.min(high_b));
            if low < high {
                shared.push((low.clone(), high.clone()));
            }
            if high_a <= high_b {
                a.next()
            } else {
                b.next()
            };
        }
        Self(shared)
    }

    /// Returns what is no member.
    pub fn complement(&self) -> Self {
        let mut gaps = Vec::with_capacity(self.0.len() + 1);
        let mut from = Cut::Start;
        for (low, high) in &self.0 {
            if from < *low {
                gaps.push((from, low.clone()));
            }
            from = high.clone();
        }
        if from < Cut::End {
            gaps.push((from, Cut::End));
        }
        Self(gaps)
    }

    /// Replaces each cut next to a version; intervals that close up vanish, those that come to touch are joined.
    /// The replacement must keep the order of cuts (it may make unequal ones equal).
    pub(super) fn map_cuts(&self, replace: impl Fn(Version, Side) -> Cut) -> Self {
        let replace = |cut: &Cut| match cut {
            Cut::At(version, side) => replace(version.clone(), *side),
            end => end.clone(),
        };
        let mapped = self.0.iter().map(|(low, high)| (replace(low), replace(high))).filter(|(low, high)| low < high);
        Self(mapped.collect()).union(&Self::empty())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::version::Order;

    #[test]
    fn a_cut_after_a_version_has_it_below() {
        // Most are moved before the next version; where there is none, they stay.
        let version = Version::parse("1.0.0", &Order::Semver).unwrap();
        let at = |side| Cut::At(version.clone(), side);
        assert!(VersionSet::between(at(Side::Before), at(Side::After)).contains(&version));
        assert!(!VersionSet::between(at(Side::After), Cut::End).contains(&version));
        assert!(!VersionSet::between(Cut::Start, at(Side::Before)).contains(&version));
    }
}
