//! What a command changes in the project's own files, told to the cache before the files are written.

use std::path::Path;
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use yostel_files::FileError;
use yostel_store::{Cache, ChangedFile, FileContent, JournalEntry};

/// A file by its path relative to the project's folder, what it holds before, and afterwards; none where it is not there.
pub(crate) type Change<'c> = (&'c str, Option<&'c [u8]>, Option<&'c [u8]>);

/// What one command changed so far.
#[derive(Debug, Default)]
pub struct Journal {
    /// The command, as it was typed, without the program's name; none when nothing is to be remembered.
    command: Option<String>,
    entry: Mutex<Option<JournalEntry>>,
}

impl Journal {
    /// Remembers what this command changes.
    pub fn of(command: String) -> Self {
        Self { command: Some(command), entry: Mutex::default() }
    }

    /// Takes down that files change.
    ///
    /// # Errors
    /// When that cannot be written down: no reason not to change them.
    pub(crate) fn note(
        &self,
        root: &Path,
        files: &[Change<'_>],
        (cache, now): (&Cache, Timestamp),
    ) -> Result<(), FileError> {
        let Some(command) = &self.command else { return Ok(()) };
        let mut entry = self.entry.lock().unwrap_or_else(PoisonError::into_inner);
        let entry = entry.get_or_insert_with(|| JournalEntry::new(root, command, &now.to_string()));
        for (path, before, after) in files {
            // What it held before the command counts, however often the command writes it.
            let first = entry.files.remove(*path).map(|changed| changed.before);
            let before = first.unwrap_or_else(|| before.map(FileContent::of));
            let after = after.map(FileContent::of);
            // What is put back as it was did not change.
            if before != after {
                entry.files.insert((*path).to_owned(), ChangedFile { before, after });
            }
        }
        cache.write_journal(entry)
    }
}
