//! Applying a patch: each hunk where its lines are, exactly, or not at all.

use super::patch::{FilePatch, Hunk, Mark};
use super::{EntryKind, TreeFile};

/// A change that does not fit a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rejected {
    /// The file.
    pub path: String,
    /// Why.
    pub reason: RejectedReason,
}

/// Why a change does not fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RejectedReason {
    /// The file to change or remove is not there.
    Missing,
    /// A file that should be new is there already.
    AlreadyThere,
    /// It is a link where the patch has a file, or the other way round.
    OtherKind,
    /// The file is not text.
    NotText,
    /// A hunk's lines are nowhere in the file.
    Hunk {
        /// The hunk.
        hunk: Box<Hunk>,
        /// The lines that are where it should fit.
        found: Vec<String>,
    },
}

impl FilePatch {
    /// Applies the changes to a file's state and returns the new one; nothing for a file that goes.
    ///
    /// A hunk whose lines moved is applied where they are now: nearest to where they were, the upper of two that are
    /// equally near. Not one line may differ.
    ///
    /// # Errors
    /// [`Rejected`], for the first change that does not fit.
    pub fn apply(&self, before: Option<&TreeFile>) -> Result<Option<TreeFile>, Rejected> {
        let reject = |reason| Err(Rejected { path: self.path.clone(), reason });
        let is_link = |kind: EntryKind| kind == EntryKind::Link;
        match (self.before, before) {
            (Some(_), None) => return reject(RejectedReason::Missing),
            (None, Some(_)) => return reject(RejectedReason::AlreadyThere),
            (Some(told), Some(file)) if is_link(told) != is_link(file.kind) => {
                return reject(RejectedReason::OtherKind);
            }
            _ => {}
        }
        let content = before.map_or(&[][..], |file| &file.content);
        let Ok(text) = std::str::from_utf8(content) else { return reject(RejectedReason::NotText) };
        let old: Vec<&str> = text.split_inclusive('\n').collect();
        let mut new = String::with_capacity(text.len());
        let mut done = 0;
        let mut drift = 0isize;
        for hunk in &self.hunks {
            let wanted: Vec<&str> =
                hunk.lines.iter().filter(|line| line.mark != Mark::Added).map(|line| line.text.as_str()).collect();
            let stood = if wanted.is_empty() { hunk.old_start } else { hunk.old_start.saturating_sub(1) };
            let Some(at) = find(&old, &wanted, done, stood.saturating_add_signed(drift)) else {
                let there = old.iter().skip(stood.saturating_add_signed(drift)).take(wanted.len());
                let found = there.map(|line| (*line).to_owned()).collect();
                return reject(RejectedReason::Hunk { hunk: Box::new(hunk.clone()), found });
            };
            drift = at.cast_signed() - stood.cast_signed();
            new.extend(old[done..at].iter().copied());
            let kept = hunk.lines.iter().filter(|line| line.mark != Mark::Removed);
            new.extend(kept.map(|line| line.text.as_str()));
            done = at + wanted.len();
        }
        new.extend(old[done..].iter().copied());
        let Some(after) = self.after else {
            // What goes must go whole, or lines that nobody saw would go with it.
            return if new.is_empty() { Ok(None) } else { reject(RejectedReason::OtherKind) };
        };
        // A patch that tells no mode changes none.
        let kind = match before {
            Some(file) if self.before == self.after && !is_link(after) => file.kind,
            _ => after,
        };
        Ok(Some(TreeFile { kind, content: new.into_bytes() }))
    }
}

/// Finds where these lines are, at or after `from`, nearest to `near`.
fn find(old: &[&str], wanted: &[&str], from: usize, near: usize) -> Option<usize> {
    let last = old.len().checked_sub(wanted.len())?;
    let fits = |at: usize| (from..=last).contains(&at) && old[at..at + wanted.len()] == *wanted;
    if wanted.is_empty() {
        return (from..=last).contains(&near).then_some(near);
    }
    // It may say that it was anywhere; it is in the file.
    let near = near.min(last);
    (0..=last).find_map(|distance| {
        let above = near.checked_sub(distance).filter(|at| fits(*at));
        above.or_else(|| Some(near + distance).filter(|at| fits(*at)))
    })
}
