//! A proof that there is no set, in open formats, for a judge that shares nothing with us (docs/formats.md §9).

use yostel_solver::Outcome;

use crate::encode::{Encoding, Meaning};
use crate::known::Known;
use crate::problem::Problem;

/// A problem as clauses, and what its variables mean.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Formula {
    /// The clauses, in DIMACS CNF: of the releases that were looked at, which is enough.
    pub cnf: String,
    /// What each variable means: its number, a tab, `release` or `need`, a tab, `PACKAGE VERSION` or `PACKAGE CONSTRAINT`,
    /// one a line. Variables that are not in it are helpers.
    pub variables: String,
}

/// A problem as clauses, and a proof that it cannot be met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// The problem.
    pub formula: Formula,
    /// The proof, as DRAT in text form.
    pub proof: String,
}

/// Writes the problem, solvable or not: as much of it as was looked at.
pub(super) fn formula(problem: &Problem, known: &mut Known) -> Formula {
    write(&encode(problem, known), known)
}

fn write(encoding: &Encoding, known: &Known) -> Formula {
    let mut variables = String::new();
    for (number, meaning) in (1..).zip(encoding.meanings()) {
        match meaning {
            Meaning::Release(id, at) => {
                let release = known.document_of(id).and_then(|document| document.releases.get(at as usize));
                let version = &release.expect("only releases that are here have variables").version;
                variables.push_str(&format!("{number}\trelease\t{} {version}\n", known.name(id)));
            }
            Meaning::Need(need) => {
                let (package, accept) = known.text_of(need);
                variables.push_str(&format!("{number}\tneed\t{package} {accept}\n"));
            }
            Meaning::Helper => {}
        }
    }
    Formula { cnf: encoding.solver.to_cnf().expect("recording is on"), variables }
}

fn encode(problem: &Problem, known: &mut Known) -> Encoding {
    let mut encoding = Encoding::with_proof(known);
    for requirement in &problem.requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        let need = encoding.need(need, problem, known);
        encoding.solver.add_clause(&[need]);
    }
    encoding.state_all(problem, known);
    encoding
}

/// Proves that there is no set; nothing when there is one, or it was told to stop.
pub(super) fn certify(problem: &Problem, known: &mut Known) -> Option<Certificate> {
    let mut encoding = encode(problem, known);
    if !matches!(encoding.solver.solve(&[]), Outcome::Unsatisfiable(_)) {
        return None;
    }
    Some(Certificate { formula: write(&encoding, known), proof: encoding.solver.to_drat()? })
}
