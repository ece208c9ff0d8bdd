//! The local cache: one copy of each archive and each tree, named by what it holds. Carries out docs/formats.md §7.
//!
//! No lock is needed for correctness; those in `sharing` only avoid doing work twice, and protect from a prune.
//! Everything is made in a folder aside that only its process knows, synced, and renamed to its name, which says its
//! content; an object that is there already is success. A process killed at any moment leaves at most its folder aside,
//! which the next one removes.
//!
//! The cache's own folder is reached as its user named it; everything below it from there and through no link.
//!
//! Writes of one install, in order: archives aside → trees aside (files, listing, stamp) → all of that synced at once →
//! archives renamed → trees renamed. So one bad archive among many leaves the cache as it was, and what has a name is whole
//! even when the power goes.

mod advisories;
mod answers;
mod aside;
mod health;
mod journal;
mod kit;
mod nameless;
mod notes;
mod prune;
mod records;
mod sharing;
mod stage;
mod verdicts;

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

use yostel_documents::{ArchiveDigest, Listing, TreeDigest};
use yostel_files::{Disk, FileError, Folder, Kind};

pub use advisories::Spoken;
pub use answers::KeptFile;
pub use health::{CacheProblem, CacheReport, CacheStats};
pub use journal::{ChangedFile, FileContent, JournalEntry};
pub use kit::{Carried, KitError, Loaded};
pub use notes::{CacheEntry, Note};
pub use prune::{PruneRule, Pruned};
pub use records::ProjectRecord;
pub use sharing::{Fetching, InUse};

pub use stage::{StagedArchive, StagedTree};
pub use verdicts::{KeptVerdict, KeptVerdicts};

use crate::stamp::stamp;
use crate::verify::compare_tree;
use aside::{Aside, Made};

/// Longest listing that is read, in bytes: all paths a package may have (formats.md §5), and as much again for each entry.
const MOST_LISTING: u64 = 64 << 20;

/// Longest record of a project that is read, in bytes: a few hundred for each package.
pub(crate) const MOST_RECORD: u64 = 64 << 20;

/// Longest note on one archive or one package that is read, in bytes.
pub(crate) const MOST_NOTE: u64 = 1 << 20;

/// A folder that goes when this is dropped.
#[derive(Debug)]
pub struct WorkFolder {
    _made: Made,
    folder: Folder,
}

impl WorkFolder {
    /// Returns the folder.
    pub fn folder(&self) -> &Folder {
        &self.folder
    }
}

/// The cache in one folder.
#[derive(Debug)]
pub struct Cache {
    root: PathBuf,
    disk: Disk,
    aside: OnceLock<Aside>,
    /// The folder with answers of servers, once one was kept or found there.
    answers: OnceLock<Folder>,
    /// Held by the thread that makes it.
    making: Mutex<()>,
}

impl Cache {
    /// Opens the cache in this folder. Nothing is made before something is written.
    pub fn open(root: impl Into<PathBuf>) -> Self {
        Self::open_on(Disk::default(), root)
    }

