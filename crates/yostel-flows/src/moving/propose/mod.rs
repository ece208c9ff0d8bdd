//! Proposing updates: for each package or group a branch with a commit that a reviewer can judge, in a repository of git's.
//!
//! `plans` finds out what could move, and makes of each an update that is not written; what is to be done about each is decided
//! purely (`yostel_findings::proposal_steps`); `run` does it, and `decide` takes or declines one. Where proposals are kept is
//! behind `host`.

pub(crate) mod decide;
pub(crate) mod host;
pub(crate) mod plans;
pub(crate) mod run;
