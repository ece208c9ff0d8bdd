//! A registry in an OCI registry: what is under which name and tag, and what is in it. Carries out docs/formats.md §16, by
//! the OCI Distribution Specification 1.1 and the OCI Image Specification 1.1.

mod manifest;
mod place;
mod said;
mod tag;

pub use manifest::{Blob, Descriptor, OCI_IMAGE_INDEX, OCI_MANIFEST, OciManifest, OciManifestError};
pub use place::{OciPlace, is_own_machine};
pub use said::{OciIndex, OciStatement, joined_document, release_alone, statements_alone};
pub use tag::{OciTag, repository_name};

/// The type of an artifact that says that here is a registry.
pub const REGISTRY_TYPE: &str = "application/vnd.yostel.registry.v1+json";

/// The type of an artifact that says that there is a package.
pub const PACKAGE_TYPE: &str = "application/vnd.yostel.package.v1+json";

/// The type of an artifact that is a release.
pub const RELEASE_TYPE: &str = "application/vnd.yostel.release.v1+json";

/// The type of an artifact that says something of a release.
pub const STATEMENT_TYPE: &str = "application/vnd.yostel.statement.v1+json";

/// The type of an artifact that holds what all others in its repository say.
pub const INDEX_TYPE: &str = "application/vnd.yostel.index.v1+json";

/// The type of an artifact that is an advisory.
pub const ADVISORY_TYPE: &str = "application/vnd.yostel.advisory.v1+json";
