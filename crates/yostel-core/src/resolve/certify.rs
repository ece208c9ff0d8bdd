//! A proof that there is no set, in open formats, for a judge that shares nothing with us (docs/formats.md §9).

use yostel_solver::{Config, Outcome, Solver};

use super::Problem;
use super::encode::Encoding;
use super::known::Known;

/// The problem as clauses, what its variables mean, and a proof that it cannot be met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// The clauses, in DIMACS CNF.
    pub cnf: String,
    /// What each variable means: its number, a tab, `PACKAGE VERSION` or `helper`, one a line.
    pub variables: String,
    /// The proof, as DRAT in text form.
    pub proof: String,
}

/// Writes the problem, solvable or not, in DIMACS CNF.
pub(super) fn to_cnf(problem: &Problem, known: &Known) -> String {
    encode(problem, known).solver.to_cnf().expect("recording is on")
}

fn encode<'k>(problem: &Problem, known: &'k Known) -> Encoding<'k> {
    let solver = Solver::new(Config { record_proof: true, ..Config::default() });
    let mut encoding = Encoding::with_solver(problem, known, solver);
    for wish in &problem.wishes {
        let clause = encoding.admitted(&wish.package, &wish.accept);
        encoding.solver.add_clause(&clause);
    }
    encoding.require_needs();
    encoding
}

/// Proves that there is no set; nothing when there is one.
pub(super) fn certify(problem: &Problem, known: &Known) -> Option<Certificate> {
    let mut encoding = encode(problem, known);
    if !matches!(encoding.solver.solve(&[]), Outcome::Unsatisfiable(_)) {
        return None;
    }
    let mut meanings = vec!["helper".to_owned(); encoding.solver.variables()];
    for (name, candidates) in &encoding.packages {
        for (release, var) in &candidates.releases {
            meanings[var.index()] = format!("{name} {}", release.version);
        }
    }
    let variables = (1..).zip(meanings).map(|(number, meaning)| format!("{number}\t{meaning}\n")).collect();
    Some(Certificate { cnf: encoding.solver.to_cnf()?, variables, proof: encoding.solver.to_drat()? })
}
