//! Searches: packages that nobody knows, needs that collide.

use std::path::PathBuf;
use std::time::Duration;

use yostel_documents::{PackageName, Requirement, SourceName};
use yostel_files::FileError;
use yostel_resolve::{Collision, ResolveError, SearchStats};
use yostel_versions::{BindError, ConstraintText, Version};

/// Why no set of packages was found.
#[derive(Debug, thiserror::Error)]
pub enum SearchError {
    /// The manifest names no source.
    #[error("the manifest names no source")]
    NoSources,
    /// No source knows a package.
    #[error("no source knows {package}")]
    UnknownPackage {
        /// The package.
        package: PackageName,
        /// Who needs it and where that is, when it is in a manifest.
        requirement: Option<Box<RequirementPlace>>,
        /// The name that was probably meant.
        near: Option<PackageName>,
        /// The sources asked.
        sources: Vec<SourceName>,
    },
    /// A constraint does not fit the package's numbering.
    #[error("{package} {accept}: {cause}")]
    Unreadable {
        /// The package.
        package: PackageName,
        /// The constraint.
        accept: ConstraintText,
        /// Where it is, when it is in a manifest.
        requirement: Option<Box<RequirementPlace>>,
        /// Why it does not fit.
        cause: BindError,
    },
    /// A project's own need accepts nothing of what was asked for.
    #[error("{requirement} accepts nothing of {asked}")]
    NotAccepted {
        /// The need.
        requirement: Requirement,
        /// Where it is.
        place: Option<Box<RequirementPlace>>,
        /// What was asked for.
        asked: ConstraintText,
    },
    /// What was asked for cannot be had beside what is needed.
    #[error("{} {} cannot be had", .asked.package, .asked.accept)]
    OutOfReach {
        /// The need that stands for what was asked for.
        asked: Box<Requirement>,
        /// What collides.
        collision: Box<Collision>,
        /// Where the needs are.
        places: Vec<RequirementPlace>,
        /// What the manifest says about packages of the collision wherever they turn up, and where.
        rules: Vec<RulePlace>,
    },
    /// A constraint accepts nothing that there is.
    #[error("no release of {package} meets {accept}")]
    AcceptsNothing {
        /// The package.
        package: PackageName,
        /// The constraint.
        accept: ConstraintText,
        /// What there is, rising.
        known: Vec<Version>,
    },
    /// The package has no such release.
    #[error("{package} has no release {version}")]
    NoSuchVersion {
        /// The package.
        package: PackageName,
        /// The version asked for.
        version: String,
        /// Those there are, rising.
        known: Vec<Version>,
    },
    /// No set of packages meets the needs.
    #[error("no set of packages meets all needs")]
    Collision {
        /// What collides.
        collision: Box<Collision>,
        /// Where the needs are.
        places: Vec<RequirementPlace>,
        /// What the manifest says about packages of the collision wherever they turn up, and where.
        rules: Vec<RulePlace>,
        /// The folder a proof was written to, when one was asked for.
        proof: Option<PathBuf>,
        /// Why there is no proof although one was asked for: it cannot be written.
        unproved: Option<Box<FileError>>,
        /// What the search did.
        search: Option<Box<SearchReport>>,
    },
    /// No set was found in the time given, and none was ruled out.
    #[error("no consistent set was found within {} s, but there may be one", .0.as_secs_f64())]
    OutOfTime(Duration),
    /// The resolver broke its own rules.
    #[error(transparent)]
    WrongAnswer(ResolveError),
}

/// A need and where it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequirementPlace {
    /// The need.
    pub requirement: Requirement,
    /// The manifest, relative to the workspace's root.
    pub file: String,
    /// Line in it, from 1.
    pub line: usize,
    /// What is there, where what is said about packages wherever they turn up makes something else of it.
    pub asked: Option<(PackageName, ConstraintText)>,
}

/// What a manifest says that bears on a collision, and where that is.
///
/// Its tables are `agreed`, `force`, `swap`, by package, and `policy` and `project`, by key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RulePlace {
    /// Line in the manifest, from 1.
    pub line: usize,
    /// The table.
    pub table: &'static str,
    /// The package, or the key.
    pub key: String,
    /// What is said of it.
    pub says: String,
}

/// What a search did, how long each part took, and what is known of its answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchReport {
    /// Counts.
    pub stats: SearchStats,
    /// What it was at, and for how long in all.
    pub phases: Vec<(&'static str, Duration)>,
    /// What is known of its answer.
    pub standing: Standing,
}

/// What is known of the answer of a search.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It is the best there is.
    Best,
    /// No other moves fewer packages; newer versions might have been found with more time.
    FewestMoves,
    /// It is right, and what was found in time.
    Found,
    /// There is none.
    NoSet,
}

impl Standing {
    /// Returns the word for it in documents.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Best => "best",
            Self::FewestMoves => "fewest-moves",
            Self::Found => "found-in-time",
            Self::NoSet => "no-set",
        }
    }
}
