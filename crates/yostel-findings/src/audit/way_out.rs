//! What gets a project out of an advisory, and advisories that nobody can read.

use yostel_documents::{AskedBy, Requirement};
use yostel_versions::{ConstraintText, Version};

use super::advisories::Threat;

/// An advisory that affects a locked release, and the way out.
#[derive(Debug)]
pub struct Advised {
    /// What it says of which release.
    pub threat: Threat,
    /// What was found to get out of it.
    pub way: WayOut,
}

/// How to get a release that an advisory does not affect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayOut {
    /// A lock without anything to keep takes this one.
    Fresh(Version),
    /// A need of a project keeps it out; with another constraint it locks.
    Need {
        /// The need, as it is.
        requirement: Requirement,
        /// The constraint that does.
        accept: ConstraintText,
        /// How many other packages that moves.
        others: usize,
    },
    /// These do not accept the lowest release that is not affected, or something further away keeps it out.
    Held(Vec<AskedBy>),
    /// The manifest forces this version.
    Forced,
    /// There is no newer release that is not affected.
    NoRelease,
    /// A commit of the repository that it comes from ends it.
    Commit(String),
}

/// An advisory that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct UnreadAdvisory {
    /// The source, or the place that the project names.
    pub place: String,
    /// Its file; the folder of them, when that cannot be read.
    pub file: String,
    /// Why.
    pub why: String,
}
