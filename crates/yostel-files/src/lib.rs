//! The one door to the file system for everything below a project's `.yostel`, the cache and a registry.
//!
//! A [`Folder`] is held open, and what is below it is reached from that handle part by part, never through a link:
//! whoever puts a link there, before or while we work, makes an operation fail and never makes it happen elsewhere.
//! Every change passes a [`Disk`], so that a test can watch each step and refuse any of them.
//!
//! ```
//! let folder = tempfile::tempdir().unwrap();
//! let held = yostel_files::Folder::open(folder.path()).unwrap();
//! held.write_atomically("note", b"whole or not at all").unwrap();
//! assert_eq!(held.read_text("note", 100).unwrap(), "whole or not at all");
//! std::os::unix::fs::symlink("/etc", folder.path().join("elsewhere")).unwrap();
//! assert!(held.folder("elsewhere").is_err(), "nothing is reached through a link");
//! ```
//!
//! The crates above forbid `std::fs` for what they keep (their `clippy.toml`), so that this door is hard to avoid.
//!
//! The rules that make an install safe when the power goes:
//! - What is made aside is made durable before it gets a name: one [`Folder::sync_all`] for all of it, since a sync for
//!   each of thousands of files costs more than writing them.
//! - A name is given by one rename, and its folder synced after it.
//! - A small file that replaces another is written aside, synced, renamed ([`Folder::write_atomically`]).
//! - What nothing depends on (notes, stamps, listings, claims) is not synced: each of these is checked when it is read,
//!   and one that is damaged counts as not there.
//!
//! Journals of file systems keep the order of names; their order against content is what the syncs are for.

#![deny(missing_docs)]

mod atomic;
mod change;
mod disk;
mod entry;
mod error;
mod folder;
mod handles;
mod locking;
mod nearby;
mod parallel;
mod walk;

pub use atomic::{is_unfinished, remove_unfinished, write_atomically, write_atomically_with};
pub use disk::{Disk, NewFile, Step, Watch};
pub use entry::{Entry, Kind, Meta};
pub use error::{FileError, Stopped};
pub use folder::{Folder, open_regular, read_of, read_text_of};
pub use handles::{most_open_files, says_too_many_open};
pub use locking::{Hold, lock};
pub use nearby::Nearby;
pub use parallel::for_each_in_parallel;
