//! Versions, the numberings that order them, and the constraints that accept them, as pure functions over values.

#![deny(missing_docs)]

mod constraint;
mod lookup;
mod version;

pub use constraint::{
    BindError, Bindings, Constraint, ConstraintProblem, ConstraintText, ConstraintTextError, VersionSet,
};
pub use lookup::Lookup;
pub use version::{Numbering, NumberingError, Order, Unlisted, VERSION_LIMIT, Version, VersionError, Words};
