//! Unpacking an archive that nobody vouches for yet: every entry is checked before anything of it is written, and what
//! is written is digested on the way. Carries out docs/formats.md §5.
//!
//! We walk the entries ourselves: a library's own unpacking follows its own rules for links, modes and times. Nothing
//! is ever written through a link, because a path below a link is refused. The formats differ only in how entries are
//! told; the rules are the same for all and stand here.

mod tape;
mod zipped;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use unicode_normalization::UnicodeNormalization;
use yostel_core::{ContentDigest, Sha256};

use crate::disk::Disk;
use crate::error::{AdmitError, StoreError, UnpackRefusal};
use crate::pack::FIXED_TIME;
use yostel_core::{Entry, EntryKind, Listing, check_entry_path, link_stays_inside};

/// Limits on what an archive may unpack to.
#[derive(Debug, Clone, Copy)]
pub struct UnpackConfig {
    /// Bytes of all files together. Default: 8 GiB.
    pub bytes: u64,
    /// Files and links. Default: 1,000,000. It bounds the memory of an unpacking too: some hundred bytes for each.
    pub entries: u64,
    /// Window of the decompressor, as a power of two, which bounds its memory. Default: 27 (128 MiB).
    pub window_log: u32,
    /// Bytes of files for each byte of the archive, beyond the first 64 MiB. Default: 1,000, ten times what the most
    /// repetitive of real files reach.
    pub growth: u64,
}

/// Longest target of a link, in bytes: as long as a path may be.
const MOST_TARGET: u64 = 1024;

/// What any archive may unpack to, however small it is.
const UNSUSPICIOUS: u64 = 64 << 20;

impl Default for UnpackConfig {
    fn default() -> Self {
        Self { bytes: 8 << 30, entries: 1_000_000, window_log: 27, growth: 1000 }
    }
}

/// Unpacks a `.tar.zst`, `.tar.gz`, `.tar` or `.zip`, told apart by its first bytes, into an empty folder and returns what is in it.
///
/// Files are read-only, programs executable; times are fixed; owners, set-uid and the like are dropped.
///
/// # Errors
/// `Refused` for an archive that breaks a rule, `Store` when the folder cannot be written. The folder then holds a part
/// that the caller removes.
pub fn unpack(archive: impl Read + Seek, into: &Path, config: UnpackConfig) -> Result<Listing, AdmitError> {
    unpack_on(&Disk::default(), archive, into, config, None)
}

