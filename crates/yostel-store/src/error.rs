//! What can go wrong in the store, by family, and the class of remedy for each.

use std::io;

use yostel_documents::{ArchiveDigest, LinkFault, TreeDigest};
use yostel_files::FileError;

/// What helps against an error.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorClass {
    /// Content is not what was vouched for.
    Integrity,
    /// The machine refused: permissions, space, a broken disk.
    Machine,
}

/// Why an archive was not unpacked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum UnpackRefusal {
    /// The bytes begin as no archive does that packages come in.
    #[error("it is neither a .tar.zst nor a .tar.gz nor a .zip")]
    UnknownFormat,
    /// The bytes are not those of a whole archive.
    #[error("it is not a whole archive ({0})")]
    Malformed(String),
    /// A path that leaves its folder.
    #[error("its entry `{0}` would leave its folder")]
    Leaves(String),
    /// A link that leads where none may, by itself or through other links.
    #[error("its link `{path}` to `{target}` {}", fault.as_str())]
    Link {
        /// The link.
        path: String,
        /// Its target, escaped.
        target: String,
        /// What is wrong.
        fault: LinkFault,
    },
    /// A path below a link or a file.
    #[error("its entry `{0}` is below something that is not a folder")]
    BelowLink(String),
    /// A device, a pipe, a hard link or the like.
    #[error("its entry `{path}` is {kind}, which no package may hold")]
    Kind {
        /// The entry.
        path: String,
        /// What it is.
        kind: &'static str,
    },
    /// A name that not every file system can hold.
    #[error("its entry `{path}` cannot be named so: {reason}")]
    Name {
        /// The entry, escaped.
        path: String,
        /// Why.
        reason: &'static str,
    },
    /// Two entries at one path, or at paths that differ by case alone.
    #[error("its entries `{0}` and `{1}` are the same file on some systems")]
    Twice(String, String),
    /// More than the limits allow.
    #[error("it unpacks to more than {limit} {unit}")]
    TooMuch {
        /// The limit.
        limit: u64,
        /// Of what.
        unit: &'static str,
    },
}

/// Why an archive or tree was not taken into the cache.
#[derive(Debug, thiserror::Error)]
pub enum AdmitError {
    /// The bytes have another digest.
    #[error("the archive has digest {found}, expected {expected}")]
    ArchiveDiffers {
        /// What the lockfile or release says.
        expected: ArchiveDigest,
        /// What the bytes have.
        found: ArchiveDigest,
        /// How many bytes came.
        bytes: u64,
        /// How many were expected.
        expected_bytes: u64,
    },
    /// The archive unpacks to another tree.
    #[error("the archive unpacks to tree {found}, expected {expected}")]
    TreeDiffers {
        /// What the lockfile or release says.
        expected: TreeDigest,
        /// What it unpacks to.
        found: TreeDigest,
    },
    /// The archive is refused.
    #[error("the archive is refused: {0}")]
    Refused(UnpackRefusal),
    /// The place it comes from broke off.
    #[error("reading the archive broke off after {bytes} bytes")]
    Read {
        /// Bytes that came.
        bytes: u64,
        /// Why.
        #[source]
        cause: io::Error,
    },
    /// The machine refused.
    #[error(transparent)]
    Store(#[from] FileError),
}

impl AdmitError {
    /// Returns what helps against it.
    pub fn class(&self) -> ErrorClass {
        match self {
            Self::ArchiveDiffers { .. } | Self::TreeDiffers { .. } | Self::Refused(_) => ErrorClass::Integrity,
            Self::Read { .. } | Self::Store(_) => ErrorClass::Machine,
        }
    }
}
