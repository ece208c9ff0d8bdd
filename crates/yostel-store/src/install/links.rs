//! The links of `.yostel/for`: each asker finds there what it declared, and nothing else.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::Path;

use crate::disk::Disk;
use crate::error::StoreError;

/// Tells whether the links below `state` are exactly these, without following any.
pub(super) fn are_current(state: &Path, wanted: &BTreeMap<String, String>) -> bool {
    let mut found = BTreeMap::new();
    let walked = walk(&state.join("for"), "for", &mut found);
    match walked {
        Ok(()) => found == *wanted,
        Err(error) => error.kind() == io::ErrorKind::NotFound && wanted.is_empty(),
    }
}

/// Lists the links below `state`, by path; anything that is no link has an empty target.
pub(crate) fn walk(folder: &Path, prefix: &str, found: &mut BTreeMap<String, String>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let path = format!("{prefix}/{}", entry.file_name().to_string_lossy());
        let kind = entry.file_type()?;
        if kind.is_dir() {
            walk(&entry.path(), &path, found)?;
        } else if kind.is_symlink() {
            found.insert(path, fs::read_link(entry.path())?.to_string_lossy().into_owned());
        } else {
            found.insert(path, String::new());
        }
    }
    Ok(())
}

/// Makes the links aside and puts them in place of the old ones in one step.
pub(super) fn switch(
    disk: &Disk,
    state: &Path,
    aside: &Path,
    wanted: &BTreeMap<String, String>,
) -> Result<(), StoreError> {
    let made = aside.join("links");
    let made_for = made.join("for");
    disk.make_folders(&made_for)?;
    for (path, target) in wanted {
        let link = made.join(path);
        let folder = link.parent().expect("a link lies in a folder");
        disk.make_folders(folder)?;
        disk.symlink(target, &link)?;
    }
    let place = state.join("for");
    if place.symlink_metadata().is_ok() {
        disk.exchange(&made_for, &place)?;
    } else {
        disk.rename(&made_for, &place).map_err(StoreError::when("write", &place))?;
    }
    disk.sync_folder(state);
    Ok(())
}
