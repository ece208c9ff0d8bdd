//! Taking things into the cache: made aside, checked while they come, and named all together.

use std::fs::File;
use std::io::{self, BufReader, Read, Write};

use yostel_documents::{ANY_PLATFORM, ArchiveDigest, Artifact, Listing, Sha256, TreeDigest};
use yostel_files::{FileError, Folder, Nearby};

use super::aside::Made;
use super::{Cache, read_listing};
use crate::error::AdmitError;
use crate::stamp::stamp;
use crate::unpack::{Like, UnpackConfig, unpack_into};

/// An archive that was checked and has no name yet.
#[derive(Debug)]
#[must_use = "dropping it throws the archive away; commit names it"]
pub struct StagedArchive {
    pub(super) made: Made,
    digest: ArchiveDigest,
}

/// A tree that was unpacked, checked, and has no name yet.
#[derive(Debug)]
#[must_use = "dropping it throws the tree away; commit names it"]
pub struct StagedTree {
    pub(super) made: Made,
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

impl StagedArchive {
    /// Opens it, as long as it is staged.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(&self) -> Result<File, FileError> {
        let (folder, name) = self.made.at();
        folder.open_file(name)
    }
}

impl Cache {
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
}

/// Writes what belongs beside a tree's files.
fn describe(made: Made, folder: &Folder, listing: &Listing) -> Result<StagedTree, FileError> {
    folder.write_loosely("listing", &listing.write())?;
    folder.write_loosely("stamp", &stamp(&folder.folder("files")?)?)?;
    Ok(StagedTree { made, tree: listing.digest() })
}

/// Digests a file; returns its size too.
pub(super) fn digest_file(folder: &Folder, path: &str) -> Result<(ArchiveDigest, u64), FileError> {
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
