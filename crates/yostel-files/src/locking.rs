//! Locks of the operating system on open files and folders: they end with the process that holds them, however it ends.

use std::fs::{File, TryLockError};
use std::path::Path;

use crate::error::FileError;

/// With whom a lock is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hold {
    /// With all others who share it.
    Shared,
    /// With nobody.
    Alone,
}

/// Locks what is open at `path` until it is closed; calls `waiting` first when that takes waiting for others.
///
/// # Errors
/// When the system refuses.
pub fn lock(file: &File, hold: Hold, path: &Path, waiting: impl FnOnce()) -> Result<(), FileError> {
    let tried = match hold {
        Hold::Shared => file.try_lock_shared(),
        Hold::Alone => file.try_lock(),
    };
    let locked = match tried {
        Ok(()) => Ok(()),
        Err(TryLockError::WouldBlock) => {
            waiting();
            match hold {
                Hold::Shared => file.lock_shared(),
                Hold::Alone => file.lock(),
            }
        }
        Err(TryLockError::Error(cause)) => Err(cause),
    };
    locked.map_err(FileError::when("lock", path))
}
