//! The entries of a zip file, as its central directory tells them (APPNOTE 6.3). Stored and deflated entries only.

use std::io::{Read, Seek, SeekFrom};

use zip::result::ZipError;

use super::{Kind, Tree, malformed, refused};
use crate::error::{AdmitError, UnpackRefusal};

/// Bits of a Unix mode that say what an entry is.
const KIND_BITS: u32 = 0o170_000;

/// The record that ends a zip file without a comment: its first bytes, and its length.
const END: (&[u8], usize) = (b"PK\x05\x06", 22);

pub(super) fn unpack(mut archive: impl Read + Seek, size: u64, tree: &mut Tree<'_>) -> Result<(), AdmitError> {
    let mut end = [0; END.1];
    if size >= END.1 as u64 {
        archive.seek(SeekFrom::End(-(END.1 as i64))).and_then(|_| archive.read_exact(&mut end)).map_err(malformed)?;
    }
    // The whole directory is read before the first entry, so how long it can be bounds the memory that takes.
    let is_64_bit = |field: &[u8]| field.iter().all(|byte| *byte == 0xff);
    if end.starts_with(END.0) && [&end[8..10], &end[10..12], &end[12..16], &end[16..20]].into_iter().any(is_64_bit) {
        return Err(refused(UnpackRefusal::TooMuch { limit: 65_534, unit: "entries of a zip file" }));
    }
    let mut reader = zip::ZipArchive::new(archive).map_err(unread)?;
    // A comment, or bytes around what the directory tells, could be read as something else by another reader.
    if !end.starts_with(END.0) || reader.offset() != 0 {
        return Err(refused(UnpackRefusal::Malformed("data before its start or after its end".into())));
    }
    for index in 0..reader.len() {
        let mut entry = reader.by_index(index).map_err(unread)?;
        let path = entry.name_raw().to_vec();
        let mode = entry.unix_mode();
        let kind = match mode.map(|mode| mode & KIND_BITS) {
            _ if entry.encrypted() => Kind::Other("encrypted"),
            Some(0o120_000) => Kind::Link,
            Some(0o040_000) => Kind::Folder,
            None | Some(0 | 0o100_000) if path.ends_with(b"/") => Kind::Folder,
            None | Some(0 | 0o100_000) => Kind::File { program: mode.unwrap_or(0) & 0o100 != 0 },
            Some(0o010_000) => Kind::Other("a pipe"),
            Some(0o020_000 | 0o060_000) => Kind::Other("a device"),
            Some(_) => Kind::Other("of an unknown kind"),
        };
        let size = entry.size();
        tree.take(&path, kind, size, &mut entry)?;
    }
    Ok(())
}

fn unread(error: ZipError) -> AdmitError {
    match error {
        ZipError::Io(error) => malformed(error),
        other => refused(UnpackRefusal::Malformed(other.to_string())),
    }
}
