//! Share: registries.

mod copy;
pub(crate) mod deprecate;
pub(crate) mod export;
pub(crate) mod login;
mod of_release;
mod place;
pub(crate) mod publish;
pub(crate) mod registry;
pub(crate) mod withdraw;
