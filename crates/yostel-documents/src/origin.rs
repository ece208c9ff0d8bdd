//! Where a package comes from: as somebody declares it, and as it is locked.

use std::fmt;

use crate::digest::ArchiveDigest;
use crate::name::SourceName;

/// Where a manifest says that a package is, when it is not for a source to say.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Elsewhere {
    /// In a repository.
    Git(GitPlace),
    /// In a folder, as it is there now. Relative to the manifest's folder.
    Path(String),
    /// In one archive.
    Archive {
        /// Its address, or its path relative to the manifest's folder.
        address: String,
        /// Digest of its bytes.
        digest: ArchiveDigest,
    },
}

/// A state of a repository.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct GitPlace {
    /// The repository's address, as git takes it.
    pub address: String,
    /// Which state.
    pub at: GitAt,
    /// The folder in it that is the package; all of it when there is none.
    pub folder: Option<String>,
}

/// Which state of a repository.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum GitAt {
    /// This commit, by all of its hexadecimal digits.
    Commit(String),
    /// What this tag names.
    Tag(String),
    /// The last commit of this branch.
    Branch(String),
    /// The last commit of the branch that the repository shows first.
    Head,
}

impl GitAt {
    /// Returns the key and value that say it in a manifest; nothing for the branch shown first.
    pub fn to_pair(&self) -> Option<(&'static str, &str)> {
        match self {
            Self::Commit(text) => Some(("at", text)),
            Self::Tag(text) => Some(("tag", text)),
            Self::Branch(text) => Some(("branch", text)),
            Self::Head => None,
        }
    }
}

impl fmt::Display for GitPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "git {}", self.address)?;
        match self.at.to_pair() {
            Some(("at", commit)) => write!(f, " at {commit}")?,
            Some((kind, name)) => write!(f, " {kind} {name}")?,
            None => {}
        }
        self.folder.iter().try_for_each(|folder| write!(f, " folder {folder}"))
    }
}

impl fmt::Display for Elsewhere {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Git(place) => place.fmt(f),
            Self::Path(path) => write!(f, "path {path}"),
            Self::Archive { address, .. } => write!(f, "archive {address}"),
        }
    }
}

/// Where a locked package comes from.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Origin {
    /// A source of the manifest.
    Source(SourceName),
    /// A commit of a repository.
    Git {
        /// What was asked for.
        place: GitPlace,
        /// The commit that was there, by all of its hexadecimal digits.
        commit: String,
    },
    /// One archive, at this address or path.
    Archive {
        /// Where.
        address: String,
    },
    /// A folder, as it is there now; relative to the lockfile's.
    Path {
        /// Which.
        folder: String,
    },
    /// A project of the workspace, as it is there now.
    Project {
        /// Its folder, relative to the lockfile's.
        folder: String,
    },
}

impl Origin {
    /// Returns the source, when it is one.
    pub fn source(&self) -> Option<&SourceName> {
        match self {
            Self::Source(name) => Some(name),
            _ => None,
        }
    }

    /// Returns the folder whose files are the package, whatever they are at the time; nothing when its content is locked.
    pub fn local_folder(&self) -> Option<&str> {
        match self {
            Self::Path { folder } | Self::Project { folder } => Some(folder),
            Self::Source(_) | Self::Git { .. } | Self::Archive { .. } => None,
        }
    }

    /// Tells whether everybody who has the lockfile can have the package too.
    pub fn is_shareable(&self) -> bool {
        !matches!(self, Self::Path { .. })
    }
}

impl fmt::Display for Origin {
    /// In a word or two, for tables.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Source(name) => name.fmt(f),
            Self::Git { commit, .. } => write!(f, "git {}", commit.get(..12).unwrap_or(commit)),
            Self::Archive { address } => write!(f, "archive {}", address.rsplit('/').next().unwrap_or(address)),
            Self::Path { folder } => write!(f, "path {folder}"),
            Self::Project { folder } => write!(f, "project {folder}"),
        }
    }
}
