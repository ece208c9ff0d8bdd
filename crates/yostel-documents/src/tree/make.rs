//! From two states of a file to the patch between them.

use similar::{Algorithm, DiffOp, capture_diff_slices, group_diff_ops};

use super::patch::{FilePatch, Hunk, HunkLine, Mark};
use super::{EntryKind, TreeFile};

/// Lines told around a change.
const CONTEXT: usize = 3;

/// A file is not text, so its changes cannot be told by lines.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not text")]
pub struct NotText(pub String);

impl FilePatch {
    /// Finds the changes between two states of a file; nothing when they are the same.
    ///
    /// # Errors
    /// When either content is not UTF-8 text, and they differ.
    pub fn between(path: &str, before: Option<&TreeFile>, after: Option<&TreeFile>) -> Result<Option<Self>, NotText> {
        if before == after {
            return Ok(None);
        }
        let kind = |file: Option<&TreeFile>| file.map(|file| file.kind);
        let (old, new) = (lines_of(path, before)?, lines_of(path, after)?);
        // A link that becomes a file, or the other way round, shares no lines with it that mean the same.
        let ops = capture_diff_slices(Algorithm::Myers, &old, &new);
        let hunks = group_diff_ops(ops, CONTEXT).iter().filter_map(|group| hunk_of(group, &old, &new)).collect();
        Ok(Some(Self { path: path.to_owned(), before: kind(before), after: kind(after), hunks }))
    }
}

fn lines_of<'a>(path: &str, file: Option<&'a TreeFile>) -> Result<Vec<&'a str>, NotText> {
    let Some(file) = file else { return Ok(Vec::new()) };
    match std::str::from_utf8(&file.content) {
        Ok(text) if !text.contains('\0') || file.kind == EntryKind::Link => Ok(text.split_inclusive('\n').collect()),
        _ => Err(NotText(path.to_owned())),
    }
}

fn hunk_of(group: &[DiffOp], old: &[&str], new: &[&str]) -> Option<Hunk> {
    let mut lines = Vec::new();
    let mut take = |mark, texts: &[&str]| {
        lines.extend(texts.iter().map(|text| HunkLine { mark, text: (*text).to_owned() }));
    };
    for op in group {
        let (before, after) = (&old[op.old_range()], &new[op.new_range()]);
        if matches!(op, DiffOp::Equal { .. }) {
            take(Mark::Same, before);
        } else {
            take(Mark::Removed, before);
            take(Mark::Added, after);
        }
    }
    let (first, last) = (group.first()?, group.last()?);
    let empty = |range: std::ops::Range<usize>, end: usize| range.start == end;
    let start = |start: usize, nothing: bool| if nothing { start } else { start + 1 };
    let old_start = start(first.old_range().start, empty(first.old_range(), last.old_range().end));
    let new_start = start(first.new_range().start, empty(first.new_range(), last.new_range().end));
    Some(Hunk { old_start, new_start, lines, at: 0 })
}
