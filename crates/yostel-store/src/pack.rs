//! Packing files into an archive: the same files give the same bytes, whatever their times, owners and order on disk.
//! Carries out docs/formats.md §5.

use std::fs::File;
use std::io::{self, Read, Write};
use std::time::{Duration, SystemTime};

use yostel_documents::{
    ANY_PLATFORM, ArchiveDigest, Artifact, ContentDigest, Entry, EntryKind, Listing, Sha256, check_entry_path,
    check_links,
};
use yostel_files::{FileError, Folder, Kind, Nearby, NewFile, is_unfinished};

/// Modification time of every packed and installed file: 1980-01-02, which every archive format can say.
pub(crate) const FIXED_TIME: u64 = 315_619_200;

/// Returns the modification time of every packed and installed file.
pub(crate) fn fixed_time() -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(FIXED_TIME)
}

/// Compression level. Measured on source text, levels above cost far more time than they save bytes.
const LEVEL: i32 = 9;

/// Names that are never packed: the tool's own, and version control's.
const LEFT_OUT: [&str; 7] = [".yostel", "yostel.lock", ".git", ".hg", ".svn", ".bzr", ".jj"];

/// Longest target of a link, in bytes: as long as a path may be.
pub(crate) const MOST_TARGET: u64 = 1024;

/// What was packed.
#[derive(Debug)]
pub struct Packed {
    /// Digests and size, for the platform given.
    pub artifact: Artifact,
    /// What is inside.
    pub listing: Listing,
}

/// Why files were not packed.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// No package may hold this.
    #[error("`{path}` cannot be packed: {reason}")]
    Unfit {
        /// Its path in the package.
        path: String,
        /// Why.
        reason: String,
    },
    /// Something could not be read or written.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Files that are to be packed, wherever they come from.
pub trait Contents {
    /// Lists them: paths, kinds and sizes in bytes (of a link, of its target).
    ///
    /// # Errors
    /// When they cannot be listed, or no package may hold one.
    fn list(&mut self) -> Result<Vec<(String, EntryKind, u64)>, PackError>;

    /// Opens the content of one of them; of a link, its target.
    ///
    /// # Errors
    /// When it cannot be read.
    fn open(&mut self, at: usize) -> Result<Box<dyn Read + '_>, FileError>;
}

/// What whoever packs a folder has a say in.
pub trait Picking {
    /// Tells whether a file is left out, or a folder and all in it, by its path from the packed folder; nothing is by default.
    fn leaves_out(&self, _path: &str) -> bool {
        false
    }

    /// Is shown what is packed of a file, piece by piece.
    fn see(&mut self, _path: &str, _piece: &[u8]) {}
}

/// Packs all there is.
#[derive(Debug, Clone, Copy)]
pub struct PickAll;

impl Picking for PickAll {}

/// Tells whether a path has a part that is never packed.
pub fn is_left_out(path: &str) -> bool {
    path.split('/').any(|name| LEFT_OUT.contains(&name) || is_unfinished(name.as_ref()))
}

/// Packs a folder into the file `to`, compressed. Without a file it is only told what would come of it.
///
/// # Errors
/// `Unfit` for what is neither file nor link nor folder, has a name that not every system can hold, or is a link out of
/// the folder; `File` when something cannot be read or written.
pub fn pack(
    folder: &Folder,
    picking: &mut dyn Picking,
    platform: &str,
    to: Option<NewFile>,
) -> Result<Packed, PackError> {
    let hashing = Hashing { inner: to, digest: Sha256::default(), bytes: 0 };
    let encoder = zstd::Encoder::new(hashing, LEVEL).expect("that level is one the library has");
    pack_into(&mut OnDisk::of(folder, picking), platform, encoder, zstd::Encoder::finish)
}

