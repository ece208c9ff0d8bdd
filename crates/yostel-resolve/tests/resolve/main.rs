//! Resolving, judging and explaining, in made-up worlds.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod hard;
mod judging;
mod resolving;
mod whys;
