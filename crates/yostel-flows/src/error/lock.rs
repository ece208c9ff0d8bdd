//! Lockfiles: those that are there, and those that would be written.

use std::ops::Range;
use std::path::PathBuf;

use yostel_documents::{Artifact, Difference, Dispute, Lockfile, LockfileError, Origin, PackageName, nearest};
use yostel_findings::BothAsk;
use yostel_store::{Cache, FileChange};
use yostel_versions::{ConstraintText, Version};

/// Why a lockfile cannot be used, or not be written.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// There is no lockfile.
    #[error("there is no {}", .0.display())]
    NoLockfile(PathBuf),
    /// The lockfile cannot be used.
    #[error("{}: {error}", path.display())]
    Lockfile {
        /// Its file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// What is wrong.
        error: LockfileError,
        /// Whether git has both sides of it, in a merge that is not finished.
        both_sides: bool,
    },
    /// Git has no two sides of the lockfile.
    #[error("git has no two sides of yostel.lock here")]
    NothingToMerge {
        /// What git said, when it failed.
        said: Option<String>,
    },
    /// Both sides of a merge changed a need, each to something else.
    #[error("both sides changed what is needed")]
    BothAsk(Vec<BothAsk>),
    /// What was named to compare with is no lockfile.
    #[error("{} is no lockfile: {error}", path.display())]
    NotALockfile {
        /// Its file.
        path: PathBuf,
        /// What is wrong.
        error: LockfileError,
    },
    /// Git has no such revision.
    #[error("{revision} is neither a lockfile, nor a folder with one, nor a revision of git's")]
    NoSuchRevision {
        /// What was asked for.
        revision: String,
        /// Whether only a part of the history is here.
        is_shallow: bool,
    },
    /// Git cannot tell what was locked at a revision.
    #[error("git does not tell what was locked at {revision}")]
    NothingToCompare {
        /// What was asked for.
        revision: String,
        /// What git said.
        said: String,
    },
    /// The lockfile does not fit the manifest.
    #[error("the lockfile no longer fits the manifest")]
    Stale(Vec<Difference>),
    /// The package is not part of the project.
    #[error("{package} is not part of this project")]
    NotLocked {
        /// The package.
        package: PackageName,
        /// The name that was probably meant.
        near: Option<PackageName>,
    },
    /// The lockfile names a source that the manifest does not.
    #[error("{package} is locked to source {source_name}, which the manifest does not name")]
    UnknownSource {
        /// The package.
        package: PackageName,
        /// The source.
        source_name: String,
    },
    /// Packages of the lockfile are folders of this machine, and the lockfile is for others too.
    #[error("only this machine has {} of the packages", .0.len())]
    NotShareable(Vec<(PackageName, Origin)>),
    /// A package is forced to a version that is not what is agreed.
    #[error("{package} is forced to {forced}, but {agreed} is agreed")]
    ForcedOutsideAgreed {
        /// The package.
        package: PackageName,
        /// The version it is forced to.
        forced: Version,
        /// What is agreed.
        agreed: ConstraintText,
        /// The manifest's file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// Byte range of the forced package in it.
        span: Range<usize>,
    },
    /// What would be locked could not be read back, so it is not written.
    #[error("the lockfile could not be read back: {problem}")]
    NotReadableBack {
        /// The package with the longest constraint, who asks with it, and how long it is, in bytes.
        longest: Option<(PackageName, String, usize)>,
        /// What reading it said.
        problem: String,
    },
    /// What the lockfile says of releases is not so.
    #[error("{} thing(s) that the lockfile says are not so", .0.len())]
    Disputed(Vec<Dispute>),
    /// Releases that are locked were published again with other content.
    #[error("{} locked release(s) were published again with other content", .0.len())]
    Republished(Vec<Republished>),
}

impl LockError {
    /// Says that a package is not locked, and which name was probably meant.
    pub(crate) fn not_locked(package: &PackageName, lockfile: &Lockfile) -> Self {
        let near = nearest(package.as_str(), lockfile.chosen.keys().map(PackageName::as_str));
        Self::NotLocked { package: package.clone(), near: near.and_then(|near| PackageName::parse(near).ok()) }
    }
}

/// A release whose content is not the one that was locked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Republished {
    /// The package.
    pub package: PackageName,
    /// The version.
    pub version: Version,
    /// The archive that was locked.
    pub locked: Artifact,
    /// The archive that the source offers under the same version.
    pub offered: Artifact,
    /// The source and where it is.
    pub place: String,
    /// When and how the locked content came here, if it ever did.
    pub seen: Option<Seen>,
    /// What differs between the files that were locked and those offered; none when it could not be found out.
    pub changes: Option<Vec<FileChange>>,
}

/// When content came here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// In seconds since 1970.
    pub brought: i64,
    /// When it was last used, likewise.
    pub used: i64,
    /// The source it came from.
    pub from: String,
    /// The project or kit that brought it.
    pub by: PathBuf,
}

impl Seen {
    /// Looks up what the cache knows of an archive.
    pub(crate) fn of(cache: &Cache, artifact: &Artifact) -> Option<Self> {
        let (note, used) = cache.last_seen(artifact.digest)?;
        Some(Self { brought: note.brought, used, from: note.from, by: note.brought_by })
    }
}
