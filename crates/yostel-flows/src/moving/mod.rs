//! Moving versions, and back.

pub(crate) mod aim;
pub(crate) mod alternatives;
pub(crate) mod constraints;
pub(crate) mod culprit;
pub(crate) mod import;
pub(crate) mod news;
pub(crate) mod planned;

pub(crate) mod propose;
pub(crate) mod reach;
pub(crate) mod scratch;
pub(crate) mod tested;
pub(crate) mod undo;
pub(crate) mod update;