/// Packs files without compression: what no registry keeps, and everybody must be able to make again byte for byte, does
/// not depend on a compressor's version.
///
/// # Errors
/// As [`pack`].
pub fn pack_plain(contents: &mut dyn Contents, to: NewFile) -> Result<Packed, PackError> {
    let hashing = Hashing { inner: Some(to), digest: Sha256::default(), bytes: 0 };
    pack_into(contents, ANY_PLATFORM, hashing, Ok)
}

fn pack_into<W: Write>(
    contents: &mut dyn Contents,
    platform: &str,
    writer: W,
    finish: impl FnOnce(W) -> io::Result<Hashing>,
) -> Result<Packed, PackError> {
    let files = contents.list()?;
    for (path, _, _) in &files {
        check_entry_path(path).map_err(|reason| unfit(path, reason))?;
    }
    let mut order: Vec<usize> = (0..files.len()).collect();
    order.sort_by(|a, b| files[*a].0.cmp(&files[*b].0));
    let unwritten = |cause| FileError { doing: "write", path: "the archive".into(), cause };
    let mut builder = tar::Builder::new(writer);
    let mut listing = Listing::default();
    let mut targets: Vec<(&str, Option<String>)> = Vec::new();
    for at in order {
        let (path, kind, size) = &files[at];
        let mut content = contents.open(at)?;
        let (entry, target) = match kind {
            EntryKind::Link => {
                let mut target = Vec::new();
                content
                    .take(MOST_TARGET + 1)
                    .read_to_end(&mut target)
                    .map_err(FileError::when("read the link", path))?;
                let target = String::from_utf8(target).map_err(|_| unfit(path, "its target is not UTF-8"))?;
                if target.len() as u64 > MOST_TARGET {
                    return Err(unfit(path, "its target is longer than 1024 bytes"));
                }
                (append_link(&mut builder, path, &target).map_err(unwritten)?, Some(target))
            }
            kind => (append_file(&mut builder, path, *kind, *size, &mut *content).map_err(unwritten)?, None),
        };
        targets.push((path, target));
        listing.entries.insert(path.clone(), entry);
    }
    check_links(targets.iter().map(|(path, target)| (*path, target.as_deref())))
        .map_err(|(path, fault)| unfit(path, format!("it is a link that {}", fault.as_str())))?;
    let hashing = builder.into_inner().and_then(finish).map_err(unwritten)?;
    if let Some(file) = &hashing.inner {
        file.sync()?;
    }
    let artifact = Artifact {
        platform: platform.to_owned(),
        digest: ArchiveDigest::new(hashing.digest.finish()),
        size: hashing.bytes,
        tree: listing.digest(),
    };
    Ok(Packed { artifact, listing })
}

fn unfit(path: &str, reason: impl Into<String>) -> PackError {
    PackError::Unfit { path: path.escape_debug().to_string(), reason: reason.into() }
}

fn append_link<W: Write>(builder: &mut tar::Builder<W>, path: &str, target: &str) -> io::Result<Entry> {
    let mut header = header();
    header.set_entry_type(tar::EntryType::Symlink);
    header.set_mode(0o777);
    header.set_size(0);
    builder.append_link(&mut header, path, target)?;
    let digest = ContentDigest::of(target.as_bytes());
    Ok(Entry { kind: EntryKind::Link, digest, size: target.len() as u64 })
}

fn append_file<W: Write>(
    builder: &mut tar::Builder<W>,
    path: &str,
    kind: EntryKind,
    size: u64,
    content: &mut dyn Read,
) -> io::Result<Entry> {
    let mut header = header();
    header.set_entry_type(tar::EntryType::Regular);
    header.set_mode(if kind == EntryKind::Program { 0o755 } else { 0o644 });
    header.set_size(size);
    let mut exact = Exact { inner: content, left: size, digest: Sha256::default() };
    builder.append_data(&mut header, path, &mut exact)?;
    Ok(Entry { kind, digest: ContentDigest::new(exact.digest.finish()), size })
}

fn header() -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_mtime(FIXED_TIME);
    header.set_uid(0);
    header.set_gid(0);
    header
}

