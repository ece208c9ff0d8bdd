//! Looking at everything below a folder: one open handle whatever the depth, and no recursion.

use std::path::{Path, PathBuf};

use crate::error::FileError;
use crate::folder::{Entry, Folder, Kind};

impl Folder {
    /// Visits this folder and all below it, each with its path from here (empty for this one) and what is in it, sorted.
    /// Folders come in the order of their paths, those above before those below.
    ///
    /// # Errors
    /// When a folder cannot be read, and what `visit` returns.
    pub fn walk<E: From<FileError>>(
        &self,
        mut visit: impl FnMut(&Self, &Path, &[Entry]) -> Result<(), E>,
    ) -> Result<(), E> {
        let mut open = vec![PathBuf::new()];
        while let Some(at) = open.pop() {
            let below;
            let folder = if at.as_os_str().is_empty() {
                self
            } else {
                below = self.folder_to_list(&at)?;
                &below
            };
            let entries = folder.entries()?;
            visit(folder, &at, &entries)?;
            let folders = entries.iter().rev().filter(|entry| entry.kind == Kind::Folder);
            open.extend(folders.map(|entry| at.join(&entry.name)));
        }
        Ok(())
    }
}
