//! Plans: what an install should lead to, composed.

pub(crate) mod compose;
pub(crate) mod installed;
pub(crate) mod launchers;
pub(crate) mod planned;
