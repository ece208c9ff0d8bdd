//! Share: registries.

pub(crate) mod export;
pub(crate) mod publish;
pub(crate) mod registry;
pub(crate) mod withdraw;
