//! Made-up worlds, oracles and sandboxes, for tests only: nothing that ships depends on this crate.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]
#![deny(missing_docs)]

pub mod any;
mod brute;
mod cores;
pub mod fuzz;
mod general;
mod hard;
mod kills;
mod large;
mod layered;
mod listen;
mod memory;
mod named;
mod oci;
mod random;
mod sandbox;
mod suggested;
mod tight;
mod web;
mod world;

pub use brute::{brute_force, every_set, is_right};
pub use cores::holds_in;
pub use general::{ByGeneralSolver, best_by_general_solver, versions_of};
pub use hard::{colouring, dress, pigeonhole, three_sat, trap};
pub use kills::{KillReport, kill_at_random};
pub use large::LargeWorld;
pub use layered::LayeredWorld;
pub use memory::{MemoryContent, MemorySource, MemorySources};
pub use named::named;
pub use oci::{OciContent, OciFailure, OciManner, OciRequest, OciServer, digest_of};
pub use random::Random;
pub use sandbox::{Run, Sandbox};
pub use tight::TightWorld;
pub use web::{WebFailure, WebRequest, WebServer};
pub use world::World;
