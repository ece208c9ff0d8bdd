//! Is a release affected: the evaluation of the OSV schema (section "Evaluation"), under each package's own numbering, and
//! along the history of a repository.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Affected, AffectedRange, RangeEvent, RangeKind, repository_of};
use yostel_versions::{Numbering, Version};

/// Tells whether a version is affected: it is named, or in one of the ranges. A version of a range that the package could
/// not have counts as absent.
pub fn is_affected(affected: &Affected, numbering: &Numbering, version: &Version) -> bool {
    let is = |text: &String| numbering.parse_version(text).is_ok_and(|named| named == *version);
    let kinds = [RangeKind::Semver, RangeKind::Ecosystem];
    affected.versions.iter().any(is)
        || affected
            .ranges
            .iter()
            .filter(|range| kinds.contains(&range.kind))
            .any(|range| holds(range, numbering, version))
}

/// Tells whether a version is in a range: the last event at or below it, in the order of versions, is that it was introduced.
fn holds(range: &AffectedRange, numbering: &Numbering, version: &Version) -> bool {
    let parse = |text: &str| numbering.parse_version(text).ok();
    let mut limits = range.events.iter().filter_map(|event| match event {
        RangeEvent::Limit(limit) => Some(limit),
        _ => None,
    });
    let mut is_within = limits.clone().next().is_none();
    is_within |= limits.any(|limit| limit == "*" || parse(limit).is_some_and(|limit| *version < limit));
    if !is_within {
        return false;
    }
    // At which version, nothing being below all, and whether versions are affected from there on.
    let at = |event: &RangeEvent| match event {
        RangeEvent::Introduced(from) if from == "0" => Some((None, true)),
        RangeEvent::Introduced(from) => Some((Some(parse(from)?), true)).filter(|(at, _)| at.as_ref() <= Some(version)),
        RangeEvent::Fixed(from) => Some((Some(parse(from)?), false)).filter(|(at, _)| at.as_ref() <= Some(version)),
        RangeEvent::LastAffected(to) => Some((Some(parse(to)?), false)).filter(|(at, _)| at.as_ref() < Some(version)),
        RangeEvent::Limit(_) => None,
    };
    // Of several at one version, the one that is written last counts.
    let last = range.events.iter().filter_map(at).max_by(|(one, _), (other, _)| one.cmp(other));
    last.is_some_and(|(_, is_affected)| is_affected)
}

/// Which commits of a repository are at or before which others, as far as anybody asks.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ancestry {
    /// Of a commit, those that are before it.
    before: BTreeMap<String, BTreeSet<String>>,
}

impl Ancestry {
    /// Says of a commit which others are before it.
    pub fn insert(&mut self, commit: String, before: BTreeSet<String>) {
        self.before.insert(commit, before);
    }

    fn is_before(&self, one: &str, other: &str) -> bool {
        one != other && self.before.get(other).is_some_and(|before| before.contains(one))
    }

    fn is_at_or_before(&self, one: &str, other: &str) -> bool {
        one == other || self.is_before(one, other)
    }
}

/// A commit of a repository, and what is known of the history around it.
#[derive(Debug, Clone, Copy)]
pub struct AtCommit<'a> {
    /// The repository, as [`repository_of`] writes it.
    pub repository: &'a str,
    /// The commit.
    pub commit: &'a str,
    /// The tag that it was asked for by.
    pub tag: Option<&'a str>,
    /// What is before what.
    pub ancestry: &'a Ancestry,
}

/// Tells whether a commit is affected: its tag is named, or it is in one of the ranges of its repository.
pub fn is_commit_affected(affected: &Affected, at: &AtCommit<'_>) -> bool {
    at.tag.is_some_and(|tag| affected.versions.iter().any(|named| named == tag))
        || ranges_of(affected, at.repository).any(|range| holds_at(range, at))
}

/// Returns the first commit that the ranges of a repository name as one that ends the matter.
pub(super) fn fixing_commit<'a>(affected: &'a Affected, repository: &str) -> Option<&'a str> {
    ranges_of(affected, repository).flat_map(|range| &range.events).find_map(|event| match event {
        RangeEvent::Fixed(commit) => Some(commit.as_str()),
        _ => None,
    })
}

fn ranges_of<'a>(affected: &'a Affected, repository: &str) -> impl Iterator<Item = &'a AffectedRange> {
    let is_of = move |range: &&AffectedRange| {
        let of = range.repo.as_ref().filter(|_| range.kind == RangeKind::Git);
        of.is_some_and(|of| repository_of(of) == repository)
    };
    affected.ranges.iter().filter(is_of)
}

/// Tells whether a commit is in a range: it has a commit that introduced the matter, and none that ended it, other than one
/// that the introducing commit has already. A merge of a side that is affected with one that is fixed has the end.
fn holds_at(range: &AffectedRange, at: &AtCommit<'_>) -> bool {
    let AtCommit { commit, ancestry, .. } = *at;
    let mut limits = range.events.iter().filter_map(|event| match event {
        RangeEvent::Limit(limit) => Some(limit.as_str()),
        _ => None,
    });
    if limits.clone().next().is_some() && !limits.any(|limit| limit == "*" || ancestry.is_before(commit, limit)) {
        return false;
    }
    let introduced = range.events.iter().filter_map(|event| match event {
        RangeEvent::Introduced(from) => Some((from != "0").then_some(from.as_str())),
        _ => None,
    });
    let mut introduced = introduced.filter(|from| from.is_none_or(|from| ancestry.is_at_or_before(from, commit)));
    introduced.any(|from| {
        !range.events.iter().any(|event| match event {
            RangeEvent::Fixed(end) => {
                ancestry.is_at_or_before(end, commit) && !from.is_some_and(|from| ancestry.is_at_or_before(end, from))
            }
            RangeEvent::LastAffected(end) => {
                ancestry.is_before(end, commit) && !from.is_some_and(|from| ancestry.is_before(end, from))
            }
            RangeEvent::Introduced(_) | RangeEvent::Limit(_) => false,
        })
    })
}
