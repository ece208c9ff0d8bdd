//! A copy of a project in which a set is installed and tried: its files, but for what is installed, what version control
//! keeps, and what says of itself that it can be made again (CACHEDIR.TAG).

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use yostel_documents::{PackageName, Purpose, Sha256, to_hex};
use yostel_files::{Folder, Kind};
use yostel_findings::CheckVerdict;
use yostel_store::WorkFolder;

use crate::context::Context;
use crate::error::FlowError;
use crate::observer::{Observer, go_on};
use crate::project::files::{LOCKFILE_NAME, OpenFiles};
use crate::project::{LoadedProject, ProjectFile};
use crate::using::environment::{Environment, environment_for};
use crate::using::install::{InstallRequest, install};

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

/// Where a command is run that tells whether a set works.
#[derive(Debug)]
pub struct CheckPlace {
    /// The folder.
    pub folder: PathBuf,
    /// What the packages make of the environment.
    pub environment: Environment,
    /// Once this is set, nobody wants to know any more.
    pub unwanted: Arc<AtomicBool>,
}

/// What running a check once came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ran {
    /// What it says.
    pub verdict: CheckVerdict,
    /// How long it took.
    pub took: Duration,
    /// What it printed.
    pub said: String,
}

impl Ran {
    /// One that took no time, and said nothing besides.
    pub(crate) fn of(verdict: CheckVerdict) -> Self {
        Self { verdict, took: Duration::ZERO, said: String::new() }
    }
}

/// A copy of a project in which a set is installed. It goes when this is dropped.
pub struct CheckRoom<'r> {
    there: LoadedProject,
    scratch: Scratch,
    unwanted: Arc<AtomicBool>,
    context: &'r Context<'r>,
}

impl<'r> CheckRoom<'r> {
    /// Copies a project, with its manifests as they are edited, another lockfile and what follows that, and installs it.
    ///
    /// # Errors
    /// Those of copying and installing.
    pub(crate) fn with(
        edited: &LoadedProject,
        lockfile: &str,
        followed: &BTreeMap<String, String>,
        context: &'r Context<'r>,
    ) -> Result<Self, FlowError> {
        let scratch = Scratch::of(edited, context)?;
        let manifests = edited.projects().map(|file| (file.manifest_path(), file.text.as_str()));
        let followed = followed.iter().map(|(file, text)| (file.clone(), text.as_str()));
        for (file, text) in manifests.chain(followed).chain([(LOCKFILE_NAME.to_owned(), lockfile)]) {
            scratch.write(&file, text)?;
        }
        // What is needed, and from where, is as it is seen from the project itself.
        let texts = BTreeMap::from([(edited.lockfile_path(), lockfile.to_owned())]);
        let there = LoadedProject { files: Arc::new(OpenFiles { texts }), ..edited.clone() };
        let there = there.installed_in(scratch.folder().to_owned());
        let room = Self { there, scratch, unwanted: Arc::default(), context };
        install(&room.there, &InstallRequest::default(), context)?;
        Ok(room)
    }

    /// Lets commands in it know by this when nobody wants to know any more.
    pub(crate) fn until(self, unwanted: Arc<AtomicBool>) -> Self {
        let mut room = self;
        room.unwanted = unwanted;
        room
    }

    /// Returns where a command of the project that is worked on is run.
    ///
    /// # Errors
    /// As composing its environment.
    pub fn place(&self) -> Result<CheckPlace, FlowError> {
        self.place_in(self.there.here().name(), &BTreeSet::new())
    }

    /// Returns where a command of this project is run that finds the packages of these purposes, or of all.
    ///
    /// # Errors
    /// As composing its environment; `NoSuchProject`.
    pub fn place_in(&self, project: &PackageName, purposes: &BTreeSet<Purpose>) -> Result<CheckPlace, FlowError> {
        let there = self.there.clone().at_project(project)?;
        let environment = environment_for(&there, purposes, self.context)?;
        let folder = self.scratch.folder().join(&there.here().folder);
        Ok(CheckPlace { folder, environment, unwanted: self.unwanted.clone() })
    }
}

impl Drop for CheckRoom<'_> {
    fn drop(&mut self) {
        // The cache remembers what is installed where; this goes with the copy.
        self.context.cache.forget_project(self.scratch.folder());
    }
}

