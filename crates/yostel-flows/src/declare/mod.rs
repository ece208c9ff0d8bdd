//! Declare: manifests.

pub(crate) mod add;
pub(crate) mod agree;
pub(crate) mod git;
pub(crate) mod init;
pub(crate) mod remove;
pub(crate) mod sources;
