//! Unpacking an archive that nobody vouches for yet: every entry is checked before anything of it is written, and what
//! is written is digested on the way. Carries out docs/formats.md §5.
//!
//! We walk the entries ourselves: a library's own unpacking follows its own rules for links, modes and times. Nothing
//! is ever written through a link, because a path below a link is refused and the folder is reached through none. Where
//! links lead is judged once all are known ([`check_links`]). The formats differ only in how entries are told; the rules
//! are the same for all and stand here.
//!
//! Work and memory are bounded before they are spent: by what the archive unpacks to in all, headers and padding
//! included ([`Metered`]), by the number of entries it tells of, whether or not they make anything, and by the bytes of
//! all their paths.

mod directory;
mod tape;
mod zipped;

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom, Write};

use yostel_documents::{
    ArchiveFormat, ContentDigest, Entry, EntryKind, LinkFault, Listing, Sha256, check_entry_path, check_links, fold,
};
use yostel_files::{Disk, Folder, Kind as OnDisk, Nearby};

use crate::error::{AdmitError, UnpackRefusal};
use crate::pack::{FIXED_TIME, MOST_TARGET, fixed_time};

/// Limits on what an archive may unpack to.
#[derive(Debug, Clone, Copy)]
pub struct UnpackConfig {
    /// Bytes of all files together. Default: 8 GiB.
    pub bytes: u64,
    /// Entries of any kind. Default: 200,000. It bounds the memory of an unpacking: some 200 bytes for each, and its path.
    pub entries: u64,
    /// Bytes of all paths together. Default: 16 MiB.
    pub path_bytes: u64,
    /// Window of the decompressor, as a power of two, which bounds its memory. Default: 25 (32 MiB).
    pub window_log: u32,
    /// Bytes unpacked for each byte of the archive, beyond the first 16 MiB. Default: 1,000, ten times what the most
    /// repetitive of real files reach.
    pub growth: u64,
}

/// What any archive may unpack to, however small it is.
const UNSUSPICIOUS: u64 = 16 << 20;

/// Entries that any archive may have, however small it is; beyond, each takes 16 bytes of the archive at least.
const FEW_ENTRIES: u64 = 20_000;

/// Entries at which an archive is looked at to its end before more of them are written.
const MANY_ENTRIES: u64 = 2_000;

impl Default for UnpackConfig {
    fn default() -> Self {
        Self { bytes: 8 << 30, entries: 200_000, path_bytes: 16 << 20, window_log: 25, growth: 1000 }
    }
}

/// Unpacks a `.tar.zst`, `.tar.gz`, `.tar` or `.zip`, told apart by its first bytes, into an empty folder and returns what is in it.
///
/// Files are read-only, programs executable; times are fixed; owners, set-uid and the like are dropped.
///
/// # Errors
/// `Refused` for an archive that breaks a rule, `Store` when the folder cannot be written. The folder then holds a part
/// that the caller removes.
pub fn unpack(archive: &[u8], into: &std::path::Path, config: UnpackConfig) -> Result<Listing, AdmitError> {
    unpack_into(|| Ok(io::Cursor::new(archive)), &Folder::open_on(&Disk::default(), into)?, config, None)
}

/// Like [`unpack`], into a folder that is held, and sharing files with the tree `like`.
///
/// `open` opens the archive; one with many entries is opened twice, and looked at to its end before most of them are
/// written.
pub(crate) fn unpack_into<R: Read + Seek>(
    open: impl Fn() -> Result<R, AdmitError>,
    into: &Folder,
    config: UnpackConfig,
    like: Option<Like>,
) -> Result<Listing, AdmitError> {
    let mut archive = open()?;
    let size = archive.seek(SeekFrom::End(0)).map_err(malformed)?;
    archive.rewind().map_err(malformed)?;
    let mut head = Vec::with_capacity(ArchiveFormat::TELLING);
    archive.by_ref().take(ArchiveFormat::TELLING as u64).read_to_end(&mut head).map_err(malformed)?;
    archive.rewind().map_err(malformed)?;
    let bytes = config.bytes.min(UNSUSPICIOUS.saturating_add(size.saturating_mul(config.growth)));
    let limits = UnpackConfig { bytes, entries: config.entries.min(FEW_ENTRIES + size / 16), ..config };
    let format = ArchiveFormat::of(&head).ok_or_else(|| refused(UnpackRefusal::UnknownFormat))?;
    let judge = || {
        let mut tree = Tree { looks_only: true, ..Tree::new(into, limits) };
        read(&mut open()?, format, size, &mut tree)?;
        tree.finish().map(drop)
    };
    let mut tree = Tree { like, unjudged: Some(Box::new(judge)), ..Tree::new(into, limits) };
    read(&mut archive, format, size, &mut tree)?;
    tree.finish()
}

