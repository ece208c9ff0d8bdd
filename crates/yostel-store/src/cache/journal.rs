//! What commands changed in each project's own files, so that it can be undone: the content of each file before and
//! afterwards, an entry a command, written before the files are. Carries out docs/formats.md §7.
//!
//! Whether an entry is undone is in its file's name, so that the next edit, which forgets those, reads none of them. What
//! somebody wrote into a project is not for others to read, so the folder of each is its owner's alone.

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
pub enum FileContent {
    /// Text.
    Text(String),
    /// Anything else, in hexadecimal digits.
    Hex(String),
}

impl FileContent {
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
pub struct ChangedFile {
    /// What it held before; none when it was not there.
    pub before: Option<FileContent>,
    /// What it held afterwards; none when it was not there any more.
    pub after: Option<FileContent>,
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
    /// The files, by their paths relative to the project's folder.
    pub files: BTreeMap<String, ChangedFile>,
    /// Its file; none while it was not written.
    #[serde(skip)]
    name: Option<EntryName>,
}

/// The name of an entry's file: `NUMBER-PROCESS.json`, with `.undone` at its end once it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct EntryName {
    number: u64,
    process: u32,
    is_undone: bool,
}

impl EntryName {
    fn parse(name: &str) -> Option<Self> {
        let (name, is_undone) = name.strip_suffix(".undone").map_or((name, false), |name| (name, true));
        let (number, process) = name.strip_suffix(".json")?.split_once('-')?;
        Some(Self { number: number.parse().ok()?, process: process.parse().ok()?, is_undone })
    }

    fn to_text(&self) -> String {
        let ending = if self.is_undone { ".undone" } else { "" };
        format!("{:08}-{}.json{ending}", self.number, self.process)
    }
}

impl JournalEntry {
    /// Begins an entry.
    pub fn new(project: &Path, command: &str, at: &str) -> Self {
        let (project, command, at) = (project.to_owned(), command.to_owned(), at.to_owned());
        Self { format: FORMAT, project, command, at, files: BTreeMap::new(), name: None }
    }

    /// Tells whether it was undone.
    pub fn is_undone(&self) -> bool {
        self.name.as_ref().is_some_and(|name| name.is_undone)
    }
}

impl Cache {
    /// Lists what commands changed in a project, the earliest first. What cannot be read is passed over.
    pub fn journal(&self, project: &Path) -> Vec<JournalEntry> {
        self.journal_names(project).into_iter().filter_map(|(name, _)| self.journal_entry(project, name)).collect()
    }

    /// Returns the last change of a project that is not undone, or the one that was undone last; and how many more there are of
    /// its kind.
    pub fn journal_next(&self, project: &Path, undone: bool) -> (Option<JournalEntry>, usize) {
        let mut names = self.journal_names(project);
        names.retain(|(name, _)| name.is_undone == undone);
        // What was undone last is the earliest of those that are.
        if !undone {
            names.reverse();
        }
        let mut names = names.into_iter();
        let found = names.by_ref().find_map(|(name, _)| self.journal_entry(project, name));
        (found, names.len())
    }

