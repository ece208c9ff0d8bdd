//! Files that are whole or not there: write aside, sync, rename, sync the folder.

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;

use crate::error::StoreError;

/// Writes a file so that readers, and a machine that loses power, see the old content or the new, never a part.
/// Keeps the permissions of a file that is already there.
///
/// # Errors
/// When the folder cannot be written; the old file is as it was.
pub fn write_atomically(path: &Path, content: &[u8]) -> Result<(), StoreError> {
    write_atomically_with(path, |file| file.write_all(content).map_err(StoreError::when("write", path)))
}

/// The same, of a file too long to be held in memory.
///
/// # Errors
/// As above, and whatever `write` returns.
pub fn write_atomically_with<E: From<StoreError>>(
    path: &Path,
    write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
) -> Result<(), E> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut aside = tempfile::Builder::new()
        .prefix(".yostel-")
        .tempfile_in(folder)
        .map_err(StoreError::when("write in", folder))?;
    let mut buffered = BufWriter::new(&mut aside);
    write(&mut buffered)?;
    buffered.flush().map_err(StoreError::when("write", path))?;
    drop(buffered);
    let permissions = match fs::metadata(path) {
        Ok(there) => there.permissions(),
        Err(_) => new_file_permissions(),
    };
    aside.as_file().set_permissions(permissions).map_err(StoreError::when("write", path))?;
    aside.as_file().sync_all().map_err(StoreError::when("write", path))?;
    aside.persist(path).map_err(|error| StoreError { doing: "write", path: path.to_owned(), cause: error.error })?;
    sync_folder(folder);
    Ok(())
}

/// Makes a rename durable. Some file systems cannot sync folders; then the rename is as durable as they make it.
pub(crate) fn sync_folder(folder: &Path) {
    if let Ok(folder) = File::open(folder) {
        folder.sync_all().ok();
    }
}

fn new_file_permissions() -> fs::Permissions {
    use std::os::unix::fs::PermissionsExt;
    fs::Permissions::from_mode(0o644)
}
