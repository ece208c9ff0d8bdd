//! Moving versions, and back.

pub(super) mod culprit;
pub(super) mod import;
pub(super) mod undo;
pub(super) mod update;
