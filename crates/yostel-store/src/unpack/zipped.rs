//! The entries of a zip file, as its central directory tells them (APPNOTE 6.3). Stored and deflated entries only.

use std::io::{Read, Seek};

use zip::result::ZipError;

use super::{Kind, Tree, directory, malformed, refused};
use crate::error::{AdmitError, UnpackRefusal};

/// Bits of a Unix mode that say what an entry is.
const KIND_BITS: u32 = 0o170_000;

pub(super) fn unpack(mut archive: impl Read + Seek, size: u64, tree: &mut Tree<'_>) -> Result<(), AdmitError> {
    let told = directory::check(&mut archive, size, tree.limits.entries)?;
    let mut reader = zip::ZipArchive::new(archive).map_err(unread)?;
    if reader.offset() != 0 {
        return Err(broken("data before its start"));
    }
    if reader.len() != told {
        return Err(broken("two entries of one name"));
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

pub(super) fn broken(what: &str) -> AdmitError {
    refused(UnpackRefusal::Malformed(what.to_owned()))
}

fn unread(error: ZipError) -> AdmitError {
    match error {
        ZipError::Io(error) => malformed(error),
        other => refused(UnpackRefusal::Malformed(other.to_string())),
    }
}
