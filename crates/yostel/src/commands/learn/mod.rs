//! Learn: the example.

pub(crate) mod demo;
mod past;
mod walk;
mod world;
