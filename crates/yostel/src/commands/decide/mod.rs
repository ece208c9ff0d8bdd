//! Decide: lockfiles.

pub(crate) mod lock;
pub(crate) mod settle;
