//! The links of `.yostel/for`: each asker finds there what it declared, and nothing else.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::Path;

use crate::atomic::sync_folder;
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
pub(super) fn switch(state: &Path, aside: &Path, wanted: &BTreeMap<String, String>) -> Result<(), StoreError> {
    let made = aside.join("links");
    let made_for = made.join("for");
    fs::create_dir_all(&made_for).map_err(StoreError::when("make the folder", &made_for))?;
    for (path, target) in wanted {
        let link = made.join(path);
        let folder = link.parent().expect("a link lies in a folder");
        fs::create_dir_all(folder).map_err(StoreError::when("make the folder", folder))?;
        symlink(target, &link).map_err(StoreError::when("make the link", &link))?;
    }
    let place = state.join("for");
    if place.symlink_metadata().is_ok() {
        exchange(&made_for, &place)?;
    } else {
        fs::rename(&made_for, &place).map_err(StoreError::when("write", &place))?;
    }
    sync_folder(state);
    Ok(())
}

/// Swaps two folders in one step where the system can, else by way of a third name.
fn exchange(new: &Path, place: &Path) -> Result<(), StoreError> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    if renameat_with(CWD, new, CWD, place, RenameFlags::EXCHANGE).is_ok() {
        return Ok(());
    }
    let old = new.with_file_name("old");
    fs::rename(place, &old).map_err(StoreError::when("replace", place))?;
    fs::rename(new, place).map_err(StoreError::when("write", place))
}
