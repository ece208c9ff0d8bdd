//! What can be told of a lockfile: what is outdated, what is there twice, what moved. Pure functions over values.

#![deny(missing_docs)]

mod audit;
mod compare;

pub use audit::{Duplicate, Holder, Outdated, duplicates, outdated};
pub use compare::{Move, MoveKind, compare};
