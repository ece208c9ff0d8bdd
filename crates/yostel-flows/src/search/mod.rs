//! Searching: from what is declared to a proposal.

pub(crate) mod drive;
pub(crate) mod fresh;
pub(crate) mod places;
pub(crate) mod proposal;
pub(crate) mod rules;
