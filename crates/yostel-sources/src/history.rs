//! A file as it was at an earlier time, read from the objects of the repository that a folder is in.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::git::{GitConfig, GitError, Output, run, unreachable_by};

/// What a repository has of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileAt {
    /// Its text.
    Text(Vec<u8>),
    /// The file is not there at that time.
    NoFile,
    /// There is no such revision; and whether that may be because the repository's history is cut off.
    NoRevision {
        /// Whether only a part of the history is here.
        is_shallow: bool,
    },
}

/// Reads a file of a folder as it is at a revision: a commit, a branch, a tag, or whatever git reads as one. No filter and no
/// program that the repository names is run.
///
/// # Errors
/// `NoProgram`, `OutOfTime`, `Stopped`; `Unreachable` when the folder is in no repository, or the file has more bytes than
/// `most`.
pub fn file_at(folder: &Path, file: &str, revision: &str, most: u64, config: &GitConfig) -> Result<FileAt, GitError> {
    let address = folder.to_string_lossy();
    let ask = |arguments: &[&str]| -> Result<Output, GitError> {
        let mut command = config.git_in(folder);
        command.args(arguments);
        run(command, &address, &config.patience)
    };
    let inside = ask(&["rev-parse", "--is-shallow-repository"])?;
    if !inside.status.success() {
        return Err(unreachable_by(&address, &inside));
    }
    let is_shallow = inside.stdout.starts_with(b"true");
    let wanted = format!("{revision}^{{commit}}");
    let commit = ask(&["rev-parse", "--verify", "--quiet", "--end-of-options", &wanted])?;
    let commit = String::from_utf8_lossy(&commit.stdout).trim().to_owned();
    if commit.is_empty() || !commit.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return Ok(FileAt::NoRevision { is_shallow });
    }
    // An object that cannot be read is another matter than a file that was not there.
    let listed = ask(&["ls-tree", "-z", &commit, "--", file])?;
    if !listed.status.success() {
        return Err(unreachable_by(&address, &listed));
    }
    // A line is mode, kind, object, and behind a tab the path.
    let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
    let Some(blob) = listed.split(['\t', '\0']).next().and_then(|entry| entry.split(' ').nth(2)) else {
        return Ok(FileAt::NoFile);
    };
    let size = ask(&["cat-file", "-s", blob])?;
    if !size.status.success() {
        return Err(unreachable_by(&address, &size));
    }
    let bytes = String::from_utf8_lossy(&size.stdout).trim().parse::<u64>().unwrap_or(u64::MAX);
    if bytes > most {
        let said = format!("{file} has {bytes} bytes at {revision}, and {most} are read");
        return Err(GitError::Unreachable { address: address.into_owned(), said });
    }
    let text = ask(&["cat-file", "blob", blob])?;
    match text.status.success() {
        true => Ok(FileAt::Text(text.stdout)),
        false => Err(unreachable_by(&address, &text)),
    }
}

/// A file at one time of its history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revision {
    /// The commit that made it so.
    pub commit: String,
    /// When that was committed, in seconds since 1970, as whoever committed it says.
    pub at: i64,
    /// Its object; nothing when the commit took the file away.
    blob: Option<String>,
}

/// The history of a file, along the first parent of each commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileHistory {
    /// The commits that changed it, the oldest first.
    pub revisions: Vec<Revision>,
    /// Whether only a part of the history is here.
    pub is_shallow: bool,
}

/// Lists the commits that changed a file of a folder, from the one that is checked out back.
///
/// # Errors
/// As [`file_at`].
pub fn history_of(folder: &Path, file: &str, config: &GitConfig) -> Result<FileHistory, GitError> {
    let address = folder.to_string_lossy();
    let ask = |arguments: &[&str]| -> Result<Output, GitError> {
        let mut command = config.git_in(folder);
        command.args(["-c", "log.showSignature=false"]).args(arguments);
        run(command, &address, &config.patience)
    };
    let inside = ask(&["rev-parse", "--is-shallow-repository"])?;
    if !inside.status.success() {
        return Err(unreachable_by(&address, &inside));
    }
    let is_shallow = inside.stdout.starts_with(b"true");
    if !ask(&["rev-parse", "--verify", "--quiet", "HEAD"])?.status.success() {
        return Ok(FileHistory { revisions: Vec::new(), is_shallow });
    }
    let what =
        ["log", "--first-parent", "--raw", "--no-abbrev", "--no-renames", "--no-ext-diff", "--format=%x01%H %ct"];
    let told = ask(&[&what[..], &["HEAD", "--", file]].concat())?;
    if !told.status.success() {
        return Err(unreachable_by(&address, &told));
    }
    let told = String::from_utf8_lossy(&told.stdout);
    // A line with commit and time; below it one with both modes, both objects, what was done, and the path.
    let revision = |entry: &str| {
        let (head, rest) = entry.split_once('\n').unwrap_or((entry, ""));
        let (commit, at) =
            head.split_once(' ').filter(|(commit, _)| commit.bytes().all(|byte| byte.is_ascii_hexdigit()))?;
        let changed = rest.lines().find(|line| line.starts_with(':'))?;
        let blob = changed.split(' ').nth(3).filter(|blob| blob.bytes().any(|byte| byte != b'0'));
        Some(Revision { commit: commit.to_owned(), at: at.trim().parse().ok()?, blob: blob.map(str::to_owned) })
    };
    let mut revisions: Vec<Revision> = told.split('\u{1}').filter_map(revision).collect();
    revisions.reverse();
    Ok(FileHistory { revisions, is_shallow })
}

