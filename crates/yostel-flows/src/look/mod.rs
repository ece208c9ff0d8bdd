//! Look: what is there, why, and what to think of it.

pub(crate) mod as_of;
pub(crate) mod audit;
pub(crate) mod baseline;
pub(crate) mod compare;
pub(crate) mod concerns;
pub(crate) mod dedupe;
pub(crate) mod drift;
pub(crate) mod explain;
pub(crate) mod gather;
pub(crate) mod graph;
pub(crate) mod list;
pub(crate) mod picture;
pub(crate) mod releases;
pub(crate) mod remedies;
pub(crate) mod report;
pub(crate) mod statements;
pub(crate) mod tree;
pub(crate) mod trials;
pub(crate) mod under;
pub(crate) mod upkeep;
pub(crate) mod upward;
pub(crate) mod way_out;
