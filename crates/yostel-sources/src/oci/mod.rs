//! A registry in OCI registries (docs/formats.md §16): read, and written to.

mod once;
mod reading;
mod registry;
mod source;
mod writing;

pub use registry::{Added, OciRegistry};
pub use source::OciSource;
pub use writing::OpenContent;
