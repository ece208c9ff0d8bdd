//! Findings over a locked set: what is outdated, what is there twice.

mod duplicates;
mod outdated;

pub use duplicates::{Duplicate, duplicates};
pub use outdated::{Holder, Outdated, outdated};
