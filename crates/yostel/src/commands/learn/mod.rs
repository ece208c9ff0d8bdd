//! Learn: the example.

pub(crate) mod demo;
mod walk;
mod world;
