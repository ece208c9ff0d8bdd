//! What checks said of sets of packages, kept while a search for a culprit goes on, so that it can be taken up.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yostel_documents::{Sha256, to_hex};
use yostel_files::FileError;

use super::Cache;

/// No more than this is read, in bytes.
const MOST: u64 = 64 * 1024 * 1024;

/// What a check said of a set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptVerdict {
    /// `passes`, `fails` or `cannot-tell`.
    pub verdict: String,
    /// What it printed last, where it fails.
    #[serde(default)]
    pub said: String,
}

/// What is kept of the last search in a project.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptVerdicts {
    /// The project's folder.
    pub project: PathBuf,
    /// A digest of all that the verdicts depend on beside the sets.
    pub asked: String,
    /// By the seal of the lockfile that a set comes to.
    pub verdicts: BTreeMap<String, KeptVerdict>,
}

impl KeptVerdicts {
    /// Begins to keep.
    pub fn new(project: &Path, asked: &str) -> Self {
        Self { project: project.to_owned(), asked: asked.to_owned(), verdicts: BTreeMap::new() }
    }
}

impl Cache {
    /// Returns what is kept of the last search in a project; nothing when that cannot be read.
    pub fn verdicts(&self, project: &Path) -> Option<KeptVerdicts> {
        let text = self.folder().ok()?.read_text(path_of(project), MOST).ok()?;
        serde_json::from_str(&text).ok()
    }

    /// Keeps what was found out so far, in a folder that is its owner's alone: checks may print what is nobody else's business.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn write_verdicts(&self, kept: &KeptVerdicts) -> Result<(), FileError> {
        let root = self.make_root()?;
        root.make_folders("verdicts")?.keep_to_owner()?;
        let text = serde_json::to_string(kept).expect("maps with text keys always serialise");
        root.write_atomically(path_of(&kept.project), text.as_bytes())
    }

    /// Forgets what is kept of a project.
    pub fn forget_verdicts(&self, project: &Path) {
        if let Ok(root) = self.folder() {
            root.remove(path_of(project)).ok();
        }
    }

    /// Forgets what is kept of projects that are not there any more.
    pub(super) fn forget_old_verdicts(&self) -> Result<(), FileError> {
        let Some(root) = self.folder_if_there()? else { return Ok(()) };
        for entry in root.entries_of("verdicts")? {
            let path = Path::new("verdicts").join(&entry.name);
            let kept = root.read_text(&path, MOST).ok();
            let kept = kept.and_then(|text| serde_json::from_str::<KeptVerdicts>(&text).ok());
            if kept.is_none_or(|kept| !kept.project.is_dir()) {
                root.remove(&path)?;
            }
        }
        Ok(())
    }
}

fn path_of(project: &Path) -> PathBuf {
    let hex = to_hex(&Sha256::of(project.as_os_str().as_encoded_bytes()));
    PathBuf::from(format!("verdicts/{}.json", &hex[..32]))
}
