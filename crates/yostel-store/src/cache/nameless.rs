//! Files of the cache that nobody else finds, and that are gone when they are closed.

use std::fs::File;
use std::process;
use std::sync::atomic::{AtomicU32, Ordering};

use yostel_files::{FileError, NewFile};

use super::Cache;

static MADE: AtomicU32 = AtomicU32::new(0);

impl Cache {
    /// Makes a file without a name: to write, and to read what was written.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn nameless_file(&self) -> Result<(NewFile, File), FileError> {
        let root = self.make_root()?;
        let name = format!(".packed-{}-{}.yostel-new", process::id(), MADE.fetch_add(1, Ordering::Relaxed));
        root.remove(&name)?;
        let new = root.create(&name, 0o600)?;
        let file = root.open_file(&name);
        root.remove(&name)?;
        Ok((new, file?))
    }
}
