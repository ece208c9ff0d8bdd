//! Launchers: small scripts below `.yostel/launch` that are not part of what is installed and are made when somebody asks
//! for an environment (docs/formats.md §12).

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use yostel_files::{FileError, Folder};

use super::project::Project;

/// The folder of all launchers, below `.yostel`.
pub const LAUNCH: &str = "launch";

/// The text of each script by its name, by folders below `.yostel/launch`.
pub type Launchers = BTreeMap<PathBuf, BTreeMap<String, String>>;

impl Project {
    /// Makes these folders below `.yostel/launch` hold just these scripts. The project is held only when one is missing,
    /// so that it may be one that cannot be written; calls `waiting` while another process holds it, which
    /// tells whether to go on.
    ///
    /// # Errors
    /// When nothing is installed, or something cannot be written and is not so already.
    pub fn write_launchers(&self, wanted: &Launchers, waiting: impl FnMut() -> bool) -> Result<(), FileError> {
        let state = match self.state_if_there()? {
            Some(state) if wanted.iter().all(|(folder, scripts)| holds(&state, folder, scripts)) => return Ok(()),
            None if wanted.is_empty() => return Ok(()),
            _ => self.clone().hold(waiting)?,
        };
        for (folder, scripts) in wanted {
            // Another process may have made them meanwhile.
            if holds(&state.state, folder, scripts) {
                continue;
            }
            let at = state.state.make_folders(Path::new(LAUNCH).join(folder))?;
            for stranger in at.entries()?.iter().filter(|entry| !scripts.contains_key(&*entry.text())) {
                at.remove(&stranger.name)?;
            }
            for (name, text) in scripts {
                at.write_program(name, text)?;
            }
        }
        Ok(())
    }
}

/// Tells whether a folder holds these scripts, all of them programs, and nothing else.
fn holds(state: &Folder, folder: &Path, scripts: &BTreeMap<String, String>) -> bool {
    let Ok(at) = state.folder(Path::new(LAUNCH).join(folder)) else { return false };
    let is_there = |(name, text): (&String, &String)| {
        at.meta(name).is_ok_and(|meta| meta.is_program())
            && at.read_text(name, text.len() as u64).is_ok_and(|now| now == *text)
    };
    at.entries().is_ok_and(|entries| entries.len() == scripts.len()) && scripts.iter().all(is_there)
}
