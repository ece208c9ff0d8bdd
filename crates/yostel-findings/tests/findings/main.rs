//! What can be told of lockfiles, in made-up worlds.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod advisories;
mod audits;
mod causes;
mod graphs;
mod locks;
mod merging;
mod remedies;
mod similar;
