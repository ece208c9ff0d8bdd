//! A quick stamp of a tree: one digest over what a walk with `lstat` sees, so that a tree that nobody touched is known
//! without opening a file.
//!
//! Over: path, kind and mode, size, modification time, inode of each file and link. A change of content by ordinary
//! means changes at least one of them; whoever sets times back by hand is found by `verify`, which reads everything.

use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use yostel_core::{Sha256, to_hex};

/// Returns the stamp of everything below a folder.
///
/// # Errors
/// When the folder or something in it cannot be looked at.
pub(crate) fn stamp(folder: &Path) -> io::Result<String> {
    let mut digest = Sha256::default();
    walk(folder, &mut Vec::new(), &mut digest)?;
    Ok(to_hex(&digest.finish()))
}

fn walk(folder: &Path, prefix: &mut Vec<u8>, digest: &mut Sha256) -> io::Result<()> {
    let mut entries = fs::read_dir(folder)?.collect::<io::Result<Vec<_>>>()?;
    entries.sort_by_key(|entry| entry.file_name());
    for entry in entries {
        let length = prefix.len();
        prefix.push(b'/');
        prefix.extend_from_slice(entry.file_name().as_bytes());
        if entry.file_type()?.is_dir() {
            digest.update(prefix);
            digest.update(b"/\0");
            walk(&entry.path(), prefix, digest)?;
        } else {
            let metadata = entry.metadata()?;
            digest.update(prefix);
            digest.update(b"\0");
            for number in [
                u64::from(metadata.mode()),
                metadata.size(),
                metadata.mtime().cast_unsigned(),
                metadata.mtime_nsec().cast_unsigned(),
                metadata.ino(),
            ] {
                digest.update(&number.to_le_bytes());
            }
        }
        prefix.truncate(length);
    }
    Ok(())
}
