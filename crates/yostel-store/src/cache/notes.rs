//! What the cache knows of its archives beside their content: which release each is, who brought it, when it was last
//! used. docs/formats.md §7.
//!
//! One small file per archive, its time of change being when it was last used. Nothing depends on a note: one that is lost
//! or damaged is written again by the next install that uses the release, and until then the archive has no name.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde::{Deserialize, Serialize};
use yostel_documents::{ArchiveDigest, Artifact, TreeDigest};
use yostel_files::{FileError, Folder, Kind};

use super::{Cache, MOST_NOTE};

/// What is known of an archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Note {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The platform it is for.
    pub platform: String,
    /// The tree it unpacks to.
    pub tree: String,
    /// The source it came from.
    pub from: String,
    /// The project whose install brought it, or the kit that did.
    pub brought_by: PathBuf,
    /// When, in seconds since 1970.
    pub brought: i64,
}

/// An archive and its tree, as the cache has them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CacheEntry {
    /// The archive; none when only the tree is there.
    pub archive: Option<ArchiveDigest>,
    /// The tree; none when it is not unpacked, or not known.
    pub tree: Option<TreeDigest>,
    /// What is known of it.
    pub note: Option<Note>,
    /// The archive's size in bytes.
    pub archive_bytes: u64,
    /// The size of the tree's files in bytes, but for those that are shared with a tree that was used later or is in use.
    pub tree_bytes: u64,
    /// When it was last used, in seconds since 1970.
    pub used: i64,
    /// Projects that are there and have it installed.
    pub users: BTreeSet<PathBuf>,
}

impl CacheEntry {
    /// Returns what it takes in all.
    pub fn bytes(&self) -> u64 {
        self.archive_bytes + self.tree_bytes
    }
}

fn note_path(archive: ArchiveDigest) -> String {
    format!("notes/{}.json", archive.to_hex())
}

