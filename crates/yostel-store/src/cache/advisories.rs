//! What the cache remembers of places with advisories: what each file speaks of, so that of thousands only those need be
//! read that speak of something that is locked.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use yostel_documents::{Sha256, to_hex};
use yostel_files::FileError;

use super::Cache;

/// The format number that this version writes and reads; any other counts as nothing.
const FORMAT: u32 = 1;

/// Longest list that is read, in bytes: some hundred for each of a million files.
const MOST_LIST: u64 = 256 << 20;

/// What a file speaks of, as it was when it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spoken {
    /// The file.
    pub file: String,
    /// What told the file apart then.
    pub stamp: [i64; 6],
    /// A number for each thing that it speaks of. Two things may have one number: then one of them is read for nothing.
    pub about: Vec<u64>,
}

#[derive(Serialize, Deserialize)]
struct List {
    format: u32,
    place: String,
    files: Vec<Spoken>,
}

impl Cache {
    /// Returns what is known of the files of a place, by their names, and when that was written down, in seconds since 1970
    /// by the clock of the file system; nothing when there is no list or it cannot be read.
    pub fn spoken_of(&self, place: &str) -> (Vec<Spoken>, i64) {
        let read = || {
            let folder = self.folder().ok()?;
            // Before it is read: one that is replaced meanwhile is newer than that.
            let written = folder.meta(path_of(place)).ok()?.changed;
            let text = folder.read_text(path_of(place), MOST_LIST).ok()?;
            let list: List = serde_json::from_str(&text).ok()?;
            let is_sorted = list.files.is_sorted_by(|one, next| one.file < next.file);
            (list.format == FORMAT && list.place == place && is_sorted).then_some((list.files, written))
        };
        read().unwrap_or_default()
    }

    /// Writes down what is known of the files of a place.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn write_spoken_of(&self, place: &str, mut files: Vec<Spoken>) -> Result<(), FileError> {
        let root = self.make_root()?;
        root.make_folders("advisories")?;
        files.sort_by(|one, next| one.file.cmp(&next.file));
        files.dedup_by(|one, next| one.file == next.file);
        let list = List { format: FORMAT, place: place.to_owned(), files };
        let text = serde_json::to_string(&list).expect("maps with text keys always serialise");
        root.write_atomically(path_of(place), text.as_bytes())
    }
}

fn path_of(place: &str) -> PathBuf {
    let hex = to_hex(&Sha256::of(place.as_bytes()));
    PathBuf::from(format!("advisories/{}.json", &hex[..32]))
}
