//! Files of registries on web servers, as they came, so that they are fetched again only when they changed.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde::{Deserialize, Serialize};
use yostel_documents::{Sha256, to_hex};
use yostel_files::{FileError, Folder};

use super::Cache;

/// The folder they are in.
const ANSWERS: &str = "answers";

/// No more than this is read, in bytes.
const MOST: u64 = 64 << 20;

/// A file of a web server that is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptFile {
    /// Its address.
    pub address: String,
    /// Its entity tag.
    pub tag: Option<String>,
    /// When it was changed, as the server writes it.
    pub changed: Option<String>,
    /// Its content.
    pub bytes: Vec<u8>,
    /// Whether the server has no such file: that was its answer.
    pub is_missing: bool,
}

/// The line before the content.
#[derive(Serialize, Deserialize)]
struct Head {
    address: String,
    tag: Option<String>,
    changed: Option<String>,
    digest: String,
    #[serde(default)]
    is_missing: bool,
}

impl Cache {
    /// Returns a file that was kept; nothing when there is none, or it is not whole.
    pub fn kept_file(&self, address: &str) -> Option<KeptFile> {
        let bytes = self.answers(false).ok()?.read(name_of(address), MOST).ok()?;
        let end = bytes.iter().position(|byte| *byte == b'\n')?;
        let head: Head = serde_json::from_slice(&bytes[..end]).ok()?;
        let content = bytes[end + 1..].to_vec();
        let is_whole = head.address == address && head.digest == to_hex(&Sha256::of(&content));
        let Head { address, tag, changed, is_missing, .. } = head;
        is_whole.then_some(KeptFile { address, tag, changed, bytes: content, is_missing })
    }

    /// Keeps a file, in place of what was kept of its address.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn keep_file(&self, file: &KeptFile) -> Result<(), FileError> {
        let digest = to_hex(&Sha256::of(&file.bytes));
        let (address, tag, changed) = (file.address.clone(), file.tag.clone(), file.changed.clone());
        let head = Head { address, tag, changed, digest, is_missing: file.is_missing };
        let mut bytes = serde_json::to_vec(&head).expect("texts always serialise");
        bytes.push(b'\n');
        bytes.extend_from_slice(&file.bytes);
        self.answers(true)?.write_in_passing(name_of(&file.address), &bytes)
    }

    /// Opens the folder of answers, once for all of them; makes it, if that is wanted.
    fn answers(&self, make: bool) -> Result<Folder, FileError> {
        if let Some(answers) = self.answers.get() {
            return Ok(answers.clone());
        }
        let opened = if make { self.make_root()?.make_folders(ANSWERS)? } else { self.folder()?.folder(ANSWERS)? };
        Ok(self.answers.get_or_init(|| opened).clone())
    }

    /// Remembers that a file that was kept was the server's at a time, in seconds since 1970.
    pub fn confirm_file(&self, address: &str, now: i64) {
        let now = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(now).unwrap_or_default());
        if let Ok(folder) = self.folder() {
            folder.set_time(path_of(address), now).ok();
        }
    }

    /// Returns when a file was kept, or last found to be still so, in seconds since 1970.
    pub fn file_seen(&self, address: &str) -> Option<i64> {
        Some(self.folder().ok()?.meta(path_of(address)).ok()?.modified)
    }

    /// Forgets files that were fetched before a time, in seconds since 1970.
    pub(super) fn forget_answers(&self, before: i64) -> Result<(), FileError> {
        let Some(root) = self.folder_if_there()? else { return Ok(()) };
        for entry in root.entries_of(ANSWERS)? {
            let path = Path::new(ANSWERS).join(&entry.name);
            if root.meta(&path).is_ok_and(|meta| meta.modified < before) {
                root.remove(&path)?;
            }
        }
        Ok(())
    }
}

fn name_of(address: &str) -> String {
    to_hex(&Sha256::of(address.as_bytes()))[..32].to_owned()
}

fn path_of(address: &str) -> PathBuf {
    Path::new(ANSWERS).join(name_of(address))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[allow(clippy::disallowed_methods, reason = "what is damaged is damaged by hand")]
    fn what_is_not_whole_or_of_another_address_was_never_kept() {
        let folder = tempfile::tempdir().unwrap();
        let cache = Cache::open(folder.path());
        let address = "https://station.example/releases/gust.json";
        assert_eq!(cache.kept_file(address), None);
        let bytes = b"{\"a\":\n1}\n".to_vec();
        let file =
            KeptFile { address: address.into(), tag: Some("\"x\"".into()), changed: None, bytes, is_missing: false };
        cache.keep_file(&file).unwrap();
        assert_eq!(cache.kept_file(address), Some(file.clone()));
        let path = folder.path().join(path_of(address));
        let whole = std::fs::read(&path).unwrap();
        for cut in 0..whole.len() {
            std::fs::write(&path, &whole[..cut]).unwrap();
            assert_eq!(cache.kept_file(address), None, "cut at {cut}");
        }
        std::fs::write(folder.path().join(path_of("https://other.example/")), &whole).unwrap();
        assert_eq!(cache.kept_file("https://other.example/"), None);
    }
}
