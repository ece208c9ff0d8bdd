//! Share: registries.

pub(crate) mod bill;
pub(crate) mod copy;
mod oci;
pub(crate) mod publish;
pub(crate) mod registry;
pub(crate) mod target;
pub(crate) mod tried;
pub(crate) mod withdraw;