impl Cache {
    /// Notes that a release is used now, and who brought it when nothing is known of it.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn note_use(
        &self,
        (package, version, from): (&str, &str, &str),
        artifact: &Artifact,
        project: &Path,
        now: i64,
    ) -> Result<(), FileError> {
        let (root, path) = (self.make_root()?, note_path(artifact.digest));
        if self.note(artifact.digest).is_none() {
            let note = Note {
                package: package.to_owned(),
                version: version.to_owned(),
                platform: artifact.platform.clone(),
                tree: artifact.tree.to_string(),
                from: from.to_owned(),
                brought_by: project.to_owned(),
                brought: now,
            };
            root.make_folders("notes")?;
            let text = serde_json::to_string(&note).expect("a note always serialises");
            root.write_loosely(&path, &text)?;
        }
        let used = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(now).unwrap_or(0));
        root.set_time(&path, used)
    }

    /// Finds for each package the tree of the release that came in last, as far as notes tell.
    ///
    /// # Errors
    /// When the folder of notes cannot be read.
    pub fn latest_trees(&self) -> Result<BTreeMap<String, TreeDigest>, FileError> {
        let mut latest: BTreeMap<String, (i64, String, TreeDigest)> = BTreeMap::new();
        for name in self.names("notes")? {
            let digest = name.strip_suffix(".json").map(|hex| ArchiveDigest::parse(&format!("sha256:{hex}")));
            let Some(note) = digest.and_then(Result::ok).and_then(|digest| self.note(digest)) else { continue };
            let Ok(tree) = TreeDigest::parse(&note.tree) else { continue };
            let this = (note.brought, note.version, tree);
            if latest.get(&note.package).is_none_or(|other| *other < this) {
                latest.insert(note.package, this);
            }
        }
        Ok(latest.into_iter().map(|(package, (_, _, tree))| (package, tree)).collect())
    }

    /// Tells whether the cache knows that a tree came out of an archive, and that it is not this one.
    pub fn has_note_on(&self, tree: TreeDigest, but: ArchiveDigest) -> bool {
        let (wanted, but) = (tree.to_string(), format!("{}.json", but.to_hex()));
        let names = self.names("notes").unwrap_or_default();
        let archives = names.iter().filter(|name| **name != but).filter_map(|name| name.strip_suffix(".json"));
        let mut notes = archives.filter_map(|hex| self.note(ArchiveDigest::parse(&format!("sha256:{hex}")).ok()?));
        notes.any(|note| note.tree == wanted)
    }

    /// Returns what is known of an archive and when it was last used, in seconds since 1970, whether or not it is still
    /// here.
    pub fn last_seen(&self, archive: ArchiveDigest) -> Option<(Note, i64)> {
        let used = self.folder().ok()?.meta(note_path(archive)).ok()?.modified;
        Some((self.note(archive)?, used))
    }

    fn note(&self, archive: ArchiveDigest) -> Option<Note> {
        serde_json::from_str(&self.folder().ok()?.read_text(note_path(archive), MOST_NOTE).ok()?).ok()
    }

    /// Lists what the cache holds, by package and version; what has no note comes last.
    ///
    /// # Errors
    /// When a folder of the cache cannot be read.
    pub fn entries(&self) -> Result<Vec<CacheEntry>, FileError> {
        let Some(root) = self.folder_if_there()? else { return Ok(Vec::new()) };
        let mut users: BTreeMap<String, BTreeSet<PathBuf>> = BTreeMap::new();
        for record in self.project_records()?.into_iter().filter(|record| record.project.is_dir()) {
            for tree in &record.trees {
                users.entry(tree.clone()).or_default().insert(record.project.clone());
            }
        }
        let mut trees: BTreeMap<TreeDigest, Vec<(u64, u64)>> = BTreeMap::new();
        for name in self.names("trees")? {
            if let Ok(tree) = TreeDigest::parse(&format!("sha256:{name}")) {
                trees.insert(tree, files_below(self.tree(tree)));
            }
        }
        let (mut entries, mut files) = (Vec::new(), Vec::new());
        let mut claimed = BTreeSet::new();
        for name in self.names("archives/sha256")? {
            let Ok(archive) = ArchiveDigest::parse(&format!("sha256:{name}")) else { continue };
            let meta = root.meta(Self::archive_name(archive))?;
            let note = self.note(archive);
            let used = root.meta(note_path(archive)).unwrap_or(meta).modified;
            let tree = note.as_ref().and_then(|note| TreeDigest::parse(&note.tree).ok());
            let tree = tree.filter(|tree| trees.contains_key(tree));
            // Two archives may hold one tree: it is counted with the first.
            let counted = tree.filter(|tree| claimed.insert(*tree));
            let users = tree.and_then(|tree| users.get(&tree.to_string()).cloned()).unwrap_or_default();
            entries.push(CacheEntry {
                archive: Some(archive),
                tree,
                note,
                archive_bytes: meta.size,
                tree_bytes: 0,
                used,
                users,
            });
            files.push(counted.and_then(|tree| trees.get(&tree)));
        }
        for (&tree, of_tree) in trees.iter().filter(|(tree, _)| !claimed.contains(*tree)) {
            let made = root.meta(Self::tree_path(tree)).map_or(0, |meta| meta.modified);
            entries.push(CacheEntry {
                archive: None,
                tree: Some(tree),
                note: None,
                archive_bytes: 0,
                tree_bytes: 0,
                used: made,
                users: users.get(&tree.to_string()).cloned().unwrap_or_default(),
            });
            files.push(Some(of_tree));
        }
        // A file that several trees share counts for the one that stays longest.
        let mut order: Vec<usize> = (0..entries.len()).collect();
        order.sort_by_key(|&i| (entries[i].users.is_empty(), std::cmp::Reverse(entries[i].used), i));
        let mut counted = BTreeSet::new();
        for i in order {
            let new = files[i].into_iter().flatten().filter(|(inode, _)| counted.insert(*inode));
            entries[i].tree_bytes = new.map(|(_, size)| size).sum();
        }
        entries.sort_by_cached_key(|entry| {
            let label = entry.note.as_ref().map(|note| (note.package.clone(), note.version.clone()));
            (label.is_none(), label, entry.archive, entry.tree)
        });
        Ok(entries)
    }

    /// Removes a note.
    pub(super) fn forget(&self, archive: ArchiveDigest) {
        if let Ok(root) = self.folder() {
            root.remove(note_path(archive)).ok();
        }
    }
}

/// Lists the files below a folder: inode and size; none when it cannot be read.
pub(super) fn files_below(folder: Result<Folder, FileError>) -> Vec<(u64, u64)> {
    let mut files = Vec::new();
    let walked = folder.and_then(|folder| {
        folder.walk(|folder, _, entries| {
            for entry in entries.iter().filter(|entry| entry.kind != Kind::Folder) {
                files.extend(folder.meta(&entry.name).ok().map(|meta| (meta.inode, meta.size)));
            }
            Ok::<_, FileError>(())
        })
    });
    drop(walked);
    files
}