pub(crate) fn unpack_on(
    disk: &Disk,
    mut archive: impl Read + Seek,
    into: &Path,
    config: UnpackConfig,
    like: Option<&Like>,
) -> Result<Listing, AdmitError> {
    let size = archive.seek(SeekFrom::End(0)).map_err(malformed)?;
    archive.rewind().map_err(malformed)?;
    let mut head = [0; 262];
    let known = size.min(262) as usize;
    archive.read_exact(&mut head[..known]).map_err(malformed)?;
    archive.rewind().map_err(malformed)?;
    let suspicious = UNSUSPICIOUS.saturating_add(size.saturating_mul(config.growth));
    let mut tree = Tree {
        disk,
        into,
        like,
        entries: config.entries,
        bytes: config.bytes.min(suspicious),
        left: config.bytes.min(suspicious),
        listing: Listing::default(),
        folded: BTreeMap::new(),
        folders: BTreeSet::new(),
    };
    match head {
        [0x28, 0xb5, 0x2f, 0xfd, ..] => {
            let mut decoder = zstd::Decoder::new(archive).map_err(malformed)?;
            decoder.window_log_max(config.window_log).map_err(malformed)?;
            tape::unpack(decoder, &mut tree)?;
        }
        [0x1f, 0x8b, ..] => tape::unpack(flate2::read::MultiGzDecoder::new(archive), &mut tree)?,
        [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => zipped::unpack(archive, size, &mut tree)?,
        // Not compressed: POSIX has this word in the head of each entry.
        [.., b'u', b's', b't', b'a', b'r'] => tape::unpack(archive, &mut tree)?,
        _ => return Err(refused(UnpackRefusal::UnknownFormat)),
    }
    Ok(tree.listing)
}

fn malformed(error: io::Error) -> AdmitError {
    refused(UnpackRefusal::Malformed(error.to_string()))
}

fn refused(refusal: UnpackRefusal) -> AdmitError {
    AdmitError::Refused(refusal)
}

/// Returns what paths have in common that some file system takes for one: lower case, and Unicode's normal form C.
pub(crate) fn fold(path: &str) -> String {
    if path.is_ascii() {
        path.to_ascii_lowercase()
    } else {
        path.nfc().collect::<String>().to_lowercase().nfc().collect()
    }
}

/// What an entry says it is.
enum Kind {
    Folder,
    File {
        program: bool,
    },
    Link,
    /// What no package may hold, in words.
    Other(&'static str),
}

/// A tree that the one being made probably has files in common with: another release of the same package.
pub(crate) struct Like {
    /// The folder with its files.
    pub(crate) files: PathBuf,
    /// What they should be.
    pub(crate) listing: Listing,
}

/// Longer files are not shared: they would have to be held in memory, or written before it is known that they need not be.
const MOST_SHARED: u64 = 1 << 20;

impl Like {
    /// Returns where a file lies that may be the one that comes.
    fn candidate(&self, path: &str, kind: EntryKind, size: u64) -> Option<(PathBuf, &Entry)> {
        let entry = self.listing.entries.get(path)?;
        let fits = entry.kind == kind && entry.size == size && size <= MOST_SHARED;
        fits.then(|| (self.files.join(path), entry))
    }
}

/// Tells whether a file there is one that we could have written: this content, these permissions, our time.
fn is_same_file(path: &Path, content: &[u8], mode: u32) -> bool {
    let looks = |metadata: fs::Metadata| {
        metadata.is_file()
            && metadata.permissions().mode() & 0o7777 == mode
            && metadata.mtime().cast_unsigned() == FIXED_TIME
            && metadata.mtime_nsec() == 0
    };
    path.symlink_metadata().is_ok_and(looks) && fs::read(path).is_ok_and(|there| there == content)
}

/// The tree that is being made.
struct Tree<'a> {
    disk: &'a Disk,
    into: &'a Path,
    like: Option<&'a Like>,
    entries: u64,
    bytes: u64,
    /// Bytes that files may still take.
    left: u64,
    listing: Listing,
    /// Paths of files, links and their folders, folded, with the spelling that came first.
    folded: BTreeMap<String, String>,
    folders: BTreeSet<String>,
}

impl Tree<'_> {
    /// Takes one entry in. `size` is what the archive says of it; `content` is read to its end.
    fn take(&mut self, raw: &[u8], kind: Kind, size: u64, content: &mut dyn Read) -> Result<(), AdmitError> {
        let shown = String::from_utf8_lossy(raw).escape_debug().to_string();
        let Ok(text) = std::str::from_utf8(raw) else {
            return Err(refused(UnpackRefusal::Name { path: shown, reason: "it is not UTF-8" }));
        };
        let is_folder = matches!(kind, Kind::Folder);
        let path = text.strip_prefix("./").unwrap_or(text);
        let path = if is_folder { path.trim_end_matches('/') } else { path }.to_owned();
        if is_folder && (path.is_empty() || path == ".") {
            return Ok(());
        }
        if text.starts_with('/') || path.split('/').any(|part| part == "..") {
            return Err(refused(UnpackRefusal::Leaves(shown)));
        }
        if let Err(reason) = check_entry_path(&path) {
            return Err(refused(UnpackRefusal::Name { path: shown, reason }));
        }
        if let Kind::Other(kind) = kind {
            return Err(refused(UnpackRefusal::Kind { path: shown, kind }));
        }
        if self.folders.len() + self.listing.entries.len() >= usize::try_from(self.entries).unwrap_or(usize::MAX) {
            return Err(refused(UnpackRefusal::TooMuch { limit: self.entries, unit: "files and folders" }));
        }
        self.make_folders(&path, is_folder)?;
        let written = match kind {
            Kind::Folder | Kind::Other(_) => return Ok(()),
            Kind::Link => self.link(&path, content)?,
            Kind::File { program } => self.file(&path, program, size, content)?,
        };
        self.listing.entries.insert(path, written);
        Ok(())
    }

    /// Claims the path and the folders above it, so that no second entry can mean the same file on any system.
    fn make_folders(&mut self, path: &str, itself: bool) -> Result<(), AdmitError> {
        for (at, _) in path.match_indices('/') {
            self.claim(&path[..at], true, path)?;
        }
        self.claim(path, itself, path)
    }

    fn claim(&mut self, path: &str, folder: bool, whole: &str) -> Result<(), AdmitError> {
        let folded = fold(path);
        match self.folded.get(&folded) {
            Some(first) if folder && first == path && self.folders.contains(path) => return Ok(()),
            Some(first) if folder && first == path => return Err(refused(UnpackRefusal::BelowLink(whole.to_owned()))),
            Some(first) => return Err(refused(UnpackRefusal::Twice(first.clone(), path.to_owned()))),
            None => {}
        }
        self.folded.insert(folded, path.to_owned());
        if folder {
            self.folders.insert(path.to_owned());
            self.disk.make_folder(&self.into.join(path))?;
        }
        Ok(())
    }

    fn link(&mut self, path: &str, content: &mut dyn Read) -> Result<Entry, AdmitError> {
        let mut target = Vec::new();
        content.take(MOST_TARGET + 1).read_to_end(&mut target).map_err(malformed)?;
        if target.len() as u64 > MOST_TARGET {
            let reason = "its target is longer than 1024 bytes";
            return Err(refused(UnpackRefusal::Name { path: path.escape_debug().to_string(), reason }));
        }
        let shown = String::from_utf8_lossy(&target).escape_debug().to_string();
        let target = match std::str::from_utf8(&target) {
            Ok(target) if link_stays_inside(path, target) => target,
            _ => return Err(refused(UnpackRefusal::LinkLeaves { path: path.to_owned(), target: shown })),
        };
        self.disk.symlink(target, &self.into.join(path))?;
        Ok(Entry { kind: EntryKind::Link, digest: ContentDigest::of(target.as_bytes()), size: target.len() as u64 })
    }

    fn file(&mut self, path: &str, program: bool, announced: u64, content: &mut dyn Read) -> Result<Entry, AdmitError> {
        // What is announced is refused before a byte of it is written.
        if announced > self.left {
            return Err(refused(UnpackRefusal::TooMuch { limit: self.bytes, unit: "bytes" }));
        }
        let (kind, mode) = if program { (EntryKind::Program, 0o555) } else { (EntryKind::File, 0o444) };
        let on_disk = self.into.join(path);
        if let Some((there, entry)) = self.like.and_then(|like| like.candidate(path, kind, announced)) {
            return self.shared_file(path, (&there, entry), mode, content);
        }
        let mut file = self.disk.create(&on_disk, mode)?;
        let mut digest = Sha256::default();
        let mut size = 0u64;
        let mut buffer = [0; 64 * 1024];
        loop {
            let n = content.read(&mut buffer).map_err(malformed)?;
            if n == 0 {
                break;
            }
            size += n as u64;
            if size > announced {
                break;
            }
            digest.update(&buffer[..n]);
            file.write_all(&buffer[..n]).map_err(StoreError::when("write", &on_disk))?;
        }
        if size != announced {
            let how = if size < announced { "ends early" } else { "is longer than announced" };
            return Err(refused(UnpackRefusal::Malformed(format!("`{path}` {how}"))));
        }
        self.left -= size;
        file.fix_time()?;
        Ok(Entry { kind, digest: ContentDigest::new(digest.finish()), size })
    }

    /// Takes in a file that another tree may have: then it is the same file in both, and not written at all.
    fn shared_file(
        &mut self,
        path: &str,
        (there, expected): (&Path, &Entry),
        mode: u32,
        content: &mut dyn Read,
    ) -> Result<Entry, AdmitError> {
        let mut bytes = Vec::new();
        content.take(expected.size + 1).read_to_end(&mut bytes).map_err(malformed)?;
        if bytes.len() as u64 != expected.size {
            let how = if (bytes.len() as u64) < expected.size { "ends early" } else { "is longer than announced" };
            return Err(refused(UnpackRefusal::Malformed(format!("`{path}` {how}"))));
        }
        self.left -= expected.size;
        let on_disk = self.into.join(path);
        let entry = Entry { digest: ContentDigest::of(&bytes), ..expected.clone() };
        let shared = entry == *expected && is_same_file(there, &bytes, mode);
        if !shared || self.disk.hard_link(there, &on_disk).is_err() {
            let mut file = self.disk.create(&on_disk, mode)?;
            file.write_all(&bytes).map_err(StoreError::when("write", &on_disk))?;
            file.fix_time()?;
        }
        Ok(entry)
    }
}
