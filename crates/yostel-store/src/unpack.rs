//! Unpacking an archive that nobody vouches for yet: every entry is checked before anything of it is written, and what
//! is written is digested on the way. Carries out docs/formats.md §5.
//!
//! We walk the entries ourselves: a library's own unpacking follows its own rules for links, modes and times. Nothing
//! is ever written through a link, because a path below a link is refused.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, symlink};
use std::path::Path;
use std::time::{Duration, SystemTime};

use yostel_core::{ContentDigest, Sha256};

use crate::error::{AdmitError, StoreError, UnpackRefusal};
use crate::listing::{Entry, EntryKind, Listing, check_entry_path, link_stays_inside};
use crate::pack::FIXED_TIME;

/// Limits on what an archive may unpack to.
#[derive(Debug, Clone, Copy)]
pub struct UnpackConfig {
    /// Bytes of all files together. Default: 8 GiB.
    pub bytes: u64,
    /// Files and links. Default: 1,000,000.
    pub entries: u64,
    /// Window of the decompressor, as a power of two, which bounds its memory. Default: 27 (128 MiB).
    pub window_log: u32,
}

impl Default for UnpackConfig {
    fn default() -> Self {
        Self { bytes: 8 << 30, entries: 1_000_000, window_log: 27 }
    }
}

/// Unpacks a `.tar.zst` into an empty folder and returns what is in it.
///
/// Files are read-only, programs executable; times are fixed; owners, set-uid and the like are dropped.
///
/// # Errors
/// `Refused` for an archive that breaks a rule, `Store` when the folder cannot be written. The folder then holds a part
/// that the caller removes.
pub fn unpack(archive: impl BufRead, into: &Path, config: UnpackConfig) -> Result<Listing, AdmitError> {
    let malformed = |error: io::Error| AdmitError::Refused(UnpackRefusal::Malformed(error.to_string()));
    let mut decoder = zstd::Decoder::with_buffer(archive).map_err(malformed)?;
    decoder.window_log_max(config.window_log).map_err(malformed)?;
    let mut reader = tar::Archive::new(decoder);
    let mut unpacking = Unpacking {
        into,
        config,
        listing: Listing::default(),
        bytes: 0,
        folded: BTreeMap::new(),
        folders: BTreeSet::new(),
    };
    for entry in reader.entries().map_err(malformed)? {
        unpacking.entry(&mut entry.map_err(malformed)?)?;
    }
    // What follows the last entry must be readable to its end, and must be padding.
    let mut decoder = reader.into_inner();
    let mut rest = [0; 8192];
    loop {
        match decoder.read(&mut rest).map_err(malformed)? {
            0 => return Ok(unpacking.listing),
            n if rest[..n].iter().all(|b| *b == 0) => {}
            _ => return Err(AdmitError::Refused(UnpackRefusal::Malformed("data after its end".into()))),
        }
    }
}

struct Unpacking<'a> {
    into: &'a Path,
    config: UnpackConfig,
    listing: Listing,
    bytes: u64,
    /// Paths of files, links and their folders, folded to lower case, with the spelling that came first.
    folded: BTreeMap<String, String>,
    folders: BTreeSet<String>,
}

