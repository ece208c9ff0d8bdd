//! Moving versions, and back.

pub(super) mod undo;
