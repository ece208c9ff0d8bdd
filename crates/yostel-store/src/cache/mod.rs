//! The local cache: one copy of each archive and each tree, named by what it holds. Carries out docs/formats.md §7.
//!
//! What several processes do at once cannot go wrong without a lock (those there are save work, see `sharing`): everything
//! is made in a folder aside that only its process knows, synced, and renamed to its name, which says its content; an object that is there already is success. A process killed at any
//! moment leaves at most its folder aside, which the next one removes.
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

use std::fs::{self, File};
use std::io::{self, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use yostel_core::{ANY_PLATFORM, ArchiveDigest, Artifact, Sha256, TreeDigest};

pub use health::{CacheProblem, CacheReport, CacheStats};
pub use kit::{Carried, KitError, Loaded};
pub use notes::{CacheEntry, Note};
pub use prune::{PruneRule, Pruned};
pub use records::ProjectRecord;
pub use sharing::{Fetching, InUse};

use crate::disk::Disk;
use crate::error::{AdmitError, StoreError};
use crate::stamp::stamp;
use crate::unpack::{Like, UnpackConfig, unpack_on};
use crate::verify::compare_tree;
use aside::{Aside, Made};
use yostel_core::Listing;

/// An archive that was checked and has no name yet.
#[derive(Debug)]
#[must_use = "dropping it throws the archive away; commit names it"]
pub struct StagedArchive {
    made: Made,
    target: PathBuf,
}

/// A tree that was unpacked, checked, and has no name yet.
#[derive(Debug)]
#[must_use = "dropping it throws the tree away; commit names it"]
pub struct StagedTree {
    made: Made,
    tree: TreeDigest,
}

impl StagedTree {
    /// Returns the folder with its files, as long as it is staged.
    pub fn files(&self) -> PathBuf {
        self.made.path().join("files")
    }

    /// Returns its digest.
    pub fn tree(&self) -> TreeDigest {
        self.tree
    }

    /// Reads its listing.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn listing(&self) -> Result<Listing, StoreError> {
        read_listing(&self.made.path().join("listing"), self.tree)
    }
}

/// A folder that goes when this is dropped.
#[derive(Debug)]
pub struct WorkFolder(Made);

impl WorkFolder {
    /// Returns its path.
    pub fn path(&self) -> &Path {
        self.0.path()
    }
}

/// The cache in one folder.
#[derive(Debug)]
pub struct Cache {
    root: PathBuf,
    disk: Disk,
    aside: OnceLock<Aside>,
}

impl Cache {
    /// Opens the cache in this folder. Nothing is made before something is written.
    pub fn open(root: impl Into<PathBuf>) -> Self {
        Self::open_on(Disk::default(), root)
    }