impl Unpacking<'_> {
    fn entry(&mut self, entry: &mut tar::Entry<'_, impl Read>) -> Result<(), AdmitError> {
        let raw = entry.path_bytes();
        let shown = String::from_utf8_lossy(&raw).escape_debug().to_string();
        let refuse = |refusal| Err(AdmitError::Refused(refusal));
        let Ok(text) = std::str::from_utf8(&raw) else {
            return refuse(UnpackRefusal::Name { path: shown, reason: "it is not UTF-8" });
        };
        let kind = entry.header().entry_type();
        let path = text.strip_prefix("./").unwrap_or(text);
        let path = if kind.is_dir() { path.trim_end_matches('/') } else { path }.to_owned();
        if kind.is_dir() && (path.is_empty() || path == ".") {
            return Ok(());
        }
        if text.starts_with('/') || path.split('/').any(|part| part == "..") {
            return refuse(UnpackRefusal::Leaves(shown));
        }
        if let Err(reason) = check_entry_path(&path) {
            return refuse(UnpackRefusal::Name { path: shown, reason });
        }
        let other = match kind {
            tar::EntryType::Regular
            | tar::EntryType::Continuous
            | tar::EntryType::Symlink
            | tar::EntryType::Directory => None,
            tar::EntryType::Link => Some("a hard link"),
            tar::EntryType::Fifo => Some("a pipe"),
            tar::EntryType::Block | tar::EntryType::Char => Some("a device"),
            tar::EntryType::GNUSparse => Some("a sparse file"),
            _ => Some("of an unknown kind"),
        };
        if let Some(kind) = other {
            return refuse(UnpackRefusal::Kind { path: shown, kind });
        }
        self.make_folders(&path, kind.is_dir())?;
        if kind.is_dir() {
            return Ok(());
        }
        if self.listing.entries.len() as u64 >= self.config.entries {
            return refuse(UnpackRefusal::TooMuch { limit: self.config.entries, unit: "files" });
        }
        let written = if kind == tar::EntryType::Symlink { self.link(entry, &path)? } else { self.file(entry, &path)? };
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
        let refuse = |refusal| Err(AdmitError::Refused(refusal));
        match self.folded.get(&path.to_lowercase()) {
            Some(first) if folder && first == path && self.folders.contains(path) => return Ok(()),
            Some(first) if folder && first == path => return refuse(UnpackRefusal::BelowLink(whole.to_owned())),
            Some(first) => return refuse(UnpackRefusal::Twice(first.clone(), path.to_owned())),
            None => {}
        }
        self.folded.insert(path.to_lowercase(), path.to_owned());
        if folder {
            self.folders.insert(path.to_owned());
            let on_disk = self.into.join(path);
            fs::create_dir(&on_disk).map_err(StoreError::when("make the folder", on_disk))?;
        }
        Ok(())
    }

    fn link(&mut self, entry: &tar::Entry<'_, impl Read>, path: &str) -> Result<Entry, AdmitError> {
        let target = entry.link_name_bytes().unwrap_or_default();
        let shown = String::from_utf8_lossy(&target).escape_debug().to_string();
        let target = match std::str::from_utf8(&target) {
            Ok(target) if link_stays_inside(path, target) => target,
            _ => return Err(AdmitError::Refused(UnpackRefusal::LinkLeaves { path: path.to_owned(), target: shown })),
        };
        let on_disk = self.into.join(path);
        symlink(target, &on_disk).map_err(StoreError::when("make the link", on_disk))?;
        Ok(Entry { kind: EntryKind::Link, digest: ContentDigest::of(target.as_bytes()), size: target.len() as u64 })
    }

    fn file(&mut self, entry: &mut tar::Entry<'_, impl Read>, path: &str) -> Result<Entry, AdmitError> {
        let mode = entry.header().mode().unwrap_or(0o644);
        let (kind, mode) = if mode & 0o100 != 0 { (EntryKind::Program, 0o555) } else { (EntryKind::File, 0o444) };
        let on_disk = self.into.join(path);
        let mut file = OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(mode)
            .open(&on_disk)
            .map_err(StoreError::when("write", &on_disk))?;
        let announced = entry.size();
        let mut digest = Sha256::default();
        let mut size = 0u64;
        let mut buffer = [0; 64 * 1024];
        loop {
            let n =
                entry.read(&mut buffer).map_err(|e| AdmitError::Refused(UnpackRefusal::Malformed(e.to_string())))?;
            if n == 0 {
                break;
            }
            size += n as u64;
            self.bytes += n as u64;
            if self.bytes > self.config.bytes {
                let limit = self.config.bytes;
                return Err(AdmitError::Refused(UnpackRefusal::TooMuch { limit, unit: "bytes" }));
            }
            digest.update(&buffer[..n]);
            file.write_all(&buffer[..n]).map_err(StoreError::when("write", &on_disk))?;
        }
        if size != announced {
            return Err(AdmitError::Refused(UnpackRefusal::Malformed(format!("`{path}` ends early"))));
        }
        fix_time(&file).map_err(StoreError::when("write", &on_disk))?;
        Ok(Entry { kind, digest: ContentDigest::new(digest.finish()), size })
    }
}

pub(crate) fn fix_time(file: &File) -> io::Result<()> {
    file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(FIXED_TIME))
}
