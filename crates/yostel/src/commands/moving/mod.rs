//! Moving versions, and back.

mod alternatives;
mod choosing;
pub(super) mod culprit;
pub(super) mod import;
pub(super) mod proposals;
pub(super) mod propose;
pub(super) mod undo;
pub(super) mod update;
