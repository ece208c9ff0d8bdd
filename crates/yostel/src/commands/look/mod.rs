//! Look: what is there, why, and what to think of it.

pub(crate) mod audit;
pub(crate) mod compare;
pub(crate) mod drift;
pub(crate) mod explain;
pub(crate) mod graph;
pub(crate) mod list;
mod releases;
pub(crate) mod report;
pub(crate) mod tree;
