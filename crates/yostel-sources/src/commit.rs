//! What git lists of a commit (`git ls-tree -r -z -l`, git-ls-tree(1), "Output Format"), read without trust in it: who
//! makes a commit says what is in it.

use yostel_documents::{EntryKind, check_entry_path};

/// Most files of a commit; packages may have no more either.
const MOST_FILES: usize = 200_000;

/// A file of a commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommitFile {
    /// Its path, from the folder that was asked for.
    pub path: String,
    /// What it is.
    pub kind: EntryKind,
    /// Bytes of its content; of a link, of its target.
    pub size: u64,
    /// The digest by which the repository has its content.
    pub(crate) object: String,
}

/// Why a list of a commit's files cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CommitFault {
    /// It is no such list.
    Garbled,
    /// It holds what no package may hold.
    Unfit {
        /// The path, escaped.
        path: String,
        /// Why.
        reason: &'static str,
    },
}

impl CommitFile {
    /// Reads the list of a commit's files; submodules are passed over.
    ///
    /// # Errors
    /// [`CommitFault`].
    pub fn list(text: &[u8]) -> Result<Vec<CommitFile>, CommitFault> {
        let mut files = Vec::new();
        for line in text.split(|byte| *byte == 0).filter(|line| !line.is_empty()) {
            let at = line.iter().position(|byte| *byte == b'\t').ok_or(CommitFault::Garbled)?;
            let (about, path) = (&line[..at], &line[at + 1..]);
            if let Some(file) = read_file(about, path)? {
                if files.len() == MOST_FILES {
                    return Err(unfit(path, "it is one of more than 200,000"));
                }
                files.push(file);
            }
        }
        Ok(files)
    }
}

/// Reads a line: `MODE KIND OBJECT SIZE`, padded, and the path.
fn read_file(about: &[u8], path: &[u8]) -> Result<Option<CommitFile>, CommitFault> {
    let about = std::str::from_utf8(about).map_err(|_| CommitFault::Garbled)?;
    let [mode, _, object, size] = about.split_ascii_whitespace().collect::<Vec<_>>()[..] else {
        return Err(CommitFault::Garbled);
    };
    let kind = match mode {
        "100644" | "100664" => EntryKind::File,
        "100755" => EntryKind::Program,
        "120000" => EntryKind::Link,
        // A submodule.
        "160000" => return Ok(None),
        _ => return Err(unfit(path, "it is of an unknown kind")),
    };
    let text = std::str::from_utf8(path).map_err(|_| unfit(path, "its name is not UTF-8"))?;
    check_entry_path(text).map_err(|reason| unfit(path, reason))?;
    let size = size.parse().map_err(|_| CommitFault::Garbled)?;
    Ok(Some(CommitFile { path: text.to_owned(), kind, size, object: object.to_owned() }))
}

fn unfit(path: &[u8], reason: &'static str) -> CommitFault {
    CommitFault::Unfit { path: String::from_utf8_lossy(path).escape_debug().to_string(), reason }
}
