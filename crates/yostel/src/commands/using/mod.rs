//! Use: what is installed, and what runs with it.

pub(crate) mod alter;
pub(crate) mod checking;
pub(crate) mod env;
pub(crate) mod install;
pub(crate) mod run;
pub(crate) mod verify;
pub(crate) mod r#where;