    /// The same, with this way to the file system.
    pub fn open_on(disk: Disk, root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), disk, aside: OnceLock::new() }
    }

    /// Returns the way to the file system.
    pub(crate) fn disk(&self) -> &Disk {
        &self.disk
    }

    /// Returns the cache's folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns where the archive lies, or would lie.
    pub fn archive_path(&self, digest: ArchiveDigest) -> PathBuf {
        self.root.join("archives/sha256").join(digest.to_hex())
    }

    /// Tells whether the archive is there.
    pub fn has_archive(&self, digest: ArchiveDigest) -> bool {
        self.archive_path(digest).is_file()
    }

    /// Tells whether the tree is there (not whether it is sound).
    pub fn has_tree(&self, tree: TreeDigest) -> bool {
        self.tree_folder(tree).join("listing").is_file()
    }

    fn tree_folder(&self, tree: TreeDigest) -> PathBuf {
        self.root.join("trees").join(tree.to_hex())
    }

    /// Returns the folder with the tree's files.
    pub fn tree_files(&self, tree: TreeDigest) -> PathBuf {
        self.tree_folder(tree).join("files")
    }

    /// Returns the file with the tree's listing.
    pub fn tree_listing_path(&self, tree: TreeDigest) -> PathBuf {
        self.tree_folder(tree).join("listing")
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
        let target = self.archive_path(artifact.digest);
        let made = self.aside()?.place();
        let mut file = self.disk.create(made.path(), 0o644)?;
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
            file.write_all(&buffer[..n]).map_err(StoreError::when("write", &target))?;
            progress(n as u64);
            // A stream that never ends must not fill the disk; one byte more than announced is enough to refuse it.
            if bytes > artifact.size {
                break;
            }
        }
        Ok((ArchiveDigest::new(digest.finish()), bytes, StagedArchive { made, target }))
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
        let made = self.aside()?.folder()?;
        let files = made.path().join("files");
        self.disk.make_folder(&files)?;
        let path = archive.made.path();
        let reader = File::open(path).map_err(StoreError::when("read", path))?;
        let listing = unpack_on(&self.disk, BufReader::with_capacity(128 * 1024, reader), &files, config, None)?;
        let tree = self.describe(made, &listing)?;
        Ok((Artifact { size, tree: tree.tree(), ..announced }, archive, tree))
    }

    /// Makes a folder in which something may be made before it comes into the cache; it goes when it is dropped.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn work_folder(&self) -> Result<WorkFolder, StoreError> {
        Ok(WorkFolder(self.aside()?.folder()?))
    }

    /// Tells whether the tree can be linked as it is: there, and untouched since it was unpacked.
    pub fn is_tree_sound(&self, tree: TreeDigest) -> bool {
        let folder = self.tree_folder(tree);
        let recorded = fs::read_to_string(folder.join("stamp"));
        match (recorded, stamp(&folder.join("files"))) {
            (Ok(recorded), Ok(now)) if recorded == now => true,
            (_, Ok(now)) => {
                // Touched, or its stamp is lost: only its content can tell.
                let sound = self.listing(tree).is_ok_and(|listing| {
                    compare_tree(&folder.join("files"), &listing).is_ok_and(|differences| differences.is_empty())
                });
                if sound {
                    self.disk.write_loosely(&folder.join("stamp"), &now).ok();
                }
                sound
            }
            (_, Err(_)) => false,
        }
    }

    /// Makes the next use of a tree read its files before it trusts them.
    pub(crate) fn distrust(&self, tree: TreeDigest) {
        self.disk.remove(&self.tree_folder(tree).join("stamp")).ok();
    }

    /// Returns the stamp that was recorded for a tree.
    pub(crate) fn tree_stamp(&self, tree: TreeDigest) -> Option<String> {
        fs::read_to_string(self.tree_folder(tree).join("stamp")).ok()
    }

    /// Reads a tree's listing and checks it against the tree's digest.
    ///
    /// # Errors
    /// When it cannot be read, or is not the one.
    pub fn listing(&self, tree: TreeDigest) -> Result<Listing, StoreError> {
        read_listing(&self.tree_listing_path(tree), tree)
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
        let like = like.filter(|like| *like != artifact.tree);
        let like = like.and_then(|like| Some(Like { files: self.tree_files(like), listing: self.listing(like).ok()? }));
        let path = archive.map_or_else(|| self.archive_path(artifact.digest), |staged| staged.made.path().to_owned());
        let made = self.aside()?.folder()?;
        let files = made.path().join("files");
        self.disk.make_folder(&files)?;
        let reader = File::open(&path).map_err(StoreError::when("read", &path))?;
        let listing =
            match unpack_on(&self.disk, BufReader::with_capacity(128 * 1024, reader), &files, config, like.as_ref()) {
                Ok(listing) if listing.digest() == artifact.tree => listing,
                other => {
                    // An archive that rotted in the cache must not be blamed on its author, nor be used again.
                    if archive.is_none()
                        && let Some(error) = self.drop_if_rotten(artifact)?
                    {
                        return Err(error);
                    }
                    let expected = artifact.tree;
                    return Err(match other {
                        Ok(listing) => AdmitError::TreeDiffers { expected, found: listing.digest() },
                        Err(error) => error,
                    });
                }
            };
        Ok(self.describe(made, &listing)?)
    }

    /// Makes a tree, aside, of files that `write` puts into a folder.
    pub(crate) fn stage_files(
        &self,
        listing: &Listing,
        write: impl FnOnce(&Path) -> Result<(), StoreError>,
    ) -> Result<StagedTree, StoreError> {
        let made = self.aside()?.folder()?;
        let files = made.path().join("files");
        self.disk.make_folder(&files)?;
        write(&files)?;
        self.describe(made, listing)
    }

    /// Writes what belongs beside a tree's files.
    fn describe(&self, made: Made, listing: &Listing) -> Result<StagedTree, StoreError> {
        self.disk.write_loosely(&made.path().join("listing"), &listing.write())?;
        let files = made.path().join("files");
        let now = stamp(&files).map_err(StoreError::when("read the folder", &files))?;
        self.disk.write_loosely(&made.path().join("stamp"), &now)?;
        Ok(StagedTree { made, tree: listing.digest() })
    }

    /// Gives what was staged its names: archives first, then trees. An object that is there already is success.
    ///
    /// # Errors
    /// `Store` when the cache cannot be written; what has its name by then is whole and stays.
    pub fn commit(&self, archives: Vec<StagedArchive>, trees: Vec<StagedTree>) -> Result<(), StoreError> {
        if archives.is_empty() && trees.is_empty() {
            return Ok(());
        }
        self.disk.sync_all(self.aside()?.path())?;
        let folder = self.root.join("archives/sha256");
        if !archives.is_empty() {
            self.disk.make_folders(&folder)?;
            for StagedArchive { made, target } in archives {
                self.disk.rename(made.path(), &target).map_err(StoreError::when("write", target))?;
            }
            self.disk.sync_folder(&folder);
        }
        if !trees.is_empty() {
            let folder = self.root.join("trees");
            self.disk.make_folders(&folder)?;
            trees.into_iter().try_for_each(|staged| self.publish_tree(&staged.made, staged.tree))?;
            self.disk.sync_folder(&folder);
        }
        Ok(())
    }

    fn drop_if_rotten(&self, artifact: &Artifact) -> Result<Option<AdmitError>, StoreError> {
        let path = self.archive_path(artifact.digest);
        let (found, bytes) = digest_file(&path)?;
        if found == artifact.digest {
            return Ok(None);
        }
        self.disk.remove(&path)?;
        let (expected, expected_bytes) = (artifact.digest, artifact.size);
        Ok(Some(AdmitError::ArchiveDiffers { expected, found, bytes, expected_bytes }))
    }

    fn publish_tree(&self, made: &Made, tree: TreeDigest) -> Result<(), StoreError> {
        let target = self.tree_folder(tree);
        match self.disk.rename(made.path(), &target) {
            Ok(()) => {}
            Err(error) if matches!(error.kind(), io::ErrorKind::DirectoryNotEmpty | io::ErrorKind::AlreadyExists) => {
                // Another process was faster, or the one that is there was found unsound.
                if !self.is_tree_sound(tree) {
                    let old = self.aside()?.folder()?;
                    let grave = old.path().join("old");
                    self.disk.rename(&target, &grave).map_err(StoreError::when("replace", &target))?;
                    match self.disk.rename(made.path(), &target) {
                        Err(error) if !self.is_tree_sound(tree) => {
                            return Err(StoreError { doing: "write", path: target, cause: error });
                        }
                        _ => {}
                    }
                }
            }
            Err(cause) => return Err(StoreError { doing: "write", path: target, cause }),
        }
        Ok(())
    }

    fn aside(&self) -> Result<&Aside, StoreError> {
        if let Some(aside) = self.aside.get() {
            return Ok(aside);
        }
        let aside = Aside::new(&self.disk, &self.root.join("aside"))?;
        Ok(self.aside.get_or_init(|| aside))
    }
}

