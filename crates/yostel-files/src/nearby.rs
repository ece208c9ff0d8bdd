//! The folder of the file at hand: paths that come sorted stay in one folder for long, so the last one is kept open.

use std::path::Path;

use crate::error::FileError;
use crate::folder::Folder;

/// A folder, and the one below it that was used last.
#[derive(Debug)]
pub struct Nearby {
    base: Folder,
    last: Option<(String, Folder)>,
}

impl Nearby {
    /// Starts at a folder.
    pub fn new(base: Folder) -> Self {
        Self { base, last: None }
    }

    /// Returns the folder in which a path is, and the path's last part.
    ///
    /// # Errors
    /// When it is not there, or a part is a link or a file.
    pub fn of<'p>(&mut self, path: &'p str) -> Result<(&Folder, &'p str), FileError> {
        self.reach(path, |base, parent| base.folder(parent))
    }

    /// Like [`Self::of`], and makes the folder when it is not there.
    ///
    /// # Errors
    /// When it cannot be made, or a part is a link or a file.
    pub fn made_for<'p>(&mut self, path: &'p str) -> Result<(&Folder, &'p str), FileError> {
        self.reach(path, |base, parent| base.make_folders(parent))
    }

    fn reach<'p>(
        &mut self,
        path: &'p str,
        open: impl FnOnce(&Folder, &Path) -> Result<Folder, FileError>,
    ) -> Result<(&Folder, &'p str), FileError> {
        let Some((parent, name)) = path.rsplit_once('/') else { return Ok((&self.base, path)) };
        if self.last.as_ref().is_none_or(|(last, _)| last != parent) {
            self.last = Some((parent.to_owned(), open(&self.base, Path::new(parent))?));
        }
        let (_, folder) = self.last.as_ref().expect("it was set just now");
        Ok((folder, name))
    }
}
