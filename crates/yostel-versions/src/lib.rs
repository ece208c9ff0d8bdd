//! Versions, the numberings that order them, and the constraints that admit them, as pure functions over values.

#![deny(missing_docs)]

mod constraint;
mod lookup;
mod version;

pub use constraint::{Accept, AcceptError, AcceptProblem, BindError, Bindings, Constraint, VersionSet};
pub use lookup::Lookup;
pub use version::{Numbering, NumberingError, Order, Unlisted, VERSION_LIMIT, Version, VersionError, Words};