    fn journal_entry(&self, project: &Path, name: EntryName) -> Option<JournalEntry> {
        let file = Path::new(&folder_of(project)).join(name.to_text());
        let entry: JournalEntry = serde_json::from_str(&self.folder().ok()?.read_text(file, MOST_ENTRY).ok()?).ok()?;
        let is_ours = entry.format == FORMAT && entry.project == project;
        is_ours.then_some(JournalEntry { name: Some(name), ..entry })
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
                root.remove(folder.join(name.to_text()))?;
            }
            return Ok(());
        }
        let text = serde_json::to_string(entry).expect("maps with text keys always serialise");
        let root = self.make_root()?;
        if text.len() as u64 > MOST_ENTRY {
            return Err(FileError::unfit("write", root.path_of(&folder), "what is changed is too much to remember"));
        }
        let is_new = root.folder(&folder).is_err();
        let made = root.make_folders(&folder)?;
        if is_new {
            made.keep_to_owner()?;
        }
        let name = match &entry.name {
            Some(name) => name.clone(),
            None => {
                let names = self.journal_names(&entry.project);
                let number = names.last().map_or(0, |(name, _)| name.number) + 1;
                self.forget_old(&folder, names, text.len() as u64);
                EntryName { number, process: std::process::id(), is_undone: false }
            }
        };
        root.write_atomically(folder.join(name.to_text()), text.as_bytes())?;
        entry.name = Some(name);
        Ok(())
    }

    /// Notes that an entry that was written is undone, or is not any more.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn mark_undone(&self, entry: &mut JournalEntry, is_undone: bool) -> Result<(), FileError> {
        let Some(before) = entry.name.clone() else { return Ok(()) };
        let after = EntryName { is_undone, ..before.clone() };
        let folder = self.folder()?.folder(folder_of(&entry.project))?;
        let path = folder.path_of(before.to_text());
        folder.rename(before.to_text(), &folder, after.to_text()).map_err(FileError::when("rename", path))?;
        entry.name = Some(after);
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
    fn journal_names(&self, project: &Path) -> Vec<(EntryName, u64)> {
        let folder = PathBuf::from(folder_of(project));
        let Ok(root) = self.folder() else { return Vec::new() };
        let entries = root.entries_of(&folder).unwrap_or_default().into_iter();
        let named = entries.filter_map(|entry| {
            let name = EntryName::parse(&entry.text())?;
            let size = root.meta(folder.join(&entry.name)).map_or(0, |meta| meta.size);
            Some((name, size))
        });
        let mut names: Vec<(EntryName, u64)> = named.collect();
        names.sort();
        names
    }

    /// Forgets what was undone, and the oldest entries, so that one of this length may come in.
    fn forget_old(&self, folder: &Path, names: Vec<(EntryName, u64)>, length: u64) {
        let Ok(root) = self.folder() else { return };
        let (undone, names): (Vec<_>, Vec<_>) = names.into_iter().partition(|(name, _)| name.is_undone);
        let (mut count, mut bytes) = (names.len() + 1, names.iter().map(|(_, size)| size).sum::<u64>() + length);
        let old = names.into_iter().take_while(|(_, size)| {
            let is_too_much = count > MOST_ENTRIES || bytes > MOST_BYTES;
            (count, bytes) = (count - 1, bytes - size);
            is_too_much
        });
        for (name, _) in undone.into_iter().chain(old) {
            // What cannot be forgotten is there once more next time.
            root.remove(folder.join(name.to_text())).ok();
        }
    }
}

fn folder_of(project: &Path) -> String {
    let hex = to_hex(&Sha256::of(project.as_os_str().as_encoded_bytes()));
    format!("journal/{}", &hex[..32])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(project: &Path, number: usize) -> JournalEntry {
        let mut entry = JournalEntry::new(project, &format!("add p{number}"), "2026-01-02T03:04:05Z");
        let content = Some(FileContent::of(format!("{number}").as_bytes()));
        entry.files.insert("yostel.toml".into(), ChangedFile { before: None, after: content });
        entry
    }

    #[test]
    fn the_last_hundred_are_remembered_and_what_was_undone_until_the_next() {
        let folder = tempfile::tempdir().unwrap();
        let (cache, project) = (Cache::open(folder.path().join("cache")), folder.path());
        for number in 0..105 {
            cache.write_journal(&mut entry(project, number)).unwrap();
        }
        let all = cache.journal(project);
        assert_eq!((all.len(), all[0].command.as_str(), all[99].command.as_str()), (100, "add p5", "add p104"));
        for number in [104, 103] {
            let (next, _) = cache.journal_next(project, false);
            let mut next = next.unwrap();
            assert_eq!(next.command, format!("add p{number}"));
            cache.mark_undone(&mut next, true).unwrap();
        }
        let (again, more) = cache.journal_next(project, true);
        assert_eq!((again.unwrap().command.as_str(), more), ("add p103", 1));
        cache.write_journal(&mut entry(project, 200)).unwrap();
        assert_eq!(cache.journal_next(project, true).0, None);
        assert_eq!(cache.journal(project).len(), 99);
        // Nobody else reads what somebody wrote.
        let root = cache.folder().unwrap();
        assert_eq!(root.meta(folder_of(project)).unwrap().mode & 0o777, 0o700);
    }

    #[test]
    fn what_is_no_text_comes_back_as_it_was_and_broken_digits_are_told_apart() {
        for bytes in [&b""[..], b"text", b"\xff\x00\x80", &[0, 159, 146, 150]] {
            assert_eq!(FileContent::of(bytes).bytes().as_deref(), Some(bytes));
        }
        for digits in ["f", "0g", "zz"] {
            assert_eq!(FileContent::Hex(digits.into()).bytes(), None);
        }
    }
}
