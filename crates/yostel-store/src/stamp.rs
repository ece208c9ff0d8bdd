//! A quick stamp of a tree: one digest over what a walk with `lstat` sees, so that a tree that nobody touched is known
//! without opening a file.
//!
//! Over: path, kind and mode, size, modification time, inode of each file and link, and the path of each folder. A change
//! of content by ordinary means changes at least one of them; whoever sets times back by hand is found by `verify`, which
//! reads everything.

use std::os::unix::ffi::OsStrExt;

use yostel_documents::{Sha256, to_hex};
use yostel_files::{FileError, Folder, Kind};

/// Returns the stamp of everything below a folder.
///
/// # Errors
/// When the folder or something in it cannot be looked at.
pub(crate) fn stamp(folder: &Folder) -> Result<String, FileError> {
    let mut digest = Sha256::default();
    folder.walk(|folder, at, entries| {
        let at = at.as_os_str().as_bytes();
        digest.update(at);
        digest.update(b"/\0");
        for entry in entries.iter().filter(|entry| entry.kind != Kind::Folder) {
            let meta = folder.meta(&entry.name)?;
            digest.update(entry.name.as_bytes());
            digest.update(b"\0");
            for number in [
                u64::from(meta.mode),
                meta.size,
                meta.modified.cast_unsigned(),
                meta.modified_nanos.cast_unsigned(),
                meta.inode,
            ] {
                digest.update(&number.to_le_bytes());
            }
        }
        Ok::<_, FileError>(())
    })?;
    Ok(to_hex(&digest.finish()))
}
