//! What the cache remembers of each project: which trees it uses, and how they looked when they were installed.
//!
//! It is in the cache and not in the project, because stamps hold inodes and times, which differ from machine to
//! machine, while everything in a project's `.yostel` is the same everywhere.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yostel_documents::{Sha256, to_hex};
use yostel_files::FileError;

use super::{Cache, MOST_RECORD};
use crate::install::Placing;

/// A project's last install, as this machine saw it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProjectRecord {
    /// The project's folder.
    pub project: PathBuf,
    /// Digest of the inventory that was installed.
    pub inventory: String,
    /// Seal of the lockfile that was installed.
    #[serde(default)]
    pub lock: String,
    /// The platform it was installed for.
    #[serde(default)]
    pub platform: String,
    /// The purposes it was installed for; none when everything was.
    #[serde(default)]
    pub purposes: BTreeSet<String>,
    /// The projects it was installed for; none when it was for all.
    #[serde(default)]
    pub projects: BTreeSet<String>,
    /// Digest of all that was installed.
    #[serde(default)]
    pub digest: String,
    /// How packages came into the project.
    #[serde(default)]
    pub placing: Placing,
    /// Stamp of each package folder, by its path below `.yostel`.
    pub stamps: BTreeMap<String, String>,
    /// Digests of the trees that are installed.
    #[serde(default)]
    pub trees: BTreeSet<String>,
}

impl Cache {
    /// Returns the record of the project in this folder; nothing when there is none or it cannot be read.
    pub fn project_record(&self, project: &Path) -> Option<ProjectRecord> {
        let text = self.folder().ok()?.read_text(record_path(project), MOST_RECORD).ok()?;
        serde_json::from_str(&text).ok()
    }

    /// Writes a project's record.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn write_project_record(&self, record: &ProjectRecord) -> Result<(), FileError> {
        let root = self.make_root()?;
        root.make_folders("projects")?;
        let text = serde_json::to_string(record).expect("maps with text keys always serialise");
        root.write_atomically(record_path(&record.project), text.as_bytes())
    }

    /// Forgets a project.
    pub fn forget_project(&self, project: &Path) {
        if let Ok(root) = self.folder() {
            root.remove(record_path(project)).ok();
        }
    }

    /// Lists the records of all projects that can be read.
    pub(super) fn project_records(&self) -> Result<Vec<ProjectRecord>, FileError> {
        let Some(root) = self.folder_if_there()? else { return Ok(Vec::new()) };
        let names = root.entries_of("projects")?;
        let read = |entry: &yostel_files::Entry| {
            let text = root.read_text(Path::new("projects").join(&entry.name), MOST_RECORD).ok()?;
            serde_json::from_str(&text).ok()
        };
        Ok(names.iter().filter(|entry| entry.text().ends_with(".json")).filter_map(read).collect())
    }
}

fn record_path(project: &Path) -> PathBuf {
    let hex = to_hex(&Sha256::of(project.as_os_str().as_encoded_bytes()));
    PathBuf::from(format!("projects/{}.json", &hex[..32]))
}
