//! Undo what the last command changed in the project's own files, or do it again.
//!
//! The cache's journal has each file as it was before and after. A file that is as the command left it is put back; one that
//! is as it was before needs nothing; any other was edited since, and then nothing at all is touched.

use std::path::{Component, Path, PathBuf};

use jiff::Timestamp;
use yostel_documents::{EntryKind, FilePatch, Patch, TreeFile};
use yostel_store::{Changed, Content, JournalEntry};

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
///
/// # Errors
/// None so far.
pub fn past_changes(folder: &Path, context: &Context<'_>) -> Result<(PathBuf, Vec<PastChange>), FlowError> {
    let (root, journal) = journal_of(folder, context);
    let past = journal.into_iter().rev().map(|entry| PastChange {
        at: entry.at.parse().ok(),
        undone: entry.undone,
        files: entry.files.into_keys().collect(),
        command: entry.command,
    });
    Ok((root, past.collect()))
}

/// Undoes what the last command changed that is not undone yet; all of it or nothing.
///
/// # Errors
/// `Nothing`, `EditedSince`, `Foreign`, and what cannot be read or written.
pub fn undo(folder: &Path, request: UndoRequest, context: &Context<'_>) -> Result<UndoReport, FlowError> {
    let (root, _) = journal_of(folder, context);
    let _held = hold_files(&root, context)?;
    let journal = context.cache.journal(&root);
    let candidates: Vec<&JournalEntry> = journal.iter().filter(|entry| entry.undone == request.again).collect();
    let entry = if request.again { candidates.first() } else { candidates.last() };
    let Some(entry) = entry.copied() else { return Err(UndoError::Nothing { again: request.again }.into()) };
    let mut edited = Vec::new();
    let mut steps = Vec::new();
    for (path, changed) in &entry.files {
        if !is_within(path) {
            return Err(UndoError::Foreign { command: entry.command.clone(), path: path.clone() }.into());
        }
        let Changed { before, after } = changed;
        let (from, to) = if request.again { (before, after) } else { (after, before) };
        let (from, to) = (bytes_of(from), bytes_of(to));
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
        let mut writing = Writing::again(&root, context);
        for (path, _, to) in
            others.into_iter().chain(lockfile).filter(|(_, restored, _)| *restored != Restored::AsItWas)
        {
            writing.put(path, to.as_deref())?;
        }
        let mut entry = entry.clone();
        entry.undone = !request.again;
        let noted = context.cache.write_journal(&mut entry);
        writing.unless_done(noted.map_err(FlowError::from))?;
    }
    Ok(UndoReport {
        root,
        command: entry.command.clone(),
        at: entry.at.parse().ok(),
        files: steps.into_iter().map(|(path, restored, _)| (path, restored)).collect(),
        more: candidates.len() - 1,
        written: request.write == Write::File,
    })
}

/// Finds the project here or above, and what commands changed in it. Where its manifest cannot be read, or was undone
/// itself, the nearest folder that is remembered counts.
fn journal_of(folder: &Path, context: &Context<'_>) -> (PathBuf, Vec<JournalEntry>) {
    if let Ok(project) = load_manifests(folder, context.settings) {
        let journal = context.cache.journal(&project.root);
        return (project.root, journal);
    }
    let above = folder.ancestors().map(|above| (above.to_owned(), context.cache.journal(above)));
    above.into_iter().find(|(_, journal)| !journal.is_empty()).unwrap_or_else(|| (folder.to_owned(), Vec::new()))
}

/// Tells whether a path stays within the project's folder.
fn is_within(path: &str) -> bool {
    let mut parts = Path::new(path).components();
    !path.is_empty() && parts.all(|part| matches!(part, Component::Normal(_)))
}

fn bytes_of(content: &Option<Content>) -> Option<Vec<u8>> {
    content.as_ref().and_then(Content::bytes)
}

/// Writes what differs as a unified diff; nothing where that cannot be told.
fn difference(path: &str, before: Option<&[u8]>, after: Option<&[u8]>) -> Option<String> {
    let file =
        |content: Option<&[u8]>| content.map(|content| TreeFile { kind: EntryKind::File, content: content.to_vec() });
    let (before, after) = (file(before), file(after));
    let patch = FilePatch::between(path, before.as_ref(), after.as_ref()).ok().flatten()?;
    Some(Patch { files: vec![patch] }.write())
}