/// Tells whether a folder is the project's own, by the folder that it is in and its path from the root.
fn is_own(above: &Folder, at: &Path) -> bool {
    let name = at.file_name().unwrap_or_default();
    let is_left_out = LEFT_OUT.iter().any(|left_out| name == *left_out) || at == Path::new(OPEN);
    !is_left_out && !is_tagged(above, name)
}

/// Copies a folder, but for what is left out.
fn copy_files(from: &Folder, to: &Folder, context: &Context<'_>) -> Result<(), FlowError> {
    from.copy_into(to, |above, at| -> Result<bool, FlowError> {
        go_on(context.observer)?;
        Ok(is_own(above, at))
    })
}

/// Returns a digest of what a walk over the project's own files sees: paths, kinds, sizes, modes and times of change.
///
/// # Errors
/// When a folder cannot be read.
pub(crate) fn fingerprint(project: &LoadedProject, observer: &dyn Observer) -> Result<String, FlowError> {
    let mut digest = Sha256::default();
    let root = Folder::open(&project.root)?;
    let below = project.below.iter().map(|project| project.folder.as_str());
    let behind_links = below.filter(|folder| link_on(&root, Path::new(folder)).is_some());
    for folder in std::iter::once("").chain(behind_links) {
        Folder::open(&project.root.join(folder))?.walk_into(is_own, |folder, at, entries| {
            go_on(observer)?;
            digest.update(at.as_os_str().as_encoded_bytes());
            digest.update(b"/\0");
            for entry in entries.iter().filter(|entry| entry.kind != Kind::Folder) {
                let meta = folder.meta(&entry.name)?;
                digest.update(entry.name.as_encoded_bytes());
                digest.update(b"\0");
                let times = [meta.modified, meta.modified_nanos].map(i64::cast_unsigned);
                for number in [u64::from(meta.mode), meta.size, times[0], times[1]] {
                    digest.update(&number.to_le_bytes());
                }
            }
            Ok::<_, FlowError>(())
        })?;
    }
    Ok(to_hex(&digest.finish()))
}

/// Finds a link on the way to a folder below another.
fn link_on<'p>(above: &Folder, folder: &'p Path) -> Option<&'p Path> {
    let mut parts: Vec<&Path> = folder.ancestors().filter(|part| !part.as_os_str().is_empty()).collect();
    parts.reverse();
    parts.into_iter().find(|part| above.has(part, Kind::Link))
}

/// Copies the folder of a workspace's project where that is reached through a link, which the copy would leave.
fn copy_behind_link(copy: &Folder, project: &ProjectFile, root: &Path, context: &Context<'_>) -> Result<(), FlowError> {
    let folder = Path::new(&project.folder);
    if let Some(link) = link_on(copy, folder) {
        copy.remove(link)?;
    } else if copy.has(folder, Kind::Folder) {
        return Ok(());
    }
    copy_files(&Folder::open(&root.join(folder))?, &copy.make_folders(folder)?, context)
}

/// A copy of a project; it goes when this is dropped, and with the next process where this one is killed.
struct Scratch {
    _made: WorkFolder,
    folder: PathBuf,
}

impl Scratch {
    /// Copies a project's files.
    ///
    /// # Errors
    /// When one cannot be read, or the cache's folder not be written; `Stopped`.
    fn of(project: &LoadedProject, context: &Context<'_>) -> Result<Self, FlowError> {
        let made = context.cache.work_folder()?;
        let copy = made.folder().make_folder("project")?;
        let folder = copy.path().to_owned();
        copy_files(&Folder::open(&project.root)?, &copy, context)?;
        let root = &project.root;
        for project in &project.below {
            copy_behind_link(&copy, project, root, context)?;
        }
        Ok(Self { _made: made, folder })
    }

    /// Writes a file of the copy.
    ///
    /// # Errors
    /// When it cannot be written.
    fn write(&self, name: &str, text: &str) -> Result<(), FlowError> {
        Ok(Folder::open(&self.folder)?.write_atomically(name, text.as_bytes())?)
    }

    /// Returns the copy's folder.
    fn folder(&self) -> &Path {
        &self.folder
    }
}
