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
fn is_tagged(folder: &Folder) -> bool {
    folder.has(TAG.0, Kind::File)
        && folder.open_file(TAG.0).is_ok_and(|file| {
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
        let root = Folder::open(&project.root)?;
        let is_copied = |name: &OsStr| !LEFT_OUT.iter().any(|left_out| name == *left_out);
        let mut left_out: Vec<PathBuf> = Vec::new();
        root.walk_into(is_copied, |here, at, entries| -> Result<(), FlowError> {
            go_on(context.observer)?;
            let is_below = |folder: &PathBuf| at.starts_with(folder);
            if !at.as_os_str().is_empty() && (left_out.iter().any(is_below) || at == Path::new(OPEN) || is_tagged(here))
            {
                left_out.push(at.to_owned());
                return Ok(());
            }
            let to = if at.as_os_str().is_empty() { copy.clone() } else { copy.make_folders(at)? };
            for entry in entries {
                let name = &entry.name;
                match entry.kind {
                    Kind::File => {
                        let mode = here.meta(name)?.mode & 0o777;
                        here.copy(name, &to, name, mode | 0o600)?;
                    }
                    Kind::Link => to.symlink(here.read_link(name)?, name)?,
                    _ => {}
                }
            }
            Ok(())
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
