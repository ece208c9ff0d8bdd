//! What errors carry: places, and what is wrong with what is there.

use std::io;
use std::path::PathBuf;

use yostel_documents::{Artifact, PackageName, PatchError, Requirement};
use yostel_store::{AlterError, Cache, FileChange};
use yostel_versions::Version;

/// What is wrong with a workspace.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WorkspaceProblem {
    /// An entry names a folder without a manifest.
    #[error("there is no project in {0}")]
    NoProject(String),
    /// Two entries name one folder.
    #[error("{folder} is listed twice, by `{by}` too")]
    Twice {
        /// The folder.
        folder: String,
        /// The other entry.
        by: String,
    },
    /// A link that leads in a circle.
    #[error("{0} is a link that leads in a circle")]
    Circle(String),
    /// Two projects have one name.
    #[error("{one} and {other} are both named {name}")]
    SameName {
        /// The name.
        name: PackageName,
        /// The folder of the one.
        one: String,
        /// The folder of the other.
        other: String,
    },
    /// Two projects take one package from two places.
    #[error("{package} is taken from two places, by {one} and by {other}")]
    TwoPlaces {
        /// The package.
        package: PackageName,
        /// Where the one takes it from.
        one: String,
        /// Where the other does.
        other: String,
    },
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
}

/// What is wrong with a patch.
#[derive(Debug)]
pub enum PatchProblem {
    /// Its file cannot be read.
    Unreadable(io::Error),
    /// It is not a unified diff.
    Syntax(PatchError),
    /// It does not make of the package what it should.
    NotMade {
        /// The platform of the artifact.
        platform: String,
        /// Why.
        error: AlterError,
    },
}

/// Why the manifest of a package from elsewhere cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ForeignProblem {
    /// It is of another package.
    #[error("it holds {0}")]
    OtherName(PackageName),
    /// It has a problem.
    #[error("its manifest cannot be read: {0}")]
    Manifest(String),
    /// It holds what no package may.
    #[error("{0}")]
    Unfit(String),
    /// It takes a package from a place that only it knows.
    #[error("it takes {0} from {1}")]
    Place(PackageName, String),
}

/// Why a package in a folder cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathProblem {
    /// There is no such folder.
    #[error("there is no such folder")]
    NoFolder,
    /// It holds another package.
    #[error("it holds {0}")]
    OtherName(PackageName),
}

/// Why local changes are not shown, kept or dropped.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotAltered {
    /// There are none.
    #[error("it is not open for changes")]
    NotOpen,
    /// The copy is as the release is.
    #[error("nothing was changed")]
    Nothing,
    /// It is locked at several versions, and a patch is made to one.
    #[error("it is locked at several versions, and a patch can change only one")]
    Several,
    /// It is a local package: it is changed there.
    #[error("its folder {0} is used as it is")]
    LocalPackage(String),
    /// Files were changed that are not text, or are long.
    #[error("a patch can hold text files of at most 1 MiB only")]
    NotText(Vec<String>),
    /// Nobody said why.
    #[error("a reason is missing (--why \"…\")")]
    NoReason,
    /// Another release is locked by now.
    #[error("it was opened at {opened}, and {locked} is locked now")]
    OtherRelease {
        /// The version it was opened at.
        opened: String,
        /// The version that is locked.
        locked: String,
    },
}

/// What a manifest says about a package wherever it turns up, and where that is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RulePlace {
    /// Line in the manifest, from 1.
    pub line: usize,
    /// The table.
    pub table: &'static str,
    /// The package.
    pub package: PackageName,
    /// What is said of it.
    pub says: String,
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
