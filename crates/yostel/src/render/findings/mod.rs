//! Findings, in the forms that other programs read.

pub(crate) mod junit;
pub(crate) mod sarif;