/// Reads an archive of this format into a tree.
fn read(
    archive: &mut (impl Read + Seek),
    format: ArchiveFormat,
    size: u64,
    tree: &mut Tree<'_>,
) -> Result<(), AdmitError> {
    match format {
        ArchiveFormat::Zstandard => {
            let mut decoder = zstd::Decoder::new(archive).map_err(malformed)?;
            decoder.window_log_max(tree.limits.window_log).map_err(malformed)?;
            tape::unpack(Metered::new(decoder, tree), tree)
        }
        ArchiveFormat::Gzip => tape::unpack(Metered::new(flate2::read::MultiGzDecoder::new(archive), tree), tree),
        ArchiveFormat::Zip => zipped::unpack(archive, size, tree),
        ArchiveFormat::Tar => tape::unpack(Metered::new(archive, tree), tree),
    }
}

fn malformed(error: io::Error) -> AdmitError {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<UnpackRefusal>()) {
        Some(refusal) => refused(refusal.clone()),
        None => refused(UnpackRefusal::Malformed(error.to_string())),
    }
}

fn refused(refusal: UnpackRefusal) -> AdmitError {
    AdmitError::Refused(refusal)
}

/// Counts what comes out of a decompressor, headers and padding too, and ends with a refusal at the limit.
struct Metered<R> {
    inner: R,
    limit: u64,
    left: u64,
}

impl<R> Metered<R> {
    fn new(inner: R, tree: &Tree<'_>) -> Self {
        // A header, a long name and padding for each entry come on top of what files hold.
        let limit = tree.limits.bytes.saturating_add(tree.limits.entries.saturating_mul(4096));
        let limit = if tree.limits.bytes < UnpackConfig::default().bytes { tree.limits.bytes } else { limit };
        Self { inner, limit, left: limit }
    }
}

impl<R: Read> Read for Metered<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        match self.left.checked_sub(n as u64) {
            Some(left) => self.left = left,
            None => return Err(io::Error::other(UnpackRefusal::TooMuch { limit: self.limit, unit: "bytes" })),
        }
        Ok(n)
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
    /// Its files.
    pub(crate) files: Nearby,
    /// What they should be.
    pub(crate) listing: Listing,
}

/// Longer files are not shared: they would have to be held in memory, or written before it is known that they need not be.
const MOST_SHARED: u64 = 1 << 20;

impl Like {
    /// Returns what a file there should be that may be the one that comes.
    fn candidate(&self, path: &str, kind: EntryKind, size: u64) -> Option<Entry> {
        let entry = self.listing.entries.get(path)?;
        let fits = entry.kind == kind && entry.size == size && size <= MOST_SHARED;
        fits.then(|| entry.clone())
    }
}

/// Tells whether a file there is one that we could have written: this content, these permissions, our time.
fn is_same_file(folder: &Folder, name: &str, content: &[u8], mode: u32) -> bool {
    let looks = folder.meta(name).is_ok_and(|meta| {
        meta.kind == OnDisk::File
            && meta.mode & 0o7777 == mode
            && meta.modified.cast_unsigned() == FIXED_TIME
            && meta.modified_nanos == 0
    });
    looks && folder.read(name, content.len() as u64).is_ok_and(|there| there == content)
}

/// The tree that is being made.
struct Tree<'a> {
    nearby: Nearby,
    /// Whether nothing is written, and no content read.
    looks_only: bool,
    /// Judges the whole archive, which is done once it turns out to have many entries.
    unjudged: Option<Box<dyn FnOnce() -> Result<(), AdmitError> + 'a>>,
    like: Option<Like>,
    limits: UnpackConfig,
    /// What is left of the limits.
    left: UnpackConfig,
    listing: Listing,
    /// Targets of the links, by path.
    targets: BTreeMap<String, String>,
    /// Paths of files, links and folders, folded, with what came first there.
    claims: BTreeMap<String, Claim>,
}

