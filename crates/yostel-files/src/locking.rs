//! Locks of the operating system on open files and folders: they end with the process that holds them, however it ends.

use std::fs::{File, TryLockError};
use std::path::Path;
use std::time::Duration;

use crate::error::FileError;

/// How often a lock that others hold is tried again. Waiting for it in the system could not be ended in order.
const AGAIN: Duration = Duration::from_millis(20);

/// With whom a lock is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hold {
    /// With all others who share it.
    Shared,
    /// With nobody.
    Alone,
}

/// Locks what is open at `path` until it is closed. While others hold it, calls `waiting` again and again, which tells
/// whether to go on.
///
/// # Errors
/// When the system refuses; one that [`FileError::is_stop`] tells when `waiting` said no.
pub fn lock(file: &File, hold: Hold, path: &Path, mut waiting: impl FnMut() -> bool) -> Result<(), FileError> {
    loop {
        let tried = match hold {
            Hold::Shared => file.try_lock_shared(),
            Hold::Alone => file.try_lock(),
        };
        match tried {
            Ok(()) => return Ok(()),
            Err(TryLockError::WouldBlock) if waiting() => std::thread::sleep(AGAIN),
            Err(TryLockError::WouldBlock) => return Err(FileError::stop("wait for", path)),
            Err(TryLockError::Error(cause)) => return Err(FileError::when("lock", path)(cause)),
        }
    }
}
