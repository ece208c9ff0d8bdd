//! A conflict-driven clause-learning search over plain integers.
//!
//! In: clauses (disjunctions of literals) and, for one call, assumptions. Out: a model, or the subset of the
//! assumptions to blame ([`Outcome`]). The answer is a pure function of the order of calls: no clock, no
//! randomness, no I/O (but for a flag that may stop it). Nothing in here knows what a package is.
//!
//! The search follows the literature: GRASP (Marques-Silva and Sakallah 1999) for learning and backjumping, Chaff
//! (Moskewicz et al. 2001) for two watched literals and activity-based decisions, MiniSat (Eén and Sörensson 2003)
//! for incremental solving under assumptions, Luby et al. 1993 for restarts, Nadel and Ryvchin 2018 for going back no further
//! than must be. Problems may be stated while they are
//! searched ([`Guide`]), and at most one of a group is a rule of its own, not clauses ([`Solver::new_group`]).
//!
//! # Examples
//! ```
//! use yostel_solver::{Outcome, Solver};
//! let mut solver = Solver::default();
//! let (a, b) = (solver.new_var(), solver.new_var());
//! solver.add_clause(&[a.negative(), b.positive()]);
//! match solver.solve(&[a.positive(), b.negative()]) {
//!     Outcome::Unsatisfiable(core) => assert_eq!(core.len(), 2),
//!     other => panic!("{other:?}"),
//! }
//! assert!(matches!(solver.solve(&[a.positive()]), Outcome::Satisfiable(m) if m.is_true(b.positive())));
//! ```

#![deny(missing_docs)]

mod analyze;
mod assume;
mod clauses;
mod config;
mod decide;
mod guide;
mod invariants;
mod literal;
mod outcome;
mod proof;
mod propagate;
mod reduce;
mod restart;
mod solver;
mod stats;
mod trail;

pub use config::Config;
pub use guide::{Advice, Guide, Searching};
pub use literal::{Lit, Var};
pub use outcome::{Model, Outcome};
pub use proof::ProofStep;
pub use solver::Solver;
pub use stats::Stats;
