//! Decide: lockfiles.

mod for_git;
pub(crate) mod lock;
pub(crate) mod settle;
