//! Undo what the last command changed in the project's own files, or do it again.
//!
//! The cache's journal has each file as it was before and after. A file that is as the command left it is put back; one that
//! is as it was before needs nothing; any other was edited since, and then nothing at all is touched.

use std::path::{Component, Path, PathBuf};

use jiff::Timestamp;
use yostel_documents::{EntryKind, FilePatch, Patch, TreeFile};
use yostel_store::{ChangedFile, FileContent, STATE_FOLDER};

use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::{FlowError, UndoError};
use crate::project::files::LOCKFILE_NAME;
use crate::project::read::load_manifests;
use crate::project::write::{Writing, content_of, hold_files};

/// What to undo.
#[derive(Debug, Clone, Copy)]
pub struct UndoRequest {
    /// Whether to write.
    pub write: Write,
    /// Whether to do again what was undone last, instead.
    pub again: bool,
}

/// What became of a file, or would.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Restored {
    /// It was written as it was.
    Written,
    /// It was not there before, and is not any more.
    Removed,
    /// It is as it was already.
    AsItWas,
}

/// What undoing came to.
#[derive(Debug)]
pub struct UndoReport {
    /// The project's folder.
    pub root: PathBuf,
    /// The command, as it was typed.
    pub command: String,
    /// When it ran; none where the journal does not say it legibly.
    pub at: Option<Timestamp>,
    /// The files by their paths relative to the project's folder.
    pub files: Vec<(String, Restored)>,
    /// How many commands before it can be undone, or how many after it done again.
    pub more: usize,
    /// Whether the files were written.
    pub written: bool,
}

/// A command that changed something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastChange {
    /// The command, as it was typed.
    pub command: String,
    /// When it ran; none where the journal does not say it legibly.
    pub at: Option<Timestamp>,
    /// Whether it was undone.
    pub undone: bool,
    /// The files by their paths relative to the project's folder.
    pub files: Vec<String>,
}

/// Lists what commands changed in the project here or above, the last one first, with the project's folder.
pub fn past_changes(folder: &Path, context: &Context<'_>) -> (PathBuf, Vec<PastChange>) {
    let root = root_of(folder, context);
    let past = context.cache.journal(&root).into_iter().rev().map(|entry| PastChange {
        at: entry.at.parse().ok(),
        undone: entry.is_undone(),
        files: entry.files.into_keys().collect(),
        command: entry.command,
    });
    let past = past.collect();
    (root, past)
}

/// Undoes what the last command changed that is not undone yet; all of it or nothing.
///
/// # Errors
/// `Nothing`, `EditedSince`, `Foreign`, and what cannot be read or written.
pub fn undo(folder: &Path, request: UndoRequest, context: &Context<'_>) -> Result<UndoReport, FlowError> {
    let root = root_of(folder, context);
    let _held = hold_files(&root, context)?;
    let (entry, more) = context.cache.journal_next(&root, request.again);
    let Some(mut entry) = entry else { return Err(UndoError::Nothing { again: request.again }.into()) };
    let mut edited = Vec::new();
    let mut steps = Vec::new();
    for (path, changed) in &entry.files {
        let foreign = || UndoError::Foreign { command: entry.command.clone(), path: path.clone() };
        let ChangedFile { before, after } = changed;
        let (from, to) = if request.again { (before, after) } else { (after, before) };
        let (Some(from), Some(to), true) = (bytes_of(from), bytes_of(to), is_within(path)) else {
            return Err(foreign().into());
        };
        let now = content_of(&root, path)?;
        let restored = match (now == to, now == from, &to) {
            (true, ..) => Restored::AsItWas,
            (_, true, Some(_)) => Restored::Written,
            (_, true, None) => Restored::Removed,
            (_, false, _) => {
                edited.push((path.clone(), difference(path, from.as_deref(), now.as_deref())));
                continue;
            }
        };
        steps.push((path.clone(), restored, to));
    }
    if !edited.is_empty() {
        let (command, again) = (entry.command.clone(), request.again);
        return Err(UndoError::EditedSince { command, again, files: edited }.into());
    }
    if request.write == Write::File {
        // The lockfile last, as when it was written; what was there before it was is not needed any more.
        let (lockfile, others): (Vec<_>, Vec<_>) = steps.iter().partition(|(path, ..)| path == LOCKFILE_NAME);
        let all = others.into_iter().chain(lockfile).filter(|(_, restored, _)| *restored != Restored::AsItWas);
        let files: Vec<_> = all.map(|(path, _, to)| (path.as_str(), to.as_deref())).collect();
        let mut writing = Writing::again(&root, context);
        writing.put_all(&files)?;
        let noted = context.cache.mark_undone(&mut entry, !request.again);
        writing.unless_done(noted.map_err(FlowError::from))?;
    }
    Ok(UndoReport {
        root,
        at: entry.at.parse().ok(),
        command: entry.command,
        files: steps.into_iter().map(|(path, restored, _)| (path, restored)).collect(),
        more,
        written: request.write == Write::File,
    })
}

/// Finds the project here or above. Where its manifest cannot be read, or was undone itself, the nearest folder of which
/// something is remembered counts.
fn root_of(folder: &Path, context: &Context<'_>) -> PathBuf {
    if let Ok(project) = load_manifests(folder, context.settings) {
        return project.root;
    }
    let is_remembered = |above: &&Path| !context.cache.journal(above).is_empty();
    folder.ancestors().find(is_remembered).unwrap_or(folder).to_owned()
}

/// Tells whether a path is one that commands write: within the project's folder, and nothing that version control or an
/// install keeps.
fn is_within(path: &str) -> bool {
    let is_ours = |part: Component<'_>| match part {
        Component::Normal(name) => name != ".git" && name != STATE_FOLDER,
        _ => false,
    };
    !path.is_empty() && Path::new(path).components().all(is_ours)
}

/// Reads what a file held, if it was there; nothing when that is damaged.
fn bytes_of(content: &Option<FileContent>) -> Option<Option<Vec<u8>>> {
    match content {
        None => Some(None),
        Some(content) => content.bytes().map(Some),
    }
}

/// Writes what differs as a unified diff; nothing where that cannot be told.
fn difference(path: &str, before: Option<&[u8]>, after: Option<&[u8]>) -> Option<String> {
    let file =
        |content: Option<&[u8]>| content.map(|content| TreeFile { kind: EntryKind::File, content: content.to_vec() });
    let (before, after) = (file(before), file(after));
    let patch = FilePatch::between(path, before.as_ref(), after.as_ref()).ok().flatten()?;
    Some(Patch { files: vec![patch] }.write())
}
