//! One archive at an address: `http://`, `https://`, `file://`, or a path.

use std::io::{self, Read};
use std::path::Path;

use yostel_files::open_regular;

use crate::patience::Patience;

/// An archive that cannot be fetched.
#[derive(Debug, thiserror::Error)]
#[error("{address} cannot be fetched: {cause}")]
pub struct ArchiveError {
    /// Its address.
    pub address: String,
    /// Why.
    #[source]
    pub cause: io::Error,
}

/// Opens the archive; a path is relative to `root`.
///
/// # Errors
/// When it is not there or cannot be reached.
pub fn open_archive(address: &str, root: &Path, patience: &Patience) -> Result<Box<dyn Read + Send>, ArchiveError> {
    let fail = |cause| ArchiveError { address: address.to_owned(), cause };
    if address.starts_with("http://") || address.starts_with("https://") {
        return crate::body::open_address(address, patience).map_err(fail);
    }
    let path = address.strip_prefix("file://").unwrap_or(address);
    if path.contains("://") {
        return Err(fail(io::Error::new(io::ErrorKind::Unsupported, "the address is neither http, https nor file")));
    }
    Ok(Box::new(open_regular(&root.join(path)).map_err(fail)?))
}
