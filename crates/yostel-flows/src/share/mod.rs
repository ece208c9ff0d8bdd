//! Share: registries.

pub(crate) mod bill;
pub(crate) mod publish;
pub(crate) mod registry;
pub(crate) mod withdraw;