/// Reads just as many bytes as were announced, and digests them: a file that grows or shrinks meanwhile is an error.
struct Exact<'a> {
    inner: &'a mut dyn Read,
    left: u64,
    digest: Sha256,
}

impl Read for Exact<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let changed = || io::Error::other("a file changed while it was packed");
        if self.left == 0 {
            return if self.inner.read(&mut [0])? == 0 { Ok(0) } else { Err(changed()) };
        }
        let most = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let n = self.inner.read(&mut buffer[..most])?;
        if n == 0 && most > 0 {
            return Err(changed());
        }
        self.left -= n as u64;
        self.digest.update(&buffer[..n]);
        Ok(n)
    }
}

/// The files of a folder.
struct OnDisk<'f> {
    folder: &'f Folder,
    picking: &'f mut dyn Picking,
    nearby: Nearby,
    files: Vec<(String, EntryKind)>,
}

impl<'f> OnDisk<'f> {
    fn of(folder: &'f Folder, picking: &'f mut dyn Picking) -> Self {
        Self { folder, picking, nearby: Nearby::new(folder.clone()), files: Vec::new() }
    }
}

impl Contents for OnDisk<'_> {
    fn list(&mut self) -> Result<Vec<(String, EntryKind, u64)>, PackError> {
        let mut files = Vec::new();
        let mut open = vec![String::new()];
        while let Some(at) = open.pop() {
            let folder = if at.is_empty() { self.folder.clone() } else { self.folder.folder(&at)? };
            for entry in folder.entries()? {
                let shown = folder.path_of(&entry.name);
                let Some(name) = entry.name.to_str() else {
                    return Err(unfit(&shown.to_string_lossy(), "its name is not UTF-8"));
                };
                if is_left_out(name) {
                    continue;
                }
                let path = if at.is_empty() { name.to_owned() } else { format!("{at}/{name}") };
                if self.picking.leaves_out(&path) {
                    continue;
                }
                let meta = folder.meta(&entry.name)?;
                let kind = match meta.kind {
                    Kind::Folder => {
                        // Before it is entered: what is deeper has a longer path.
                        check_entry_path(&path).map_err(|reason| unfit(&path, reason))?;
                        open.push(path);
                        continue;
                    }
                    Kind::Link => EntryKind::Link,
                    Kind::File if meta.is_program() => EntryKind::Program,
                    Kind::File => EntryKind::File,
                    Kind::Other => return Err(unfit(&path, "it is neither a file nor a folder nor a link")),
                };
                self.files.push((path.clone(), kind));
                files.push((path, kind, meta.size));
            }
        }
        Ok(files)
    }

    fn open(&mut self, at: usize) -> Result<Box<dyn Read + '_>, FileError> {
        use std::os::unix::ffi::OsStringExt;
        let (path, kind) = &self.files[at];
        let (folder, name) = self.nearby.of(path)?;
        match kind {
            EntryKind::Link => Ok(Box::new(io::Cursor::new(folder.read_link(name)?.into_vec()))),
            EntryKind::File | EntryKind::Program => {
                let file: File = folder.open_file(name)?;
                Ok(Box::new(Seen { file, path, picking: &mut *self.picking }))
            }
        }
    }
}

/// A file that is shown to whoever picked it while it is read.
struct Seen<'s> {
    file: File,
    path: &'s str,
    picking: &'s mut dyn Picking,
}

impl Read for Seen<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.file.read(buffer)?;
        self.picking.see(self.path, &buffer[..n]);
        Ok(n)
    }
}

struct Hashing {
    inner: Option<NewFile>,
    digest: Sha256,
    bytes: u64,
}

impl Write for Hashing {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        let written = self.inner.as_mut().map_or(Ok(buffer.len()), |file| file.write(buffer))?;
        self.digest.update(&buffer[..written]);
        self.bytes += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.as_mut().map_or(Ok(()), Write::flush)
    }
}