/// Reads a file as it was at a time of its history; nothing when it was not there, or has more bytes than `most`.
///
/// # Errors
/// As [`file_at`].
pub fn file_of(folder: &Path, revision: &Revision, most: u64, config: &GitConfig) -> Result<Option<Vec<u8>>, GitError> {
    let Some(blob) = &revision.blob else { return Ok(None) };
    let address = folder.to_string_lossy();
    let mut command = config.git_in(folder);
    command.args(["cat-file", "blob", blob]);
    let text = run(command, &address, &config.patience)?;
    match text.status.success() {
        true => Ok(Some(text.stdout).filter(|text| text.len() as u64 <= most)),
        false => Err(unreachable_by(&address, &text)),
    }
}

/// Merges three files line by line, as git does: the one that both sides began with, ours, theirs. Returns the text, and whether
/// both changed the same lines, which are marked in it then.
///
/// # Errors
/// `NoProgram`, `OutOfTime`, `Stopped`; `Unreachable` when one cannot be read.
pub fn merge_texts(folder: &Path, files: &[PathBuf; 3], config: &GitConfig) -> Result<(String, bool), GitError> {
    let address = folder.to_string_lossy();
    let [base, ours, theirs] = files;
    let mut command = config.git_in(folder);
    command.args(["merge-file", "-p", "-L", "ours", "-L", "both began with", "-L", "theirs", "--"]);
    let output = run(command_with(command, [ours, base, theirs]), &address, &config.patience)?;
    // The status is how many such places there are; everything above is an error.
    match (output.status.code(), String::from_utf8(output.stdout.clone())) {
        (Some(0), Ok(text)) => Ok((text, false)),
        (Some(1..=127), Ok(text)) => Ok((text, true)),
        _ => Err(unreachable_by(&address, &output)),
    }
}

fn command_with(mut command: Command, files: [&PathBuf; 3]) -> Command {
    command.args(files);
    command
}

/// Sets a value in the configuration of the repository that a folder is in; returns the one that was there.
///
/// # Errors
/// `NoProgram`, `OutOfTime`, `Stopped`; `Unreachable` when the folder is in no repository, or its configuration cannot be written.
pub fn configure(folder: &Path, key: &str, value: &str, config: &GitConfig) -> Result<Option<String>, GitError> {
    let address = folder.to_string_lossy();
    let ask = |arguments: &[&str]| {
        let mut command = config.git_in(folder);
        command.args(["config", "--local"]).args(arguments);
        run(command, &address, &config.patience)
    };
    let before = ask(&["--get", key])?;
    // 1 says that there is none.
    if !matches!(before.status.code(), Some(0 | 1)) {
        return Err(unreachable_by(&address, &before));
    }
    let before = String::from_utf8_lossy(&before.stdout).trim_end_matches('\n').to_owned();
    if before != value {
        let set = ask(&[key, value])?;
        if !set.status.success() {
            return Err(unreachable_by(&address, &set));
        }
    }
    Ok((!before.is_empty()).then_some(before))
}

/// Reads the three texts of a file whose merge is not finished: the one that both sides began with, ours, theirs; nothing
/// of one that is not there. `folder` is the one that the file is in.
///
/// # Errors
/// `NoProgram`, `OutOfTime`, `Unreachable` when the folder is in no working tree.
pub fn unmerged(folder: &Path, file: &str, config: &GitConfig) -> Result<[Option<Vec<u8>>; 3], GitError> {
    let address = folder.to_string_lossy();
    let ask = |arguments: &[&str]| {
        let mut command = config.git_in(folder);
        command.args(arguments);
        run(command, &address, &config.patience)
    };
    let listed = ask(&["ls-files", "--unmerged", "-z", "--", file])?;
    if !listed.status.success() {
        return Err(unreachable_by(&address, &listed));
    }
    // A line is mode, object, stage and path.
    let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
    let mut texts = [None, None, None];
    for line in listed.split('\0') {
        let mut words = line.split_whitespace().skip(1);
        let (Some(object), Some(stage)) = (words.next(), words.next()) else { continue };
        let Some(text) = stage.parse::<usize>().ok().and_then(|stage| texts.get_mut(stage.checked_sub(1)?)) else {
            continue;
        };
        let blob = ask(&["cat-file", "blob", object])?;
        if !blob.status.success() {
            return Err(unreachable_by(&address, &blob));
        }
        *text = Some(blob.stdout);
    }
    Ok(texts)
}
