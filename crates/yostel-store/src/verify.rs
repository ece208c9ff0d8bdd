//! Comparing a tree on disk with its listing, byte by byte.

use std::collections::BTreeMap;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;

use yostel_documents::{ContentDigest, Entry, EntryKind, Listing, Sha256, check_entry_path, check_links};
use yostel_files::{FileError, Folder, Kind, Meta};

/// One way in which a tree is not what its listing says.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum TreeDifference {
    /// Content, kind or executable bit is another.
    Changed {
        /// The path.
        path: String,
        /// How it differs.
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

/// Reads every file below `folder` and lists what differs from `expected`, by path. No folder at all is an empty one.
///
/// # Errors
/// When a folder or file cannot be read.
pub fn compare_tree(folder: Option<&Folder>, expected: &Listing) -> Result<Vec<TreeDifference>, FileError> {
    let Found { entries: mut found, strangers, empty_folders } = match folder {
        Some(folder) => read_tree(folder)?,
        None => Found::default(),
    };
    let mut differences: Vec<TreeDifference> = strangers.into_iter().map(TreeDifference::Extra).collect();
    for (path, entry) in &expected.entries {
        match found.remove(path) {
            None => differences.push(TreeDifference::Missing(path.clone())),
            Some((seen, _)) if seen == *entry => {}
            Some((seen, _)) => {
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
    let lost_its_files = |path: &String| {
        let next = expected.entries.range(path.clone()..).next();
        next.is_some_and(|(next, _)| next.starts_with(path))
    };
    let extra = empty_folders.into_iter().filter(|path| !lost_its_files(path));
    differences.extend(extra.chain(found.into_keys()).map(TreeDifference::Extra));
    differences.sort_by(|a, b| a.path().cmp(b.path()));
    Ok(differences)
}

/// Lists the files and links below a folder, reading all of them.
///
/// # Errors
/// When something cannot be read, or no package can hold it: its path, what it is, or where it leads.
pub fn list_tree(folder: &Folder) -> Result<Listing, FileError> {
    let refuse = |path: &str, reason: &str| FileError::unfit("take", folder.path_of(path), reason);
    let Found { entries, strangers, .. } = read_tree(folder)?;
    if let Some(other) = strangers.first() {
        return Err(refuse(other, "it is neither a file nor a link"));
    }
    for path in entries.keys() {
        check_entry_path(path).map_err(|reason| refuse(path, reason))?;
    }
    let nodes = entries.iter().map(|(path, (_, target))| (path.as_str(), target.as_deref()));
    check_links(nodes).map_err(|(path, fault)| refuse(path, &format!("it is a link that {}", fault.as_str())))?;
    Ok(Listing { entries: entries.into_iter().map(|(path, (entry, _))| (path, entry)).collect() })
}

/// What is below a folder.
#[derive(Default)]
struct Found {
    /// Files and links by path; links with their targets.
    entries: BTreeMap<String, (Entry, Option<String>)>,
    /// What is neither.
    strangers: Vec<String>,
    /// Folders with nothing in them, each with a `/` at its end.
    empty_folders: Vec<String>,
}

fn read_tree(folder: &Folder) -> Result<Found, FileError> {
    let mut all = Found::default();
    let mut buffer = vec![0; 64 * 1024];
    folder.walk(|folder, at, entries| {
        let at = at.to_string_lossy();
        if entries.is_empty() && !at.is_empty() {
            all.empty_folders.push(format!("{at}/"));
        }
        for entry in entries {
            let path = if at.is_empty() { entry.text().into_owned() } else { format!("{at}/{}", entry.text()) };
            match entry.kind {
                Kind::Folder => {}
                Kind::Other => all.strangers.push(path),
                Kind::File => {
                    let meta = folder.meta(&entry.name)?;
                    all.entries.insert(path, (read_file_entry(folder, &entry.name, meta, &mut buffer)?, None));
                }
                Kind::Link => {
                    let target = folder.read_link(&entry.name)?;
                    let bytes = target.as_bytes();
                    let digest = ContentDigest::of(bytes);
                    let size = bytes.len() as u64;
                    let text = target.to_string_lossy().into_owned();
                    all.entries.insert(path, (Entry { kind: EntryKind::Link, digest, size }, Some(text)));
                }
            }
        }
        Ok::<_, FileError>(())
    })?;
    Ok(all)
}

fn read_file_entry(folder: &Folder, name: &std::ffi::OsStr, meta: Meta, buffer: &mut [u8]) -> Result<Entry, FileError> {
    let mut file = folder.open_file(name)?;
    let mut digest = Sha256::default();
    let mut size = 0;
    loop {
        let n = file.read(buffer).map_err(|cause| FileError::when("read", folder.path_of(name))(cause))?;
        if n == 0 {
            break;
        }
        digest.update(&buffer[..n]);
        size += n as u64;
    }
    let kind = if meta.is_program() { EntryKind::Program } else { EntryKind::File };
    Ok(Entry { kind, digest: ContentDigest::new(digest.finish()), size })
}
