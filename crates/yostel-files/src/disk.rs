//! Sees every change before it is made.

use std::fmt::Debug;
use std::fs::File;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;

use crate::error::FileError;

/// One change that is about to be made.
#[derive(Debug)]
#[non_exhaustive]
pub enum Step<'a> {
    /// A folder is made.
    MakeFolder(&'a Path),
    /// A file is made, or emptied.
    Create(&'a Path),
    /// Bytes are written to a file.
    Write(&'a Path),
    /// A file's times are set.
    Mark(&'a Path),
    /// A file is made durable.
    Sync(&'a Path, &'a File),
    /// The names in a folder are made durable.
    SyncFolder(&'a Path),
    /// Everything on the file system of this folder is made durable.
    SyncAll(&'a Path),
    /// A hard or symbolic link is made.
    Link(&'a Path),
    /// Something gets another name, which may be that of something else.
    Rename(&'a Path, &'a Path),
    /// A file, or a folder with all that is in it, is removed.
    Remove(&'a Path),
}

/// Sees every change before it is made.
pub trait Watch: Debug + Send + Sync {
    /// Is called before each step.
    ///
    /// # Errors
    /// One to refuse the step, which then is not made and fails with it.
    fn before(&self, step: &Step<'_>) -> io::Result<()>;

    /// Is called with each file that was made.
    fn made(&self, file: &File) {
        let _ = file;
    }
}

/// The way to the file system; by default nobody watches.
#[derive(Debug, Clone, Default)]
pub struct Disk {
    watch: Option<Arc<dyn Watch>>,
}

impl Disk {
    /// Returns one on which every step is watched.
    pub fn watched_by(watch: Arc<dyn Watch>) -> Self {
        Self { watch: Some(watch) }
    }

    pub(crate) fn is_watched(&self) -> bool {
        self.watch.is_some()
    }

    pub(crate) fn before(&self, step: Step<'_>) -> io::Result<()> {
        self.watch.as_ref().map_or(Ok(()), |watch| watch.before(&step))
    }

    pub(crate) fn made(&self, path: PathBuf, file: File) -> NewFile {
        if let Some(watch) = &self.watch {
            watch.made(&file);
        }
        NewFile { disk: self.clone(), path, file }
    }
}

/// A file that is being written.
#[derive(Debug)]
pub struct NewFile {
    disk: Disk,
    path: PathBuf,
    file: File,
}

impl NewFile {
    /// Sets its modification time.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn set_time(&self, time: SystemTime) -> Result<(), FileError> {
        let set = self.disk.before(Step::Mark(&self.path)).and_then(|()| self.file.set_modified(time));
        set.map_err(FileError::when("write", &self.path))
    }

    /// Makes it durable.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn sync(&self) -> Result<(), FileError> {
        let synced = self.disk.before(Step::Sync(&self.path, &self.file)).and_then(|()| self.file.sync_all());
        synced.map_err(FileError::when("write", &self.path))
    }

    /// Returns the open file.
    pub fn into_file(self) -> File {
        self.file
    }

    pub(crate) fn file(&self) -> &File {
        &self.file
    }

    /// Makes an error of a cause.
    pub fn failed(&self, cause: io::Error) -> FileError {
        FileError { doing: "write", path: self.path.clone(), cause }
    }
}

impl Write for NewFile {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        self.disk.before(Step::Write(&self.path))?;
        self.file.write(buffer)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