/// Digests a file; returns its size too.
fn digest_file(path: &Path) -> Result<(ArchiveDigest, u64), StoreError> {
    let mut file = File::open(path).map_err(StoreError::when("read", path))?;
    let mut digest = Sha256::default();
    let mut bytes = 0;
    let mut buffer = vec![0; 128 * 1024];
    loop {
        let n = file.read(&mut buffer).map_err(StoreError::when("read", path))?;
        if n == 0 {
            return Ok((ArchiveDigest::new(digest.finish()), bytes));
        }
        bytes += n as u64;
        digest.update(&buffer[..n]);
    }
}

/// Reads a listing that should have this digest.
pub(crate) fn read_listing(path: &Path, tree: TreeDigest) -> Result<Listing, StoreError> {
    let text = read_listing_text(path, tree)?;
    Listing::parse(&text).map_err(|error| no_listing(path, &error.to_string()))
}

/// Reads the text of a listing that should have this digest.
pub(crate) fn read_listing_text(path: &Path, tree: TreeDigest) -> Result<String, StoreError> {
    let text = fs::read_to_string(path).map_err(StoreError::when("read", path))?;
    if TreeDigest::of(text.as_bytes()) != tree {
        return Err(no_listing(path, "it is not the listing of its tree"));
    }
    Ok(text)
}

fn no_listing(path: &Path, reason: &str) -> StoreError {
    let cause = io::Error::new(io::ErrorKind::InvalidData, reason.to_owned());
    StoreError { doing: "use", path: path.to_owned(), cause }
}
