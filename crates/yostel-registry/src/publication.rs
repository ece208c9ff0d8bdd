//! What is published, and what came of it.

use std::fmt;
use std::path::Path;

use jiff::Timestamp;
use yostel_documents::{Manifest, PackageName, Release};

/// What a publish did.
#[derive(Debug)]
pub struct Published {
    /// The release as it is now.
    pub release: Release,
    /// The files that it holds, by path, with their sizes in bytes.
    pub files: Vec<(String, u64)>,
    /// Folders that it says it offers, and that it does not hold.
    pub absent: Vec<String>,
    /// False when the very same was there already.
    pub is_new: bool,
    /// Whether it is deprecated since this, and was there before and was not.
    pub is_deprecated_now: bool,
}

/// A package to publish.
pub struct Publication<'p> {
    /// Its folder.
    pub folder: &'p Path,
    /// Folders in it that are not part of it, by their paths.
    pub without: &'p [String],
    /// Its manifest.
    pub manifest: &'p Manifest,
    /// The time.
    pub now: Timestamp,
    /// Tells which commit its files are those of, if of any. Asked once they are packed: what changes later is not in it.
    pub commit: &'p dyn Fn() -> Option<String>,
    /// What its files do not hold.
    pub remarks: ReleaseRemarks,
    /// Whether an older line may get one more release: a version below others that are there.
    pub backport: bool,
    /// Whether nothing is to be published, and only said what would be.
    pub preview: bool,
}

impl fmt::Debug for Publication<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Publication").field("folder", &self.folder).finish_non_exhaustive()
    }
}

/// Facts about a release that its files do not hold.
#[derive(Debug, Clone, Default)]
pub struct ReleaseRemarks {
    /// The platform it was made for; none when it fits all.
    pub platform: Option<String>,
    /// Set when its author gave it up.
    pub deprecated: Option<String>,
    /// The package that took its place.
    pub replaced_by: Option<PackageName>,
}
