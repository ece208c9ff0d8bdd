//! Properties that take long, tried on all cores.

use std::num::NonZero;
use std::thread::{available_parallelism, scope};

use proptest::prelude::*;
use proptest::test_runner::{Config, TestCaseError, TestRunner};

/// Tries a property in so many cases, on a thread for each core: a test alone keeps one busy, and the last of a program keeps
/// the others waiting.
///
/// # Panics
/// Where it does not hold, with the smallest case that was found.
pub fn holds_in<S: Strategy>(
    cases: u32,
    any: impl Fn() -> S + Sync,
    holds: impl Fn(S::Value) -> Result<(), TestCaseError> + Sync,
) {
    let threads = available_parallelism().map_or(1, NonZero::get) as u32;
    let config = Config { failure_persistence: None, ..Config::with_cases(cases.div_ceil(threads)) };
    let try_some = || {
        if let Err(failure) = TestRunner::new(config.clone()).run(&any(), &holds) {
            panic!("{failure}");
        }
    };
    scope(|scope| {
        for _ in 1..threads {
            scope.spawn(try_some);
        }
        try_some();
    });
}