    /// Like [`Self::open`], on a watched disk.
    pub fn open_on(disk: Disk, root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), disk, aside: OnceLock::new(), answers: OnceLock::new(), making: Mutex::new(()) }
    }

    /// Returns the cache's folder, for messages.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Tells whether there is a cache.
    pub fn is_there(&self) -> bool {
        self.folder().is_ok()
    }

    /// Opens the cache's folder. Others may read what is made in it, whatever the process masks.
    pub(crate) fn folder(&self) -> Result<Folder, FileError> {
        Ok(Folder::open_on(&self.disk, &self.root)?.with_fixed_modes())
    }

    fn folder_if_there(&self) -> Result<Option<Folder>, FileError> {
        match self.folder() {
            Err(error) if error.is_not_found() => Ok(None),
            folder => folder.map(Some),
        }
    }

    fn make_root(&self) -> Result<Folder, FileError> {
        Ok(Folder::make_on(&self.disk, &self.root)?.with_fixed_modes())
    }

    fn archive_name(digest: ArchiveDigest) -> String {
        format!("archives/sha256/{}", digest.to_hex())
    }

    fn tree_path(tree: TreeDigest) -> String {
        format!("trees/{}", tree.to_hex())
    }

    /// Tells whether the archive is there.
    pub fn has_archive(&self, digest: ArchiveDigest) -> bool {
        self.folder().is_ok_and(|root| root.has(Self::archive_name(digest), Kind::File))
    }

    /// Opens an archive that is there.
    ///
    /// # Errors
    /// When it is not.
    pub fn open_archive(&self, digest: ArchiveDigest) -> Result<File, FileError> {
        self.folder()?.open_file(Self::archive_name(digest))
    }

    /// Tells whether the tree is there (not whether it is sound).
    pub fn has_tree(&self, tree: TreeDigest) -> bool {
        self.folder().is_ok_and(|root| root.has(format!("{}/listing", Self::tree_path(tree)), Kind::File))
    }

    fn tree_folder(&self, tree: TreeDigest) -> Result<Folder, FileError> {
        self.folder()?.folder(Self::tree_path(tree))
    }

    /// Returns the folder with the tree's files.
    ///
    /// # Errors
    /// When it is not there.
    pub fn tree(&self, tree: TreeDigest) -> Result<Folder, FileError> {
        self.folder()?.folder(format!("{}/files", Self::tree_path(tree)))
    }

    /// Makes a folder in which something may be made before it comes into the cache; it goes when it is dropped.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn work_folder(&self) -> Result<WorkFolder, FileError> {
        let (made, folder) = self.aside()?.make_folder()?;
        Ok(WorkFolder { _made: made, folder })
    }

    /// Tells whether the tree can be linked as it is: there, and untouched since it was unpacked.
    pub fn is_tree_sound(&self, tree: TreeDigest) -> bool {
        let Ok(folder) = self.tree_folder(tree) else { return false };
        let Ok(files) = folder.folder("files") else { return false };
        match (folder.read_text("stamp", MOST_NOTE), stamp(&files)) {
            (Ok(recorded), Ok(now)) if recorded == now => true,
            (_, Ok(now)) => {
                // Touched, or its stamp is lost: only its content can tell.
                let sound = read_listing(&folder, "listing", tree).is_ok_and(|listing| {
                    compare_tree(Some(&files), &listing).is_ok_and(|differences| differences.is_empty())
                });
                if sound {
                    folder.write_loosely("stamp", &now).ok();
                }
                sound
            }
            (_, Err(_)) => false,
        }
    }

    /// Makes the next use of a tree read its files before it trusts them.
    pub(crate) fn distrust(&self, tree: TreeDigest) {
        if let Ok(folder) = self.tree_folder(tree) {
            folder.remove("stamp").ok();
        }
    }

    /// Returns the stamp that was recorded for a tree.
    pub(crate) fn tree_stamp(&self, tree: TreeDigest) -> Option<String> {
        self.tree_folder(tree).ok()?.read_text("stamp", MOST_NOTE).ok()
    }

    /// Reads a tree's listing and checks it against the tree's digest.
    ///
    /// # Errors
    /// When it cannot be read, or is not the one.
    pub fn listing(&self, tree: TreeDigest) -> Result<Listing, FileError> {
        read_listing(&self.tree_folder(tree)?, "listing", tree)
    }

    /// Reads the text of a tree's listing.
    pub(crate) fn listing_text(&self, tree: TreeDigest) -> Result<String, FileError> {
        read_listing_text(&self.tree_folder(tree)?, "listing", tree)
    }

    fn aside(&self) -> Result<&Aside, FileError> {
        if let Some(aside) = self.aside.get() {
            return Ok(aside);
        }
        let _making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(aside) = self.aside.get() {
            return Ok(aside);
        }
        let aside = Aside::new(&self.make_root()?)?;
        Ok(self.aside.get_or_init(|| aside))
    }
}

impl Drop for Cache {
    fn drop(&mut self) {
        // The folder aside goes first: a cache that was empty and stayed so leaves no folder behind.
        if self.aside.take().is_some()
            && let (Some(parent), Some(name)) = (self.root.parent(), self.root.file_name())
            && let Ok(parent) = Folder::open_on(&self.disk, parent)
        {
            parent.remove_if_empty(name);
        }
    }
}

/// Reads a listing that should have this digest.
pub(crate) fn read_listing(folder: &Folder, path: &str, tree: TreeDigest) -> Result<Listing, FileError> {
    let text = read_listing_text(folder, path, tree)?;
    Listing::parse(&text).map_err(|error| FileError::unfit("use", folder.path_of(path), error.to_string()))
}

/// Reads the text of a listing that should have this digest.
pub(crate) fn read_listing_text(folder: &Folder, path: &str, tree: TreeDigest) -> Result<String, FileError> {
    let text = folder.read_text(path, MOST_LISTING)?;
    if TreeDigest::of(text.as_bytes()) != tree {
        return Err(FileError::unfit("use", folder.path_of(path), "it is not the listing of its tree"));
    }
    Ok(text)
}
