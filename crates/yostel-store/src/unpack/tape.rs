//! The entries of a tar stream, whatever it was compressed with.
//!
//! Long names (GNU) and remarks (POSIX pax) are read here and not by the library, which reads them whole, however long
//! they say they are. What they say must be something that every reader understands in the same way; anything else is
//! refused.

use std::io::Read;

use tar::EntryType;

use super::{Kind, Tree, malformed, refused};
use crate::error::{AdmitError, UnpackRefusal};

/// Longest name or target that is in an entry of its own, in bytes: the longest path, and the zero that ends it.
const MOST_NAME: u64 = 1025;

/// Longest remarks on an entry, in bytes.
const MOST_REMARKS: u64 = 64 << 10;

/// Most zeros after the end, in bytes. Tapes were written in blocks of 10 KiB, disks in larger ones.
const MOST_PADDING: u64 = 1 << 20;

/// What earlier entries said of the next one.
#[derive(Default)]
struct Remarks {
    path: Option<Vec<u8>>,
    target: Option<Vec<u8>>,
    size: Option<u64>,
    sparse: bool,
}

pub(super) fn unpack(stream: impl Read, tree: &mut Tree<'_>) -> Result<(), AdmitError> {
    let mut reader = tar::Archive::new(stream);
    let mut remarks = Remarks::default();
    for entry in reader.entries().map_err(malformed)?.raw(true) {
        let mut entry = entry.map_err(malformed)?;
        let (kind, size) = (entry.header().entry_type(), entry.size());
        match kind {
            EntryType::GNULongName => {
                tree.count()?;
                once(&mut remarks.path, long(&mut entry, size)?, "two names")?;
            }
            EntryType::GNULongLink => {
                tree.count()?;
                once(&mut remarks.target, long(&mut entry, size)?, "two targets")?;
            }
            EntryType::XHeader => {
                tree.count()?;
                read_remarks(&mut entry, size, &mut remarks)?;
            }
            // Remarks on the whole archive, as version control writes them.
            EntryType::XGlobalHeader => {
                tree.count()?;
                let mut on_all = Remarks::default();
                read_remarks(&mut entry, size, &mut on_all)?;
                if on_all.path.is_some() || on_all.target.is_some() || on_all.size.is_some() || on_all.sparse {
                    return Err(broken("remarks on the whole archive that name an entry"));
                }
            }
            _ => take(&mut entry, std::mem::take(&mut remarks), tree)?,
        }
    }
    if remarks.path.is_some() || remarks.target.is_some() || remarks.size.is_some() || remarks.sparse {
        return Err(broken("remarks at its end that are on no entry"));
    }
    // What follows the last entry must be readable to its end, and must be padding.
    let mut stream = reader.into_inner();
    let mut rest = [0; 8192];
    let mut padding = 0;
    loop {
        match stream.read(&mut rest).map_err(malformed)? {
            0 => return Ok(()),
            n if rest[..n].iter().all(|byte| *byte == 0) && padding <= MOST_PADDING => padding += n as u64,
            _ if padding > MOST_PADDING => {
                return Err(refused(UnpackRefusal::TooMuch { limit: MOST_PADDING, unit: "zeros after its end" }));
            }
            _ => return Err(broken("data after its end")),
        }
    }
}

fn take(entry: &mut tar::Entry<'_, impl Read>, remarks: Remarks, tree: &mut Tree<'_>) -> Result<(), AdmitError> {
    let header = entry.header();
    let path = remarks.path.unwrap_or_else(|| header.path_bytes().into_owned());
    let size = entry.size();
    if remarks.size.is_some_and(|said| said != size) {
        return Err(broken("an entry whose size is told twice, and differs"));
    }
    let kind = match header.entry_type() {
        _ if remarks.sparse => Kind::Other("a sparse file"),
        EntryType::Regular | EntryType::Continuous => {
            Kind::File { program: header.mode().unwrap_or(0o644) & 0o100 != 0 }
        }
        EntryType::Symlink => Kind::Link,
        EntryType::Directory => Kind::Folder,
        EntryType::Link => Kind::Other("a hard link"),
        EntryType::Fifo => Kind::Other("a pipe"),
        EntryType::Block | EntryType::Char => Kind::Other("a device"),
        EntryType::GNUSparse => Kind::Other("a sparse file"),
        _ => Kind::Other("of an unknown kind"),
    };
    match kind {
        Kind::Link if size > 0 => Err(broken("a link with content")),
        Kind::Link => {
            let target = remarks.target.or_else(|| header.link_name_bytes().map(std::borrow::Cow::into_owned));
            let target = target.unwrap_or_default();
            tree.take(&path, kind, target.len() as u64, &mut target.as_slice())
        }
        kind => tree.take(&path, kind, size, entry),
    }
}

/// Reads a name that is in an entry of its own.
fn long(entry: &mut impl Read, size: u64) -> Result<Vec<u8>, AdmitError> {
    if size > MOST_NAME {
        let path = format!("(a name of {size} bytes)");
        return Err(refused(UnpackRefusal::Name { path, reason: "it is longer than 1024 bytes" }));
    }
    let mut name = Vec::new();
    entry.read_to_end(&mut name).map_err(malformed)?;
    if name.last() == Some(&0) {
        name.pop();
    }
    Ok(name)
}

fn read_remarks(entry: &mut impl Read, size: u64, remarks: &mut Remarks) -> Result<(), AdmitError> {
    if size > MOST_REMARKS {
        return Err(refused(UnpackRefusal::TooMuch { limit: MOST_REMARKS, unit: "bytes of remarks on an entry" }));
    }
    let mut text = Vec::new();
    entry.read_to_end(&mut text).map_err(malformed)?;
    for remark in tar::PaxExtensions::new(&text) {
        let remark = remark.map_err(malformed)?;
        let value = remark.value_bytes();
        match remark.key_bytes() {
            b"path" => once(&mut remarks.path, value.to_vec(), "two names")?,
            b"linkpath" => once(&mut remarks.target, value.to_vec(), "two targets")?,
            b"size" => {
                let size = std::str::from_utf8(value).ok().and_then(|text| text.parse().ok());
                let size = size.ok_or_else(|| broken("a size that is not a number"))?;
                once(&mut remarks.size, size, "two sizes")?;
            }
            key if key.starts_with(b"GNU.sparse.") => remarks.sparse = true,
            _ => {}
        }
    }
    Ok(())
}

fn once<T>(place: &mut Option<T>, value: T, twice: &str) -> Result<(), AdmitError> {
    match place.replace(value) {
        None => Ok(()),
        Some(_) => Err(broken(&format!("an entry with {twice}"))),
    }
}

fn broken(what: &str) -> AdmitError {
    refused(UnpackRefusal::Malformed(what.to_owned()))
}
