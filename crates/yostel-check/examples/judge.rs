//! Judges a proof: `cargo run -p yostel-check --example judge -- PROBLEM.cnf PROOF.drat`.
//!
//! Ends with status 0 when the proof refutes the problem, 1 when it does not, 2 when a file cannot be read.

use std::process::ExitCode;

use yostel_check::{check_proof, parse_cnf};

fn main() -> ExitCode {
    let files: Vec<String> = std::env::args().skip(1).collect();
    let [problem, proof] = &files[..] else {
        eprintln!("usage: judge PROBLEM.cnf PROOF.drat");
        return ExitCode::from(2);
    };
    let (cnf, drat) = match (std::fs::read_to_string(problem), std::fs::read_to_string(proof)) {
        (Ok(cnf), Ok(drat)) => (cnf, drat),
        (Err(error), _) => return unreadable(problem, &error),
        (_, Err(error)) => return unreadable(proof, &error),
    };
    match parse_cnf(&cnf).and_then(|problem| check_proof(&problem, &drat, &[])) {
        Ok(steps) => {
            let all = drat.lines().count();
            println!("accepted: the problem cannot be met, as {steps} of {all} steps show");
            ExitCode::SUCCESS
        }
        Err(refusal) => {
            println!("refused: {refusal}");
            ExitCode::FAILURE
        }
    }
}

fn unreadable(file: &str, error: &std::io::Error) -> ExitCode {
    eprintln!("cannot read {file}: {error}");
    ExitCode::from(2)
}
