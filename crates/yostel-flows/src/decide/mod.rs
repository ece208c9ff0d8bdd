//! Decide: lockfiles.

pub(crate) mod doubts;
pub(crate) mod for_git;
pub(crate) mod lock;
pub(crate) mod merge;
pub(crate) mod settle;
