//! The local cache, packing, unpacking, tree digests, install and verify.
//!
//! Knows archives, trees and folders; nothing of resolving, fetching or printing. What is on disk and in which order
//! it is written is docs/formats.md §5 to §8.
//!
//! # Examples
//! ```
//! let folder = tempfile::tempdir().unwrap();
//! let cache = yostel_store::Cache::open(folder.path().join("cache"));
//! assert!(!cache.is_there(), "looking makes nothing");
//! let in_use = cache.use_with_others(|| true).unwrap();
//! assert_eq!(cache.stats().unwrap().archives, 0);
//! ```

#![deny(missing_docs)]

mod alter;
mod cache;
mod changes;
mod error;
mod install;
mod pack;
mod stamp;
mod unpack;
mod verify;

pub use alter::AlterError;
pub use cache::{
    Cache, CacheEntry, CacheProblem, CacheReport, CacheStats, Carried, ChangedFile, Fetching, FileContent, InUse,
    JournalEntry, KeptFile, KeptVerdict, KeptVerdicts, KitError, Loaded, Note, ProjectRecord, PruneRule, Pruned,
    Spoken, StagedArchive, StagedTree, WorkFolder,
};
pub use changes::{FileChange, changes_between, read_file};
pub use error::{AdmitError, ErrorClass, UnpackRefusal};
pub use install::{
    Differing, HeldProject, InstallPlan, Installed, InstalledPackage, Inventory, LAUNCH, Launchers, Link, OpenPackage,
    Placing, PlannedAlteration, PlannedPackage, Project, ReplacedPackage, STATE_FOLDER, Trust, altered_folder,
    dropped_patch,
};
pub use pack::{Contents, PackError, Packed, PickAll, Picking, is_left_out, pack, pack_plain};
pub use unpack::{UnpackConfig, unpack};
pub use verify::{TreeDifference, compare_tree, list_tree};