/// What is at a path.
struct Claim {
    is_folder: bool,
    /// How it was written, where that is not how it is folded.
    spelling: Option<String>,
}

impl Tree<'_> {
    fn new(into: &Folder, limits: UnpackConfig) -> Self {
        Self {
            nearby: Nearby::new(into.clone()),
            looks_only: false,
            unjudged: None,
            like: None,
            limits,
            left: limits,
            listing: Listing::default(),
            targets: BTreeMap::new(),
            claims: BTreeMap::new(),
        }
    }

    /// Counts one entry of the archive, whatever comes of it.
    fn count(&mut self) -> Result<(), AdmitError> {
        match self.left.entries.checked_sub(1) {
            Some(left) => self.left.entries = left,
            None => {
                let limit = self.limits.entries;
                return Err(refused(UnpackRefusal::TooMuch { limit, unit: "files and folders" }));
            }
        }
        match self.unjudged.take_if(|_| self.limits.entries - self.left.entries == MANY_ENTRIES) {
            Some(judge) => judge(),
            None => Ok(()),
        }
    }

    /// Takes one entry in. `size` is what the archive says of it; `content` is read to its end.
    fn take(&mut self, raw: &[u8], kind: Kind, size: u64, content: &mut dyn Read) -> Result<(), AdmitError> {
        self.count()?;
        if raw.len() > 1024 + 2 {
            let path = format!("{}…", String::from_utf8_lossy(&raw[..64]).escape_debug());
            return Err(refused(UnpackRefusal::Name { path, reason: "it is longer than 1024 bytes" }));
        }
        let shown = String::from_utf8_lossy(raw).escape_debug().to_string();
        let Ok(text) = std::str::from_utf8(raw) else {
            return Err(refused(UnpackRefusal::Name { path: shown, reason: "it is not UTF-8" }));
        };
        let is_folder = matches!(kind, Kind::Folder);
        let path = text.strip_prefix("./").unwrap_or(text);
        let path = if is_folder { path.trim_end_matches('/') } else { path }.to_owned();
        if is_folder && size > 0 {
            return Err(refused(UnpackRefusal::Malformed(format!("the folder `{shown}` has content"))));
        }
        if is_folder && (path.is_empty() || path == ".") && !text.starts_with('/') {
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
        for (at, _) in path.match_indices('/') {
            self.claim(&path[..at], true, &path)?;
        }
        self.claim(&path, is_folder, &path)?;
        let written = match kind {
            // A folder is made once something is in it: listings have none that are empty.
            Kind::Folder | Kind::Other(_) => return Ok(()),
            Kind::Link => self.link(&path, content)?,
            Kind::File { program } => self.file(&path, program, size, content)?,
        };
        self.listing.entries.insert(path, written);
        Ok(())
    }

    /// Claims a path, so that no second entry can mean the same file on any system.
    fn claim(&mut self, path: &str, is_folder: bool, whole: &str) -> Result<(), AdmitError> {
        let folded = fold(path);
        match self.claims.get(&folded) {
            Some(first) => {
                let spelling = first.spelling.as_deref().unwrap_or(&folded);
                return match spelling == path && is_folder {
                    true if first.is_folder => Ok(()),
                    true => Err(refused(UnpackRefusal::BelowLink(whole.to_owned()))),
                    false => Err(refused(UnpackRefusal::Twice(spelling.to_owned(), path.to_owned()))),
                };
            }
            None if is_folder && path != whole => self.count()?,
            None => {}
        }
        match self.left.path_bytes.checked_sub(path.len() as u64) {
            Some(left) => self.left.path_bytes = left,
            None => {
                let limit = self.limits.path_bytes;
                return Err(refused(UnpackRefusal::TooMuch { limit, unit: "bytes of paths" }));
            }
        }
        let spelling = (folded != path).then(|| path.to_owned());
        self.claims.insert(folded, Claim { is_folder, spelling });
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
        let unfit = |fault| refused(UnpackRefusal::Link { path: path.to_owned(), target: shown.clone(), fault });
        let Ok(target) = String::from_utf8(target) else { return Err(unfit(LinkFault::Target)) };
        // Where it leads by itself can be told at once; what other links make of it, at the end.
        check_links([(path, Some(target.as_str()))]).map_err(|(_, fault)| unfit(fault))?;
        match self.left.path_bytes.checked_sub(target.len() as u64) {
            Some(left) => self.left.path_bytes = left,
            None => {
                let limit = self.limits.path_bytes;
                return Err(refused(UnpackRefusal::TooMuch { limit, unit: "bytes of paths" }));
            }
        }
        if !self.looks_only {
            let (folder, name) = self.nearby.made_for(path)?;
            folder.symlink(&target, name)?;
        }
        let entry =
            Entry { kind: EntryKind::Link, digest: ContentDigest::of(target.as_bytes()), size: target.len() as u64 };
        self.targets.insert(path.to_owned(), target);
        Ok(entry)
    }

    fn file(&mut self, path: &str, program: bool, announced: u64, content: &mut dyn Read) -> Result<Entry, AdmitError> {
        // What is announced is refused before a byte of it is written.
        let Some(left) = self.left.bytes.checked_sub(announced) else {
            return Err(refused(UnpackRefusal::TooMuch { limit: self.limits.bytes, unit: "bytes" }));
        };
        self.left.bytes = left;
        let (kind, mode) = if program { (EntryKind::Program, 0o555) } else { (EntryKind::File, 0o444) };
        if self.looks_only {
            return Ok(Entry { kind, digest: ContentDigest::of(b""), size: announced });
        }
        if let Some(expected) = self.like.as_ref().and_then(|like| like.candidate(path, kind, announced)) {
            return self.shared_file(path, &expected, mode, content);
        }
        let (folder, name) = self.nearby.made_for(path)?;
        let mut file = folder.create(name, mode)?;
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
            file.write_all(&buffer[..n]).map_err(|cause| file.failed(cause))?;
        }
        if size != announced {
            return Err(other_length(path));
        }
        file.set_time(fixed_time())?;
        Ok(Entry { kind, digest: ContentDigest::new(digest.finish()), size })
    }

    /// Takes in a file that another tree may have: then it is the same file in both, and not written at all.
    fn shared_file(
        &mut self,
        path: &str,
        expected: &Entry,
        mode: u32,
        content: &mut dyn Read,
    ) -> Result<Entry, AdmitError> {
        let mut bytes = Vec::new();
        content.take(expected.size + 1).read_to_end(&mut bytes).map_err(malformed)?;
        if bytes.len() as u64 != expected.size {
            return Err(other_length(path));
        }
        let entry = Entry { digest: ContentDigest::of(&bytes), ..expected.clone() };
        let (folder, name) = self.nearby.made_for(path)?;
        if entry == *expected
            && let Some(like) = &mut self.like
            && let Ok((there, _)) = like.files.of(path)
            && is_same_file(there, name, &bytes, mode)
            && there.hard_link(name, folder, name).is_ok()
        {
            return Ok(entry);
        }
        let mut file = folder.create(name, mode)?;
        file.write_all(&bytes).map_err(|cause| file.failed(cause))?;
        file.set_time(fixed_time())?;
        Ok(entry)
    }

    /// Judges what only the whole tree tells: where its links lead.
    fn finish(self) -> Result<Listing, AdmitError> {
        if !self.targets.is_empty() {
            let target = |path: &String| self.targets.get(path).map(String::as_str);
            let nodes = self.listing.entries.keys().map(|path| (path.as_str(), target(path)));
            check_links(nodes).map_err(|(path, fault)| {
                let target = self.targets.get(path).map(|target| target.escape_debug().to_string());
                refused(UnpackRefusal::Link { path: path.to_owned(), target: target.unwrap_or_default(), fault })
            })?;
        }
        Ok(self.listing)
    }
}

fn other_length(path: &str) -> AdmitError {
    refused(UnpackRefusal::Malformed(format!("`{path}` has another length than was announced")))
}
