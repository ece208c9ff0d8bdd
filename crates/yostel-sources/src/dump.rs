//! Many advisories in one place: a folder of `.json` files, or a zip archive of them.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use yostel_documents::MOST_ADVISORY;
use yostel_files::{Entry, Folder, Kind, Meta, for_each_in_parallel, open_regular};
use zip::ZipArchive;

/// What tells that a file is as it was when it was read last, without reading it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct FileStamp {
    size: u64,
    inode: u64,
    modified: (i64, i64),
    changed: (i64, i64),
}

impl FileStamp {
    fn of(meta: &Meta) -> Self {
        Self {
            size: meta.size,
            inode: meta.inode,
            modified: (meta.modified, meta.modified_nanos),
            changed: (meta.changed, meta.changed_nanos),
        }
    }

    /// Returns when the file was changed last, in seconds since 1970, by the clock of its file system.
    pub fn changed(&self) -> i64 {
        self.changed.0
    }

    /// Writes it as numbers.
    pub fn to_numbers(self) -> [i64; 6] {
        let (modified, changed) = (self.modified, self.changed);
        [self.size.cast_signed(), self.inode.cast_signed(), modified.0, modified.1, changed.0, changed.1]
    }
}

/// Takes advisories as they are read. Called from any thread and in any order.
pub trait AdvisoryReader: Sync {
    /// Tells whether a file is to be read; its stamp, where there is one, may tell that it need not be.
    fn wants(&self, file: &str, stamp: Option<FileStamp>) -> bool;

    /// Takes the text of a file that was wanted, or why it cannot be read.
    fn take(&self, file: &str, stamp: Option<FileStamp>, text: io::Result<String>);
}

/// Reads the `.json` files of a folder; those with a dot before their name are left out.
pub(crate) fn read_folder(folder: &Folder, entries: &[Entry], reader: &dyn AdvisoryReader) {
    let names: Vec<_> = entries.iter().filter(|entry| entry.kind != Kind::Folder).map(Entry::text).collect();
    let names: Vec<_> = names.iter().filter(|name| name.ends_with(".json") && !name.starts_with('.')).collect();
    for_each_in_parallel(&names, |name| {
        // What it is before it is read: one that is changed meanwhile has another afterwards.
        let stamp = folder.meta(name.as_ref()).ok().map(|meta| FileStamp::of(&meta));
        if reader.wants(name, stamp) {
            let text = folder.read_text(name.as_ref(), MOST_ADVISORY);
            reader.take(name, stamp, text.map_err(|error| error.cause));
        }
    });
}

/// Reads the advisories in a folder or a zip archive that somebody named.
///
/// # Errors
/// When it is not there, or neither.
pub fn read_dump(path: &Path, reader: &dyn AdvisoryReader) -> io::Result<()> {
    if path.is_dir() {
        let cause = |error: yostel_files::FileError| error.cause;
        let folder = Folder::open(path).map_err(cause)?;
        let entries = folder.entries().map_err(cause)?;
        read_folder(&folder, &entries, reader);
        return Ok(());
    }
    let file = open_regular(path)?;
    let stamp = FileStamp::of(&Meta::of_file(&file)?);
    let archive = At { file: Arc::new(file), size: stamp.size, at: 0 };
    let archive = ZipArchive::new(archive).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
    let is_one = |name: &str| {
        let own = name.rsplit('/').next().unwrap_or(name);
        own.ends_with(".json") && !own.starts_with('.')
    };
    let names = archive.file_names().filter_map(Result::ok).map(std::borrow::Cow::into_owned);
    let names: Vec<String> = names.filter(|name| is_one(name) && reader.wants(name, Some(stamp))).collect();
    let many = names.len().div_ceil(64).max(1);
    let parts: Vec<&[String]> = names.chunks(many).collect();
    for_each_in_parallel(&parts, |part| {
        let mut archive = archive.clone();
        for name in *part {
            reader.take(name, Some(stamp), read_entry(&mut archive, name));
        }
    });
    Ok(())
}

fn read_entry(archive: &mut ZipArchive<At>, name: &str) -> io::Result<String> {
    let entry = archive.by_name(name).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
    let mut text = String::new();
    // An archive may say less than it holds.
    entry.take(MOST_ADVISORY + 1).read_to_string(&mut text)?;
    match text.len() as u64 > MOST_ADVISORY {
        true => Err(io::Error::new(io::ErrorKind::FileTooLarge, format!("it has more than {MOST_ADVISORY} bytes"))),
        false => Ok(text),
    }
}

/// A file that several read at the same time, each at a place of its own.
#[derive(Debug, Clone)]
struct At {
    file: Arc<File>,
    size: u64,
    at: u64,
}

impl Read for At {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.file.read_at(buffer, self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Seek for At {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.at)
    }
}
