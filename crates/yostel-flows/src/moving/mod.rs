//! Moving versions, and back.

pub(crate) mod undo;
