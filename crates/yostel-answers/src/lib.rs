//! What is told, as data: terminal, JSON and editors render the same values.

#![deny(missing_docs)]

mod diagnostic;

pub use diagnostic::{Diagnostic, Place};
