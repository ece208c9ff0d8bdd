//! Kills installs and prunes at random moments, again and again, and checks after each that nothing is broken.
//!
//! Usage: `cargo run --release -p yostel-testkit --example kill_installs -- PROGRAM [KILLS] [SEED]`

use std::path::Path;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let number = |at: usize, default: u64| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(default);
    let program = arguments.first().expect("name the program to kill: target/release/yostel");
    let program = Path::new(program).canonicalize().expect("the program is there");
    let (kills, seed) = (number(1, 500), number(2, u64::from(std::process::id())));
    println!("seed {seed}");
    let report = yostel_testkit::kill_at_random(&program, kills, seed);
    println!("{report}");
}
