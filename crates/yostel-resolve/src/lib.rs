//! From what projects need to one consistent set of releases, or to what stands against it; and the second opinion on
//! both. Pure functions over values.

#![deny(missing_docs)]

mod certify;
mod edits;
mod encode;
mod explain;
mod known;
mod lock;
mod objective;
mod overridden;
mod problem;
mod resolution;
mod resolver;
mod satisfies;
mod why;

pub use certify::{Certificate, Formula};
pub use edits::{EditSet, WishEdit};
pub use explain::{Collision, Fact, LinesApart, RoleClash, WithinReach};
pub use known::Arrival;
pub use objective::Phase;
pub use overridden::{Overridden, overridden};
pub use problem::{Problem, Rules, requirements_of};
pub use resolution::{Choice, Resolution};
pub use resolver::{Outcome, ResolveError, Resolver, SearchStats, Step, Unfinished};
pub use satisfies::{Violation, satisfies};
pub use why::{NotTaken, Reason, Why, why};
