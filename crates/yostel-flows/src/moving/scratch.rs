//! A copy of a project in which a set is tried: its files, but for what is installed, what version control keeps, and what
//! says of itself that it can be made again (CACHEDIR.TAG).

use std::ffi::OsStr;
use std::io::Read;
use std::path::{Path, PathBuf};

use yostel_files::{Folder, Kind};
use yostel_store::WorkFolder;

use crate::context::Context;
use crate::error::FlowError;
use crate::observer::go_on;
use crate::project::LoadedProject;

/// What folders are called that are not copied, wherever they are.
const LEFT_OUT: [&str; 2] = [".yostel", ".git"];

/// The folder at the root with copies of packages that are open for changes: installed are those of the cache.
const OPEN: &str = "altered";

/// The file that marks a folder as one that can be made again, and how it begins (bford.info/cachedir).
const TAG: (&str, &[u8]) = ("CACHEDIR.TAG", b"Signature: 8a477f597d28d172789f06886806bc55");

/// Tells whether a folder says of itself that it can be made again.
fn is_tagged(above: &Folder, name: &OsStr) -> bool {
    let tag = Path::new(name).join(TAG.0);
    above.has(&tag, Kind::File)
        && above.open_file(&tag).is_ok_and(|file| {
            let mut begin = Vec::new();
            file.take(TAG.1.len() as u64).read_to_end(&mut begin).is_ok() && begin == TAG.1
        })
}

/// A copy of a project; it goes when this is dropped, and with the next process where this one is killed.
pub(crate) struct Scratch {
    _made: WorkFolder,
    folder: PathBuf,
}

impl Scratch {
    /// Copies a project's files.
    ///
    /// # Errors
    /// When one cannot be read, or the cache's folder not be written; `Stopped`.
    pub(crate) fn of(project: &LoadedProject, context: &Context<'_>) -> Result<Self, FlowError> {
        let made = context.cache.work_folder()?;
        let copy = made.folder().make_folder("project")?;
        let folder = copy.path().to_owned();
        Folder::open(&project.root)?.copy_into(&copy, |above, at| -> Result<bool, FlowError> {
            go_on(context.observer)?;
            let name = at.file_name().unwrap_or_default();
            let is_left_out = LEFT_OUT.iter().any(|left_out| name == *left_out) || at == Path::new(OPEN);
            Ok(!is_left_out && !is_tagged(above, name))
        })?;
        Ok(Self { _made: made, folder })
    }

    /// Writes a file of the copy.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn write(&self, name: &str, text: &str) -> Result<(), FlowError> {
        Ok(Folder::open(&self.folder)?.write_atomically(name, text.as_bytes())?)
    }

    /// Returns the copy's folder.
    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }
}
