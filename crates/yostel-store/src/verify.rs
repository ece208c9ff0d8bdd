//! Comparing a tree on disk with its listing, byte by byte.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use yostel_core::{ContentDigest, Entry, EntryKind, Listing, Sha256, check_entry_path, link_stays_inside};

use crate::error::StoreError;

/// One way in which a tree is not what its listing says.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum TreeDifference {
    /// Content, kind or executable bit is another.
    Changed {
        /// The path.
        path: String,
        /// What is other about it.
        how: &'static str,
    },
    /// It is not there.
    Missing(String),
    /// It is there and should not be.
    Extra(String),
}

impl TreeDifference {
    /// Returns the path it is about.
    pub fn path(&self) -> &str {
        match self {
            Self::Changed { path, .. } | Self::Missing(path) | Self::Extra(path) => path,
        }
    }
}

/// Reads every file below `folder` and lists what differs from `expected`, by path.
///
/// # Errors
/// When a folder or file cannot be read.
pub fn compare_tree(folder: &Path, expected: &Listing) -> Result<Vec<TreeDifference>, StoreError> {
    let mut found = BTreeMap::new();
    let mut differences = Vec::new();
    if folder.symlink_metadata().is_ok_and(|m| m.is_dir()) {
        read_folder(folder, "", &mut found, &mut differences)?;
    }
    for (path, entry) in &expected.entries {
        match found.remove(path) {
            None => differences.push(TreeDifference::Missing(path.clone())),
            Some(seen) if seen == *entry => {}
            Some(seen) => {
                let how = if seen.kind == entry.kind {
                    "content"
                } else if seen.kind == EntryKind::Link || entry.kind == EntryKind::Link {
                    "kind"
                } else {
                    "executable bit"
                };
                differences.push(TreeDifference::Changed { path: path.clone(), how });
            }
        }
    }
    // A folder that lost all its files is told by those that are missing, not as something extra.
    differences.retain(|difference| match difference {
        TreeDifference::Extra(path) if path.ends_with('/') => {
            expected.entries.range(path.clone()..).next().is_none_or(|(next, _)| !next.starts_with(path))
        }
        _ => true,
    });
    differences.extend(found.into_keys().map(TreeDifference::Extra));
    differences.sort_by(|a, b| a.path().cmp(b.path()));
    Ok(differences)
}

/// Lists the files and links below a folder, reading all of them.
///
/// # Errors
/// When something cannot be read, or no package can hold it: its path, what it is, or where it leads.
pub fn list_tree(folder: &Path) -> Result<Listing, StoreError> {
    let refuse = |path: &str, reason: &str| StoreError {
        doing: "take",
        path: folder.join(path),
        cause: io::Error::new(io::ErrorKind::InvalidData, reason.to_owned()),
    };
    let (mut entries, mut others) = (BTreeMap::new(), Vec::new());
    read_folder(folder, "", &mut entries, &mut others)?;
    if let Some(other) = others.iter().find(|other| !other.path().ends_with('/')) {
        return Err(refuse(other.path(), "it is neither a file nor a link"));
    }
    for (path, entry) in &entries {
        check_entry_path(path).map_err(|reason| refuse(path, reason))?;
        if entry.kind == EntryKind::Link {
            let target = fs::read_link(folder.join(path)).unwrap_or_default();
            if !target.to_str().is_some_and(|target| link_stays_inside(path, target)) {
                return Err(refuse(path, "it is a link that leads out of the package"));
            }
        }
    }
    Ok(Listing { entries })
}

fn read_folder(
    folder: &Path,
    prefix: &str,
    found: &mut BTreeMap<String, Entry>,
    differences: &mut Vec<TreeDifference>,
) -> Result<(), StoreError> {
    let mut empty = true;
    for entry in fs::read_dir(folder).map_err(StoreError::when("read the folder", folder))? {
        empty = false;
        let entry = entry.map_err(StoreError::when("read the folder", folder))?;
        let on_disk = entry.path();
        let name = entry.file_name();
        let name = name.to_string_lossy();
        let path = if prefix.is_empty() { name.into_owned() } else { format!("{prefix}/{name}") };
        let kind = entry.file_type().map_err(StoreError::when("read", &on_disk))?;
        if kind.is_dir() {
            read_folder(&on_disk, &path, found, differences)?;
        } else if kind.is_file() || kind.is_symlink() {
            let entry = read_entry(&on_disk).map_err(StoreError::when("read", &on_disk))?;
            found.insert(path, entry);
        } else {
            differences.push(TreeDifference::Extra(path));
        }
    }
    if empty && !prefix.is_empty() {
        differences.push(TreeDifference::Extra(format!("{prefix}/")));
    }
    Ok(())
}

fn read_entry(path: &Path) -> io::Result<Entry> {
    let metadata = path.symlink_metadata()?;
    if metadata.is_symlink() {
        use std::os::unix::ffi::OsStrExt;
        let target = fs::read_link(path)?;
        let target = target.as_os_str().as_bytes();
        return Ok(Entry { kind: EntryKind::Link, digest: ContentDigest::of(target), size: target.len() as u64 });
    }
    let mut file = fs::File::open(path)?;
    let mut digest = Sha256::default();
    let mut size = 0;
    let mut buffer = vec![0; 64 * 1024];
    loop {
        let n = file.read(&mut buffer)?;
        if n == 0 {
            break;
        }
        digest.update(&buffer[..n]);
        size += n as u64;
    }
    let kind = if metadata.permissions().mode() & 0o100 != 0 { EntryKind::Program } else { EntryKind::File };
    Ok(Entry { kind, digest: ContentDigest::new(digest.finish()), size })
}
