//! Times the resolution of a large made-up world, in memory.
//!
//! Usage: `cargo run --release -p yostel-testkit --example resolve_large -- [DIRECT] [PACKAGES] [RELEASES] [NEEDS] [SEED]`
//! With `CNF=FILE` in the environment, the whole problem is written there as clauses, for general solvers.

#![allow(clippy::unwrap_used, reason = "a tool for benches fails by panicking")]

use std::time::Instant;

use yostel_core::{Outcome, Resolver, Step};
use yostel_testkit::LargeWorld;

fn main() {
    let arguments: Vec<u64> = std::env::args().skip(1).map(|text| text.parse().unwrap()).collect();
    let number = |at: usize, default: u64| arguments.get(at).copied().unwrap_or(default);
    let size = LargeWorld {
        direct: number(0, 300),
        packages: number(1, 5000),
        releases: number(2, 20),
        needs: number(3, 4),
        seed: number(4, 1),
    };
    let world = size.make();
    let started = Instant::now();
    let mut resolver = Resolver::new(world.problem(&[]));
    let mut arrived = Vec::new();
    let mut answering = std::time::Duration::ZERO;
    let outcome = loop {
        match resolver.step(arrived).unwrap() {
            Step::Need(wanted) => {
                let asked = Instant::now();
                arrived = world.answer(&wanted);
                answering += asked.elapsed();
            }
            Step::Done(outcome) => break outcome,
        }
    };
    let took = started.elapsed() - answering;
    let found = match outcome {
        Outcome::Resolved(resolution) => format!("{} chosen", resolution.chosen.len()),
        Outcome::Collision(collision) => format!("collision of {} wishes", collision.wishes.len()),
    };
    println!("{size:?}");
    println!("{found} in {} ms (answers took {} ms)", took.as_millis(), answering.as_millis());
    println!("{:?}", resolver.stats());
    if let Some(file) = std::env::var_os("CNF") {
        std::fs::write(file, resolver.to_cnf()).unwrap();
    }
}
