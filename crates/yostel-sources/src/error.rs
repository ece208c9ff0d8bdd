//! What can go wrong with a source.

use std::io;
use std::path::PathBuf;

use jiff::Timestamp;
use yostel_documents::oci::{OciPlace, OciTag};
use yostel_documents::{ArchiveDigest, DocumentError, PackageName, SourceName};

use crate::fault::WebFault;

/// A source that could not do what was asked of it.
#[derive(Debug, thiserror::Error)]
#[error("{}{kind}", named(source_name.as_ref()))]
pub struct SourceError {
    /// Which source; none of what no manifest names.
    pub source_name: Option<SourceName>,
    /// What happened.
    #[source]
    pub kind: SourceErrorKind,
}

/// Says which source it is, where it has a name.
fn named(name: Option<&SourceName>) -> String {
    name.map_or_else(String::new, |name| format!("source {name}: "))
}

/// What happened.
#[derive(Debug, thiserror::Error)]
pub enum SourceErrorKind {
    /// The folder is not there.
    #[error("there is no folder {}", .0.display())]
    Missing(PathBuf),
    /// The folder is there, but no registry is in it.
    #[error("{} is not a registry: it has no registry.json that says so", .0.display())]
    NotARegistry(PathBuf),
    /// No registry is at the address.
    #[error("{0} is not a registry: it has no registry.json that says so")]
    NotARegistryAt(String),
    /// No registry is in the OCI registry.
    #[error("{0} is not a registry of packages: it has no tag {REGISTRY} that says so", REGISTRY = OciTag::REGISTRY)]
    NotAnOciRegistry(OciPlace),
    /// There is a registry already.
    #[error("{0} is a registry already")]
    Occupied(OciPlace),
    /// An OCI registry cannot have a package of this name.
    #[error("it cannot hold {package}: {reason}")]
    Name {
        /// The package.
        package: PackageName,
        /// Why.
        reason: &'static str,
    },
    /// A web server does not answer as it should.
    #[error("cannot fetch {address}: {fault}")]
    Web {
        /// What was asked for.
        address: String,
        /// What went wrong.
        #[source]
        fault: WebFault,
        /// When the server was last reached, where that is known.
        seen: Option<Timestamp>,
    },
    /// A later format.
    #[error("the registry has format {found}; this yostel reads format 1")]
    Format {
        /// The format it has.
        found: u32,
    },
    /// A release document is broken.
    #[error("its document of {package} is broken")]
    Document {
        /// The package.
        package: PackageName,
        /// The document's file.
        path: PathBuf,
        /// What is wrong with it.
        #[source]
        cause: DocumentError,
    },
    /// An archive that a document promises is not there.
    #[error("it has no archive {0}")]
    ArchiveMissing(ArchiveDigest),
    /// It cannot be read.
    #[error("cannot read {}", path.display())]
    Read {
        /// What.
        path: PathBuf,
        /// Why.
        #[source]
        cause: io::Error,
    },
    /// More than one source has the package, and none reserves its name.
    #[error("{package} is also in {}", others.iter().map(|s| s.as_str()).collect::<Vec<_>>().join(" and "))]
    Ambiguous {
        /// The package.
        package: PackageName,
        /// The other sources.
        others: Vec<SourceName>,
    },
}
