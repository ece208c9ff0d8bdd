//! Use: what is installed, and what runs with it.

pub(crate) mod alter;
pub(crate) mod checks;
pub(crate) mod environment;
pub(crate) mod install;
pub(crate) mod order;
pub(crate) mod verify;
pub(crate) mod r#where;
