//! Declare: manifests.

pub(crate) mod add;
pub(crate) mod agree;
pub(super) mod finish;
pub(crate) mod init;
pub(crate) mod remove;
pub(crate) mod sources;
