//! Keep: the cache.

pub(crate) mod cache;
