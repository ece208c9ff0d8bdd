//! Findings over a locked set: what is outdated, what is there twice, what is said of releases since they were published.

mod advisories;
mod duplicates;
mod notices;
mod outdated;

pub use advisories::{Published, Rating, Threat, affects, is_affected, severity_of, threats};
pub use duplicates::{Duplicate, duplicates};
pub use notices::{Notice, notices};
pub use outdated::{Holder, Outdated, outdated};
