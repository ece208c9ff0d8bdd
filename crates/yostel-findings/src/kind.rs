//! The kinds of findings, and what one asks an audit for.

use crate::audit::ConcernKind;

/// The kinds of findings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum FindingKind {
    /// The lockfile and a source tell different things.
    Alarm,
    /// An advisory affects a locked release.
    Advisory,
    /// An advisory cannot be read.
    UnreadAdvisory,
    /// A locked release was withdrawn.
    Withdrawn,
    /// A locked release is deprecated.
    Deprecated,
    /// The licence of a locked release is not allowed.
    Licence,
    /// Nothing new came of a package for long.
    Quiet,
    /// No source has a package any more.
    Unknown,
    /// Something newer exists.
    Outdated,
    /// Packages hold the same files.
    SameContent,
    /// A package is locked at several versions.
    SeveralVersions,
    /// Packages do the same job.
    SharedRole,
    /// A rule of a manifest is due for review.
    DueRule,
    /// Packages hold nearly the same files.
    SimilarContent,
    /// Packages have nearly the same name.
    SimilarName,
    /// Nothing bounds a need from above.
    Unbounded,
    /// No set has the oldest release that a need accepts.
    LowerBound,
    /// Only this machine has where a package comes from.
    OnlyHere,
    /// No file mentions what is needed.
    Unused,
    /// A locked release does not say which commit it was made from.
    NoProvenance,
    /// A locked release is younger than the policy permits.
    TooYoung,
    /// A file that mentions a package does not say what is locked.
    StrayMention,
}

/// What one asks an audit for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum FindingGroup {
    /// What is behind, or gone.
    Outdated,
    /// What is there twice.
    Duplicates,
    /// What advisories say.
    Advisories,
    /// What was withdrawn or deprecated.
    Notices,
    /// What is licensed otherwise than is allowed.
    Licences,
    /// Rules that are due for review.
    Upkeep,
}

impl FindingGroup {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Outdated, Self::Duplicates, Self::Advisories, Self::Notices, Self::Licences, Self::Upkeep];

    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Outdated => "outdated",
            Self::Duplicates => "duplicates",
            Self::Advisories => "advisories",
            Self::Notices => "notices",
            Self::Licences => "licences",
            Self::Upkeep => "upkeep",
        }
    }
}

impl FindingKind {
    /// All of them.
    pub const ALL: [Self; 22] = [
        Self::Alarm,
        Self::Advisory,
        Self::UnreadAdvisory,
        Self::Withdrawn,
        Self::Deprecated,
        Self::Licence,
        Self::Quiet,
        Self::Unknown,
        Self::Outdated,
        Self::SameContent,
        Self::SeveralVersions,
        Self::SharedRole,
        Self::DueRule,
        Self::SimilarContent,
        Self::SimilarName,
        Self::Unbounded,
        Self::LowerBound,
        Self::OnlyHere,
        Self::Unused,
        Self::NoProvenance,
        Self::TooYoung,
        Self::StrayMention,
    ];

    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Alarm => "alarm",
            Self::Advisory => "advisory",
            Self::UnreadAdvisory => "unread-advisory",
            Self::Withdrawn => "withdrawn",
            Self::Deprecated => "deprecated",
            Self::Licence => "licence",
            Self::Quiet => "quiet",
            Self::Unknown => "unknown",
            Self::Outdated => "outdated",
            Self::SameContent => "same-content",
            Self::SeveralVersions => "several-versions",
            Self::SharedRole => "shared-role",
            Self::DueRule => "due-rule",
            Self::SimilarContent => "similar-content",
            Self::SimilarName => "similar-name",
            Self::Unbounded => ConcernKind::WORDS[0],
            Self::LowerBound => ConcernKind::WORDS[1],
            Self::OnlyHere => ConcernKind::WORDS[2],
            Self::Unused => ConcernKind::WORDS[3],
            Self::NoProvenance => ConcernKind::WORDS[4],
            Self::TooYoung => ConcernKind::WORDS[5],
            Self::StrayMention => ConcernKind::WORDS[6],
        }
    }

    /// Returns what one asks for to be told of it; nothing when it is always told.
    pub fn group(self) -> Option<FindingGroup> {
        match self {
            Self::Alarm => None,
            Self::Advisory | Self::UnreadAdvisory => Some(FindingGroup::Advisories),
            Self::Withdrawn | Self::Deprecated | Self::Quiet => Some(FindingGroup::Notices),
            Self::Licence => Some(FindingGroup::Licences),
            Self::Unknown | Self::Outdated => Some(FindingGroup::Outdated),
            Self::SameContent | Self::SeveralVersions | Self::SharedRole | Self::SimilarContent | Self::SimilarName => {
                Some(FindingGroup::Duplicates)
            }
            Self::DueRule
            | Self::Unbounded
            | Self::LowerBound
            | Self::OnlyHere
            | Self::Unused
            | Self::NoProvenance
            | Self::TooYoung
            | Self::StrayMention => Some(FindingGroup::Upkeep),
        }
    }
}
