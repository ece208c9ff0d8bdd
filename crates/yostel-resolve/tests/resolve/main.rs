//! Resolving, judging and explaining, in made-up worlds.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod edits;
mod hard;
mod judging;
mod overriding;
mod reaching;
mod resolving;
mod settling;
mod trials;
mod whys;
