//! Tests of the core across its rooms, linked once.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod audits;
mod hard;
mod judging;
mod locks;
mod resolving;
mod whys;
