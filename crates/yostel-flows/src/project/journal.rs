//! What a command changes in the project's own files, told to the cache before the files are written.

use std::path::Path;
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use yostel_files::FileError;
use yostel_store::{Cache, Changed, Content, JournalEntry};

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

    /// Takes down that a file changes.
    ///
    /// # Errors
    /// When that cannot be written down: no reason not to change it.
    pub(crate) fn note(
        &self,
        root: &Path,
        path: &str,
        (before, after): (Option<&[u8]>, Option<&[u8]>),
        (cache, now): (&Cache, Timestamp),
    ) -> Result<(), FileError> {
        let Some(command) = &self.command else { return Ok(()) };
        let mut entry = self.entry.lock().unwrap_or_else(PoisonError::into_inner);
        let entry = entry.get_or_insert_with(|| JournalEntry::new(root, command, &now.to_string()));
        let first = entry.files.get(path).map(|changed| changed.before.clone());
        let before = first.unwrap_or_else(|| before.map(Content::of));
        let after = after.map(Content::of);
        // What is put back as it was did not change.
        match before == after {
            true => drop(entry.files.remove(path)),
            false => drop(entry.files.insert(path.to_owned(), Changed { before, after })),
        }
        cache.write_journal(entry)
    }
}
