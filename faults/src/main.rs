//! Seeds faults into a copy of the sources, runs the tests against each, and tells which of them no test noticed.
//!
//!     cargo run --release --manifest-path faults/Cargo.toml -- FOLDER COUNT SEED [CRATE…]
//!
//! All faults go into one build: each stands beside what was there before, and a file in FOLDER says which of them is
//! on. So a fault costs a run of the tests that notice it, not a build. The tests of the fault's own crate run first, then
//! those of the crates above it; the first that fails ends the run. Before that, all tests must pass with every fault off.
//!
//! What a fault is: a comparison turned or moved by one, `and` for `or`, a condition turned, a number one larger, `true`
//! for `false`, a statement left out, a function that returns at once with nothing. Not touched: tests, constants,
//! macros, words for people (`error`, `told`, what an observer is told), and benches.

mod copies;
mod runs;
mod sites;

use std::path::Path;
use std::process::ExitCode;

use crate::runs::{Verdict, judge, tests_of};
use crate::sites::{Site, choose, sites_of};

/// Crates whose faults are sampled when none is named: what computes, what holds files, and the use cases.
const CRATES: [&str; 8] = ["versions", "documents", "solver", "resolve", "findings", "files", "store", "flows"];

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, count, seed, crates @ ..] = arguments.as_slice() else {
        eprintln!("usage: yostel-faults FOLDER COUNT SEED [CRATE…]");
        return ExitCode::from(2);
    };
    let (Ok(count), Ok(seed)) = (count.parse::<usize>(), seed.parse::<u64>()) else {
        eprintln!("COUNT and SEED are whole numbers");
        return ExitCode::from(2);
    };
    let crates: Vec<&str> =
        if crates.is_empty() { CRATES.to_vec() } else { crates.iter().map(String::as_str).collect() };
    match run(Path::new(folder), count, seed, &crates) {
        Ok(missed) if missed * 10 <= count => ExitCode::SUCCESS,
        Ok(_) => ExitCode::FAILURE,
        Err(problem) => {
            eprintln!("{problem}");
            ExitCode::from(2)
        }
    }
}

/// Returns how many faults nobody noticed.
fn run(folder: &Path, count: usize, seed: u64, crates: &[&str]) -> Result<usize, String> {
    let folder = &copies::copy_to(folder)?;
    let all = sites_of(folder, crates)?;
    println!("{} places for a fault in {}", all.len(), crates.join(", "));
    // More than are asked for: some do not compile.
    let mut chosen = choose(all, count + count / 5 + 5, seed);
    let originals = copies::originals(folder, &chosen)?;
    let tests = loop {
        copies::seed(folder, &originals, &chosen)?;
        match tests_of(folder)? {
            Ok(tests) => break tests,
            Err(places) => {
                let before = chosen.len();
                chosen.retain(|site| !places.iter().any(|(file, line)| site.covers(file, *line)));
                if chosen.len() == before {
                    return Err(format!("it does not compile, and not for a fault: {places:?}"));
                }
                println!("{} do not compile", before - chosen.len());
            }
        }
    };
    chosen.truncate(count);
    let with_none = judge(folder, &tests, None)?;
    if let Verdict::Noticed(by) = with_none {
        return Err(format!("without any fault, this fails: {by}"));
    }
    let mut missed: Vec<&Site> = Vec::new();
    for (at, site) in chosen.iter().enumerate() {
        match judge(folder, &tests, Some(site))? {
            Verdict::Noticed(by) => println!("{:>3} {site}: noticed by {by}", at + 1),
            Verdict::Missed => {
                println!("{:>3} {site}: NOT NOTICED", at + 1);
                missed.push(site);
            }
        }
    }
    println!("{} of {} noticed", chosen.len() - missed.len(), chosen.len());
    missed.iter().for_each(|site| println!("not noticed: {site}"));
    Ok(missed.len())
}
