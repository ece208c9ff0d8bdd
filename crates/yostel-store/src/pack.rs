//! Packing a folder into an archive: the same files give the same bytes, whatever their times, owners and order on disk.
//! Carries out docs/formats.md §5.

use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use yostel_core::{ANY_PLATFORM, ArchiveDigest, Artifact, ContentDigest, Sha256};

use crate::error::StoreError;
use yostel_core::{Entry, EntryKind, Listing, check_entry_path, link_stays_inside};

/// Modification time of every packed and installed file: 1980-01-02, which every archive format can say.
pub(crate) const FIXED_TIME: u64 = 315_619_200;

/// Compression level. Measured on source text, levels above cost far more time than they save bytes.
const LEVEL: i32 = 9;

/// Names that are never packed: the tool's own, and version control's.
const LEFT_OUT: [&str; 5] = [".yostel", "yostel.lock", ".git", ".hg", ".svn"];

/// What was packed.
#[derive(Debug)]
pub struct Packed {
    /// Digests and size, for the platform given.
    pub artifact: Artifact,
    /// What is inside.
    pub listing: Listing,
}

/// Packs a folder into the file at `to`.
///
/// # Errors
/// When a file cannot be read, is neither file nor link nor folder, has a name that not every system can hold, or is
/// a link out of the folder; and when `to` cannot be written.
pub fn pack(folder: &Path, platform: &str, to: &Path) -> Result<Packed, StoreError> {
    let file = fs::File::create(to).map_err(StoreError::when("write", to))?;
    let hashing = Hashing { inner: file, digest: Sha256::default(), bytes: 0 };
    let encoder = zstd::Encoder::new(hashing, LEVEL).map_err(StoreError::when("write", to))?;
    pack_into(folder, platform, to, encoder, zstd::Encoder::finish)
}

/// Packs a folder without compression: what no registry keeps, and everybody must be able to make again byte for byte,
/// does not depend on a compressor's version.
///
/// # Errors
/// As [`pack`].
pub fn pack_plain(folder: &Path, to: &Path) -> Result<Packed, StoreError> {
    let file = fs::File::create(to).map_err(StoreError::when("write", to))?;
    let hashing = Hashing { inner: file, digest: Sha256::default(), bytes: 0 };
    pack_into(folder, ANY_PLATFORM, to, hashing, Ok)
}

fn pack_into<W: Write>(
    folder: &Path,
    platform: &str,
    to: &Path,
    writer: W,
    finish: impl FnOnce(W) -> io::Result<Hashing>,
) -> Result<Packed, StoreError> {
    let mut files = Vec::new();
    collect(folder, "", &mut files)?;
    files.sort();
    let mut builder = tar::Builder::new(writer);
    let mut listing = Listing::default();
    for (path, on_disk) in &files {
        let entry = append(&mut builder, path, on_disk)?;
        listing.entries.insert(path.clone(), entry);
    }
    let writer = builder.into_inner().map_err(StoreError::when("write", to))?;
    let hashing = finish(writer).map_err(StoreError::when("write", to))?;
    hashing.inner.sync_all().map_err(StoreError::when("write", to))?;
    let artifact = Artifact {
        platform: platform.to_owned(),
        digest: ArchiveDigest::new(hashing.digest.finish()),
        size: hashing.bytes,
        tree: listing.digest(),
    };
    Ok(Packed { artifact, listing })
}

fn collect(folder: &Path, prefix: &str, files: &mut Vec<(String, PathBuf)>) -> Result<(), StoreError> {
    let entries = fs::read_dir(folder).map_err(StoreError::when("read the folder", folder))?;
    for entry in entries {
        let entry = entry.map_err(StoreError::when("read the folder", folder))?;
        let on_disk = entry.path();
        let refuse = |reason: &str| StoreError {
            doing: "pack",
            path: on_disk.clone(),
            cause: io::Error::new(io::ErrorKind::InvalidData, reason.to_owned()),
        };
        let name = entry.file_name();
        let name = name.to_str().ok_or_else(|| refuse("its name is not UTF-8"))?;
        if LEFT_OUT.contains(&name) {
            continue;
        }
        let path = if prefix.is_empty() { name.to_owned() } else { format!("{prefix}/{name}") };
        let kind = entry.file_type().map_err(StoreError::when("read", &on_disk))?;
        if kind.is_dir() {
            collect(&on_disk, &path, files)?;
        } else if kind.is_file() || kind.is_symlink() {
            check_entry_path(&path).map_err(refuse)?;
            files.push((path, on_disk));
        } else {
            return Err(refuse("it is neither a file nor a folder nor a link"));
        }
    }
    Ok(())
}

fn append<W: Write>(builder: &mut tar::Builder<W>, path: &str, on_disk: &Path) -> Result<Entry, StoreError> {
    let failed = |cause| StoreError { doing: "pack", path: on_disk.to_owned(), cause };
    let metadata = fs::symlink_metadata(on_disk).map_err(failed)?;
    let mut header = tar::Header::new_gnu();
    header.set_mtime(FIXED_TIME);
    header.set_uid(0);
    header.set_gid(0);
    if metadata.is_symlink() {
        let target = fs::read_link(on_disk).map_err(failed)?;
        let target = target.to_str().filter(|target| link_stays_inside(path, target)).ok_or_else(|| {
            failed(io::Error::new(io::ErrorKind::InvalidData, "it is a link that points out of the package"))
        })?;
        header.set_entry_type(tar::EntryType::Symlink);
        header.set_mode(0o777);
        header.set_size(0);
        builder.append_link(&mut header, path, target).map_err(failed)?;
        let digest = ContentDigest::of(target.as_bytes());
        return Ok(Entry { kind: EntryKind::Link, digest, size: target.len() as u64 });
    }
    let content = fs::read(on_disk).map_err(failed)?;
    let program = metadata.permissions().mode() & 0o100 != 0;
    header.set_entry_type(tar::EntryType::Regular);
    header.set_mode(if program { 0o755 } else { 0o644 });
    header.set_size(content.len() as u64);
    builder.append_data(&mut header, path, content.as_slice()).map_err(failed)?;
    let kind = if program { EntryKind::Program } else { EntryKind::File };
    Ok(Entry { kind, digest: ContentDigest::of(&content), size: content.len() as u64 })
}

struct Hashing {
    inner: fs::File,
    digest: Sha256,
    bytes: u64,
}

impl Write for Hashing {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        let written = self.inner.write(buffer)?;
        self.digest.update(&buffer[..written]);
        self.bytes += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}
