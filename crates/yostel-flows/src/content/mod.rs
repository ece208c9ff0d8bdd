//! Content: archives fetched, unpacked, changed and trusted.

pub(crate) mod altered;
pub(crate) mod ask;
pub(crate) mod bring;
pub(crate) mod elsewhere;
pub(crate) mod fetch;
pub(crate) mod republished;
pub(crate) mod trust;
