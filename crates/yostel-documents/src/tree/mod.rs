//! Trees of files as values: their listing, whose digest names them, and changes to them as unified diffs.

mod apply;
mod links;
mod listing;
mod make;
mod patch;
#[cfg(test)]
mod tests;

pub use apply::{Rejected, RejectedReason};
pub use links::{LinkFault, check_links, fold};
pub use listing::{Entry, EntryKind, Listing, ListingError, check_entry_path};
pub use make::NotText;
pub use patch::{FilePatch, Hunk, HunkLine, Mark, Patch, PatchError};

/// A file or link of a tree with its content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TreeFile {
    /// What it is.
    pub kind: EntryKind,
    /// Its bytes; a link's target.
    pub content: Vec<u8>,
}
