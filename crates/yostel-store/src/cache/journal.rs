//! What commands changed in each project's own files, so that it can be undone: the content of each file before and
//! afterwards, an entry a command, written before the files are. Carries out docs/formats.md §7.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yostel_documents::{Sha256, to_hex};
use yostel_files::FileError;

use super::Cache;

/// The format number that this version writes and reads; entries of any other are passed over.
const FORMAT: u32 = 1;

/// Longest entry that is written and read, in bytes.
const MOST_ENTRY: u64 = 128 << 20;

/// How many entries of a project are kept.
const MOST_ENTRIES: usize = 100;

/// How many bytes all entries of a project may have; the last one stays, whatever it has.
const MOST_BYTES: u64 = 256 << 20;

/// What a file held.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Content {
    /// Text.
    Text(String),
    /// Anything else, in hexadecimal digits.
    Hex(String),
}

impl Content {
    /// Takes what a file holds.
    pub fn of(bytes: &[u8]) -> Self {
        match std::str::from_utf8(bytes) {
            Ok(text) => Self::Text(text.to_owned()),
            Err(_) => Self::Hex(to_hex(bytes)),
        }
    }

    /// Returns the bytes; nothing when the digits are none.
    pub fn bytes(&self) -> Option<Vec<u8>> {
        match self {
            Self::Text(text) => Some(text.clone().into_bytes()),
            Self::Hex(digits) => {
                let digits = digits.as_bytes();
                let value = |digit: u8| char::from(digit).to_digit(16);
                let pairs = digits.chunks(2).map(|pair| match pair {
                    [high, low] => u8::try_from(value(*high)? * 16 + value(*low)?).ok(),
                    _ => None,
                });
                pairs.collect()
            }
        }
    }
}

/// A file that a command changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Changed {
    /// What it held before; none when it was not there.
    pub before: Option<Content>,
    /// What it held afterwards; none when it was not there any more.
    pub after: Option<Content>,
}

/// What a command changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JournalEntry {
    format: u32,
    /// The project's folder.
    pub project: PathBuf,
    /// The command, as it was typed, without the program's name.
    pub command: String,
    /// When, as RFC 3339 has it.
    pub at: String,
    /// Whether it was undone.
    pub undone: bool,
    /// The files, by their paths relative to the project's folder.
    pub files: BTreeMap<String, Changed>,
    /// The name of its file; none while it was not written.
    #[serde(skip)]
    name: Option<String>,
}

impl JournalEntry {
    /// Begins an entry.
    pub fn new(project: &Path, command: &str, at: &str) -> Self {
        let (project, command, at) = (project.to_owned(), command.to_owned(), at.to_owned());
        Self { format: FORMAT, project, command, at, undone: false, files: BTreeMap::new(), name: None }
    }
}

impl Cache {
    /// Lists what commands changed in a project, the earliest first. What cannot be read is passed over.
    pub fn journal(&self, project: &Path) -> Vec<JournalEntry> {
        let folder = folder_of(project);
        let Ok(root) = self.folder() else { return Vec::new() };
        let names = self.journal_names(project).into_iter();
        let read = |(name, _)| {
            let text = root.read_text(Path::new(&folder).join(&name), MOST_ENTRY).ok()?;
            let entry: JournalEntry = serde_json::from_str(&text).ok()?;
            let is_ours = entry.format == FORMAT && entry.project == project;
            is_ours.then_some(JournalEntry { name: Some(name), ..entry })
        };
        names.filter_map(read).collect()
    }

    /// Writes an entry down, anew if it was before; one without files is forgotten. When it is new, what was undone is
    /// forgotten, and so are the oldest entries where there are too many.
    ///
    /// # Errors
    /// When it is too long, or the cache cannot be written.
    pub fn write_journal(&self, entry: &mut JournalEntry) -> Result<(), FileError> {
        let folder = PathBuf::from(folder_of(&entry.project));
        if entry.files.is_empty() {
            if let (Some(name), Ok(root)) = (entry.name.take(), self.folder()) {
                root.remove(folder.join(name))?;
            }
            return Ok(());
        }
        let root = self.make_root()?;
        let text = serde_json::to_string(entry).expect("maps with text keys always serialise");
        if text.len() as u64 > MOST_ENTRY {
            return Err(FileError::unfit("write", root.path_of(&folder), "what is changed is too much to remember"));
        }
        root.make_folders(&folder)?;
        let name = match &entry.name {
            Some(name) => name.clone(),
            None => {
                self.forget_old(&entry.project, text.len() as u64);
                let last = self.journal_names(&entry.project).last().and_then(|(name, _)| number_of(name));
                format!("{:08}-{}.json", last.unwrap_or(0) + 1, std::process::id())
            }
        };
        root.write_atomically(folder.join(&name), text.as_bytes())?;
        entry.name = Some(name);
        Ok(())
    }

    /// Forgets what was changed in projects that are not there any more.
    pub(super) fn forget_journals(&self) -> Result<(), FileError> {
        let Some(root) = self.folder_if_there()? else { return Ok(()) };
        for folder in root.entries_of("journal")? {
            let folder = Path::new("journal").join(&folder.name);
            let names = root.entries_of(&folder)?.into_iter();
            let texts = names.filter_map(|entry| root.read_text(folder.join(&entry.name), MOST_ENTRY).ok());
            let mut entries = texts.filter_map(|text| serde_json::from_str::<JournalEntry>(&text).ok());
            if entries.next().is_none_or(|entry| !entry.project.is_dir()) {
                root.remove(&folder)?;
            }
        }
        Ok(())
    }

    /// Lists the files of a project's entries and how long they are, the earliest first.
    fn journal_names(&self, project: &Path) -> Vec<(String, u64)> {
        let folder = PathBuf::from(folder_of(project));
        let Ok(root) = self.folder() else { return Vec::new() };
        let entries = root.entries_of(&folder).unwrap_or_default().into_iter();
        let named = entries.filter_map(|entry| {
            let name = entry.text().into_owned();
            number_of(&name)?;
            let size = root.meta(folder.join(&name)).map_or(0, |meta| meta.size);
            Some((name, size))
        });
        let mut names: Vec<(String, u64)> = named.collect();
        names.sort_by_key(|(name, _)| (number_of(name), name.clone()));
        names
    }

    /// Forgets what was undone, and the oldest entries, so that one of this length may come in.
    fn forget_old(&self, project: &Path, length: u64) {
        let folder = PathBuf::from(folder_of(project));
        let Ok(root) = self.folder() else { return };
        for entry in self.journal(project).into_iter().filter(|entry| entry.undone) {
            entry.name.map(|name| root.remove(folder.join(name)));
        }
        let names = self.journal_names(project);
        let (mut count, mut bytes) = (names.len() + 1, names.iter().map(|(_, size)| size).sum::<u64>() + length);
        for (name, size) in names {
            if count <= MOST_ENTRIES && bytes <= MOST_BYTES {
                break;
            }
            root.remove(folder.join(name)).ok();
            (count, bytes) = (count - 1, bytes - size);
        }
    }
}

fn folder_of(project: &Path) -> String {
    let hex = to_hex(&Sha256::of(project.as_os_str().as_encoded_bytes()));
    format!("journal/{}", &hex[..32])
}

/// Reads the number at the beginning of an entry's name; nothing when it is no entry's.
fn number_of(name: &str) -> Option<u64> {
    name.strip_suffix(".json")?.split_once('-')?.0.parse().ok()
}
