//! A file operation that failed.

use std::io;
use std::path::PathBuf;

/// A file operation that failed, with what it was for.
#[derive(Debug, thiserror::Error)]
#[error("cannot {doing} {}", path.display())]
pub struct FileError {
    /// A verb: `write`, `read`, `make the folder`.
    pub doing: &'static str,
    /// On which path.
    pub path: PathBuf,
    /// Why.
    #[source]
    pub cause: io::Error,
}

/// Why work ended that was told to stop.
#[derive(Debug, thiserror::Error)]
#[error("it was told to stop")]
pub struct Stopped;

impl Stopped {
    /// Returns this as what reading or writing ends with. Not `Interrupted`, which readers take for "try again".
    pub fn as_io_error() -> io::Error {
        io::Error::other(Self)
    }
}

impl FileError {
    /// Makes the error of work that was told to stop.
    pub fn stop(doing: &'static str, path: impl Into<PathBuf>) -> Self {
        Self { doing, path: path.into(), cause: Stopped::as_io_error() }
    }

    /// Tells whether it was told to stop.
    pub fn is_stop(&self) -> bool {
        self.cause.get_ref().is_some_and(|inner| inner.is::<Stopped>())
    }

    /// Joins a verb and a path to a cause, for use with `map_err`.
    pub fn when(doing: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |cause| Self { doing, path, cause }
    }

    /// Makes an error of our own: what is there is not what it should be.
    pub fn unfit(doing: &'static str, path: impl Into<PathBuf>, reason: impl Into<String>) -> Self {
        Self { doing, path: path.into(), cause: io::Error::new(io::ErrorKind::InvalidData, reason.into()) }
    }

    /// Tells whether what was looked for is not there.
    pub fn is_not_found(&self) -> bool {
        self.cause.kind() == io::ErrorKind::NotFound
    }
}
