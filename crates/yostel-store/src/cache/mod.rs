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

mod aside;
mod health;
mod kit;
mod notes;
mod prune;
mod records;
mod sharing;

use std::fs::File;
use std::io::{self, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

use yostel_documents::{ANY_PLATFORM, ArchiveDigest, Artifact, Listing, Sha256, TreeDigest};
use yostel_files::{Disk, FileError, Folder, Kind, Nearby};

pub use health::{CacheProblem, CacheReport, CacheStats};
pub use kit::{Carried, KitError, Loaded};
pub use notes::{CacheEntry, Note};
pub use prune::{PruneRule, Pruned};
pub use records::ProjectRecord;
pub use sharing::{Fetching, InUse};

use crate::error::AdmitError;
use crate::stamp::stamp;
use crate::unpack::{Like, UnpackConfig, unpack_into};
use crate::verify::compare_tree;
use aside::{Aside, Made};

/// Longest listing that is read, in bytes: all paths a package may have (formats.md §5), and as much again for each entry.
const MOST_LISTING: u64 = 64 << 20;

/// Longest record of a project that is read, in bytes: a few hundred for each package.
pub(crate) const MOST_RECORD: u64 = 64 << 20;

/// Longest note on one archive or one package that is read, in bytes.
pub(crate) const MOST_NOTE: u64 = 1 << 20;

/// An archive that was checked and has no name yet.
#[derive(Debug)]
#[must_use = "dropping it throws the archive away; commit names it"]
pub struct StagedArchive {
    made: Made,
    digest: ArchiveDigest,
}

/// A tree that was unpacked, checked, and has no name yet.
#[derive(Debug)]
#[must_use = "dropping it throws the tree away; commit names it"]
pub struct StagedTree {
    made: Made,
    tree: TreeDigest,
}

impl StagedTree {
    fn folder(&self) -> Result<Folder, FileError> {
        let (aside, name) = self.made.at();
        aside.folder(name)
    }

    /// Returns the folder with its files, as long as it is staged.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn files(&self) -> Result<Folder, FileError> {
        self.folder()?.folder("files")
    }

    /// Returns its digest.
    pub fn tree(&self) -> TreeDigest {
        self.tree
    }

    /// Reads its listing.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn listing(&self) -> Result<Listing, FileError> {
        read_listing(&self.folder()?, "listing", self.tree)
    }
}

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
        Self { root: root.into(), disk, aside: OnceLock::new(), making: Mutex::new(()) }
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

    /// Takes an archive in, aside: digests it while it streams. It gets its name with [`Self::commit`].
    ///
    /// # Errors
    /// `ArchiveDiffers`, `Read` when the stream breaks off, `Store` when the cache cannot be written. Nothing stays.
    pub fn stage_archive(
        &self,
        artifact: &Artifact,
        from: &mut dyn Read,
        progress: impl FnMut(u64),
    ) -> Result<StagedArchive, AdmitError> {
        let (found, bytes, archive) = self.take_in(artifact, from, progress)?;
        if found != artifact.digest || bytes != artifact.size {
            let (expected, expected_bytes) = (artifact.digest, artifact.size);
            return Err(AdmitError::ArchiveDiffers { expected, found, bytes, expected_bytes });
        }
        Ok(archive)
    }

    /// Writes a stream aside, and says what came; of one that is longer than announced, only a part.
    fn take_in(
        &self,
        artifact: &Artifact,
        from: &mut dyn Read,
        mut progress: impl FnMut(u64),
    ) -> Result<(ArchiveDigest, u64, StagedArchive), AdmitError> {
        let made = self.aside()?.place();
        let (aside, name) = made.at();
        let mut file = aside.create(name, 0o644)?;
        let mut digest = Sha256::default();
        let mut bytes = 0u64;
        let mut buffer = vec![0; 128 * 1024];
        loop {
            let n = match from.read(&mut buffer) {
                Ok(0) => break,
                Ok(n) => n,
                Err(cause) if cause.kind() == io::ErrorKind::Interrupted => continue,
                Err(cause) => return Err(AdmitError::Read { bytes, cause }),
            };
            bytes += n as u64;
            digest.update(&buffer[..n]);
            file.write_all(&buffer[..n]).map_err(|cause| file.failed(cause))?;
            progress(n as u64);
            // A stream that never ends must not fill the disk; one byte more than announced is enough to refuse it.
            if bytes > artifact.size {
                break;
            }
        }
        Ok((ArchiveDigest::new(digest.finish()), bytes, StagedArchive { made, digest: artifact.digest }))
    }

    /// Takes in an archive of which only the digest is known, aside: its size and what it unpacks to are found out.
    ///
    /// # Errors
    /// `ArchiveDiffers`, `Read`, `Refused`, `Store`.
    pub fn stage_unknown(
        &self,
        digest: ArchiveDigest,
        from: &mut dyn Read,
        config: UnpackConfig,
        progress: impl FnMut(u64),
    ) -> Result<(Artifact, StagedArchive, StagedTree), AdmitError> {
        let announced = Artifact {
            platform: ANY_PLATFORM.to_owned(),
            digest,
            // No archive of more bytes than it may unpack to is of any use.
            size: config.bytes,
            tree: TreeDigest::of(b""),
        };
        let archive = match self.take_in(&announced, from, progress)? {
            (found, bytes, archive) if found == digest => (bytes, archive),
            (found, bytes, _) => {
                return Err(AdmitError::ArchiveDiffers { expected: digest, found, bytes, expected_bytes: bytes });
            }
        };
        let (size, archive) = archive;
        let (made, folder) = self.aside()?.make_folder()?;
        let files = folder.make_folder("files")?;
        let listing = unpack_into(|| Ok(buffered(archive.open()?)), &files, config, None)?;
        let tree = describe(made, &folder, &listing)?;
        Ok((Artifact { size, tree: tree.tree(), ..announced }, archive, tree))
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

    /// Unpacks the tree of an artifact, aside, from an archive that was just staged or from the one in the cache. It
    /// gets its name with [`Self::commit`]. Files that it has in common with the tree `like`, which may be missing or
    /// unsound, are the same files in both.
    ///
    /// # Errors
    /// `Refused`, `TreeDiffers` or `ArchiveDiffers` for an archive that is not what its digests say, `Store` when the
    /// archive is not there or the cache cannot be written. Nothing stays.
    pub fn stage_tree(
        &self,
        artifact: &Artifact,
        archive: Option<&StagedArchive>,
        config: UnpackConfig,
        like: Option<TreeDigest>,
    ) -> Result<StagedTree, AdmitError> {
        let like = like.filter(|like| *like != artifact.tree).and_then(|like| {
            Some(Like { files: Nearby::new(self.tree(like).ok()?), listing: self.listing(like).ok()? })
        });
        let open = || match archive {
            Some(staged) => Ok(buffered(staged.open()?)),
            None => Ok(buffered(self.open_archive(artifact.digest)?)),
        };
        let (made, folder) = self.aside()?.make_folder()?;
        let files = folder.make_folder("files")?;
        match unpack_into(open, &files, config, like) {
            Ok(listing) if listing.digest() == artifact.tree => Ok(describe(made, &folder, &listing)?),
            other => {
                // An archive that rotted in the cache must not be blamed on its author, nor be used again.
                if archive.is_none()
                    && let Some(error) = self.drop_if_rotten(artifact)?
                {
                    return Err(error);
                }
                let expected = artifact.tree;
                Err(match other {
                    Ok(listing) => AdmitError::TreeDiffers { expected, found: listing.digest() },
                    Err(error) => error,
                })
            }
        }
    }

    /// Makes a tree, aside, of files that `write` puts into a folder.
    pub(crate) fn stage_files(
        &self,
        listing: &Listing,
        write: impl FnOnce(&Folder) -> Result<(), FileError>,
    ) -> Result<StagedTree, FileError> {
        let (made, folder) = self.aside()?.make_folder()?;
        write(&folder.make_folder("files")?)?;
        describe(made, &folder, listing)
    }

    /// Gives what was staged its names: archives first, then trees. An object that is there already is success.
    ///
    /// # Errors
    /// `Store` when the cache cannot be written; what has its name by then is whole and stays.
    pub fn commit(&self, archives: Vec<StagedArchive>, trees: Vec<StagedTree>) -> Result<(), FileError> {
        if archives.is_empty() && trees.is_empty() {
            return Ok(());
        }
        self.aside()?.folder().sync_all()?;
        let root = self.make_root()?;
        if !archives.is_empty() {
            let folder = root.make_folders("archives/sha256")?;
            for StagedArchive { made, digest } in archives {
                let ((aside, name), target) = (made.at(), digest.to_hex());
                aside.rename(name, &folder, &target).map_err(FileError::when("write", folder.path_of(target)))?;
            }
            folder.sync();
        }
        if !trees.is_empty() {
            let folder = root.make_folders("trees")?;
            trees.into_iter().try_for_each(|staged| self.publish_tree(&folder, &staged.made, staged.tree))?;
            folder.sync();
        }
        Ok(())
    }

    fn drop_if_rotten(&self, artifact: &Artifact) -> Result<Option<AdmitError>, FileError> {
        let (root, path) = (self.folder()?, Self::archive_name(artifact.digest));
        let (found, bytes) = digest_file(&root, &path)?;
        if found == artifact.digest {
            return Ok(None);
        }
        root.remove(&path)?;
        let (expected, expected_bytes) = (artifact.digest, artifact.size);
        Ok(Some(AdmitError::ArchiveDiffers { expected, found, bytes, expected_bytes }))
    }

    fn publish_tree(&self, trees: &Folder, made: &Made, tree: TreeDigest) -> Result<(), FileError> {
        let ((aside, name), target) = (made.at(), tree.to_hex());
        let failed = |doing, cause| FileError { doing, path: trees.path_of(&target), cause };
        match aside.rename(name, trees, &target) {
            Ok(()) => Ok(()),
            // Another process was faster, or the one that is there was found unsound.
            Err(_) if trees.exists(&target) => {
                if self.is_tree_sound(tree) {
                    return Ok(());
                }
                // Whoever uses it meanwhile has one or the other, never none.
                match aside.put_in_place(name, trees, &target) {
                    Err(_) if self.is_tree_sound(tree) => Ok(()),
                    other => other,
                }
            }
            Err(cause) => Err(failed("write", cause)),
        }
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

impl StagedArchive {
    fn open(&self) -> Result<File, FileError> {
        let (folder, name) = self.made.at();
        folder.open_file(name)
    }
}

/// Writes what belongs beside a tree's files.
fn describe(made: Made, folder: &Folder, listing: &Listing) -> Result<StagedTree, FileError> {
    folder.write_loosely("listing", &listing.write())?;
    folder.write_loosely("stamp", &stamp(&folder.folder("files")?)?)?;
    Ok(StagedTree { made, tree: listing.digest() })
}

/// Digests a file; returns its size too.
fn digest_file(folder: &Folder, path: &str) -> Result<(ArchiveDigest, u64), FileError> {
    let mut file = folder.open_file(path)?;
    let mut digest = Sha256::default();
    let mut bytes = 0;
    let mut buffer = vec![0; 128 * 1024];
    loop {
        let n = file.read(&mut buffer).map_err(FileError::when("read", folder.path_of(path)))?;
        if n == 0 {
            return Ok((ArchiveDigest::new(digest.finish()), bytes));
        }
        bytes += n as u64;
        digest.update(&buffer[..n]);
    }
}

fn buffered(archive: File) -> BufReader<File> {
    BufReader::with_capacity(128 * 1024, archive)
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
