//! The links of `.yostel/reach`: each asker finds there what it declared, and nothing else.

use std::collections::BTreeMap;

use yostel_files::{FileError, Folder, Kind};

pub(super) const REACH: &str = "reach";

/// How many folders of a way are held open at once: names have up to 64 levels.
const MOST_HELD: usize = 12;

/// Tells whether the links below `state` are exactly these, without following any.
pub(super) fn are_current(state: &Folder, wanted: &BTreeMap<String, String>) -> bool {
    found(state).is_ok_and(|found| found == *wanted)
}

/// Lists the links below `state`, by path; anything that is not a link has an empty target.
pub(super) fn found(state: &Folder) -> Result<BTreeMap<String, String>, FileError> {
    let mut found = BTreeMap::new();
    let links = match state.folder(REACH) {
        Err(error) if error.is_not_found() => return Ok(found),
        folder => folder?,
    };
    links.walk(|folder, at, entries| {
        for entry in entries.iter().filter(|entry| entry.kind != Kind::Folder) {
            let path = std::path::Path::new(REACH).join(at).join(&entry.name).to_string_lossy().into_owned();
            let target = match entry.kind {
                Kind::Link => folder.read_link(&entry.name)?.to_string_lossy().into_owned(),
                _ => String::new(),
            };
            found.insert(path, target);
        }
        Ok::<_, FileError>(())
    })?;
    Ok(found)
}

/// Makes the links aside and puts them in place of the old ones in one step.
///
/// # Errors
/// When something cannot be written, or there is something among the old ones that no install made.
pub(super) fn switch(state: &Folder, aside: &Folder, wanted: &BTreeMap<String, String>) -> Result<(), FileError> {
    if let Some((stranger, _)) = found(state)?.iter().find(|(_, target)| target.is_empty()) {
        return Err(FileError::unfit("replace", state.path_of(stranger), "no install made it; move it somewhere else"));
    }
    let made = aside.make_folder("links")?;
    // They are sorted, and nothing is there yet: each folder on the way is made once, when the first link below it comes.
    let mut way: Vec<(&str, Folder)> = vec![(REACH, made.make_folder(REACH)?)];
    for (path, target) in wanted {
        let parts: Vec<&str> = path.split('/').collect();
        let (name, folders) = parts.split_last().expect("a path has a last part");
        let shared = way.iter().zip(folders).take_while(|((there, _), part)| there == *part).count();
        way.truncate(shared);
        let held = |way: &[(&str, Folder)]| way.last().map_or(&made, |(_, folder)| folder).clone();
        let (near, far) = folders.split_at(folders.len().min(MOST_HELD));
        for part in &near[shared.min(near.len())..] {
            let folder = held(&way).make_folders(part)?;
            way.push((part, folder));
        }
        let folder = if far.is_empty() { held(&way) } else { held(&way).make_folders(far.join("/"))? };
        folder.symlink(target, name)?;
    }
    made.put_in_place(REACH, state, REACH)?;
    state.sync();
    Ok(())
}
