//! Keep: the cache.

pub(crate) mod cache;
pub(crate) mod kit;
