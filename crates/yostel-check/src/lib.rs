//! The independent judge: reads a problem, an assignment or a proof in open text formats and says whether it holds.
//!
//! Written to be read in one sitting, against the formats alone (DIMACS CNF; DRUP, the part of DRAT whose steps follow
//! by unit propagation), with none of the solver's code. Proofs are read from their beginning, and each step is judged.
//!
//! # Examples
//! ```
//! use yostel_check::{check_assignment, parse_cnf};
//! let problem = parse_cnf("p cnf 2 2\n1 2 0\n-1 2 0\n").unwrap();
//! assert!(check_assignment(&problem, &[false, true]).is_ok());
//! assert!(check_assignment(&problem, &[true, false]).is_err());
//! ```

#![deny(missing_docs)]

mod proof;

use std::fmt;

pub use proof::check_proof;

/// A clause: literals as DIMACS writes them, never 0.
pub type Clause = Vec<i64>;

/// A problem: clauses over the variables 1 to `variables`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Problem {
    /// How many variables the header announces.
    pub variables: usize,
    /// The clauses, in order.
    pub clauses: Vec<Clause>,
}

/// Why a text or a claim was not accepted. Lines count from 1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// The text is not in its format.
    Malformed {
        /// The line at fault.
        line: usize,
        /// What is wrong with it.
        reason: String,
    },
    /// A clause of the problem is false under the assignment.
    ClauseFalse(Clause),
    /// A proof step does not follow by unit propagation.
    NotImplied {
        /// The step, from 1.
        step: usize,
        /// The clause it adds.
        clause: Clause,
    },
    /// A proof step deletes a clause that is not there.
    NotPresent {
        /// The step, from 1.
        step: usize,
        /// The clause it deletes.
        clause: Clause,
    },
    /// The proof ends without the clause it should establish.
    NotEstablished,
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Malformed { line, reason } => write!(f, "line {line}: {reason}"),
            Self::ClauseFalse(clause) => write!(f, "the assignment makes {clause:?} false"),
            Self::NotImplied { step, clause } => write!(f, "step {step}: {clause:?} does not follow by propagation"),
            Self::NotPresent { step, clause } => write!(f, "step {step}: {clause:?} is not there to delete"),
            Self::NotEstablished => write!(f, "the proof ends without establishing its claim"),
        }
    }
}

impl std::error::Error for Refusal {}

/// Reads a problem in DIMACS CNF: comments `c`, a header `p cnf VARIABLES CLAUSES`, clauses ended by 0.
///
/// # Errors
/// `Malformed` for anything else, a literal out of range or a wrong clause count.
pub fn parse_cnf(text: &str) -> Result<Problem, Refusal> {
    let mut problem = Problem::default();
    let mut announced = None;
    let mut open = Clause::new();
    for (line, content) in (1..).zip(text.lines()) {
        let bad = |reason: &str| Refusal::Malformed { line, reason: reason.into() };
        let mut words = content.split_whitespace().peekable();
        match words.peek().copied() {
            None | Some("c") => continue,
            Some("p") => {
                let header: Vec<&str> = words.collect();
                let [_, "cnf", variables, clauses] = header[..] else { return Err(bad("header is not `p cnf V C`")) };
                problem.variables = variables.parse().map_err(|_| bad("number of variables is no number"))?;
                announced = Some(clauses.parse::<usize>().map_err(|_| bad("number of clauses is no number"))?);
            }
            Some(_) => {
                for word in words {
                    let literal: i64 = word.parse().map_err(|_| bad("literal is no number"))?;
                    if announced.is_none() {
                        return Err(bad("clause before the header"));
                    } else if literal == 0 {
                        problem.clauses.push(std::mem::take(&mut open));
                    } else if literal == i64::MIN || literal.unsigned_abs() as usize > problem.variables {
                        return Err(bad("literal is out of range"));
                    } else {
                        open.push(literal);
                    }
                }
            }
        }
    }
    let end =
        Refusal::Malformed { line: text.lines().count(), reason: "clauses missing or unfinished at the end".into() };
    if open.is_empty() && announced == Some(problem.clauses.len()) { Ok(problem) } else { Err(end) }
}

/// Says whether every clause has a true literal; `values` by variable, from variable 1.
///
/// # Errors
/// `ClauseFalse` with the first clause that has none.
pub fn check_assignment(problem: &Problem, values: &[bool]) -> Result<(), Refusal> {
    let holds = |literal: &i64| values.get(literal.unsigned_abs() as usize - 1) == Some(&(*literal > 0));
    match problem.clauses.iter().find(|clause| !clause.iter().any(holds)) {
        None => Ok(()),
        Some(clause) => Err(Refusal::ClauseFalse(clause.clone())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SQUARE: &str = "c all four combinations\np cnf 2 4\n1 2 0\n1 -2 0\n-1 2 0\n-1 -2 0\n";

    #[test]
    fn reads_a_problem_and_follows_a_proof() {
        let problem = parse_cnf(SQUARE).unwrap();
        assert_eq!(problem.clauses.len(), 4);
        assert_eq!(check_proof(&problem, "1 2 0\n1 0\n0\n", &[]), Ok(2), "the clauses contradict each other by then");
    }

    #[test]
    fn refuses_a_step_that_does_not_follow() {
        let problem = parse_cnf("p cnf 2 1\n1 2 0\n").unwrap();
        assert_eq!(check_proof(&problem, "1 0\n", &[]), Err(Refusal::NotImplied { step: 1, clause: vec![1] }));
    }

    #[test]
    fn refuses_a_proof_without_its_end() {
        let problem = parse_cnf("p cnf 3 2\n1 2 0\n1 -2 0\n").unwrap();
        assert_eq!(check_proof(&problem, "1 0\n", &[]), Err(Refusal::NotEstablished));
        assert_eq!(check_proof(&problem, "1 0\n", &[1, 3]), Ok(1));
    }

    #[test]
    fn a_deleted_clause_is_gone() {
        let problem = parse_cnf(SQUARE).unwrap();
        let refused = check_proof(&problem, "d 1 2 0\n1 0\n", &[]);
        assert!(matches!(refused, Err(Refusal::NotImplied { step: 2, .. })), "{refused:?}");
        let refused = check_proof(&problem, "d 1 2 0\nd 2 1 0\n", &[]);
        assert!(matches!(refused, Err(Refusal::NotPresent { step: 2, .. })), "{refused:?}");
        // With it goes what followed from it, unless that follows from another.
        let problem = parse_cnf("p cnf 3 3\n1 0\n-1 2 0\n-2 3 0\n").unwrap();
        assert_eq!(check_proof(&problem, "3 0\nd 1 0\n", &[3]), Ok(2));
        assert_eq!(check_proof(&problem, "3 0\nd 1 0\n", &[2]), Err(Refusal::NotEstablished));
        assert_eq!(check_proof(&problem, "1 0\nd 1 0\n", &[2]), Ok(2));
    }

    #[test]
    fn judges_assignments() {
        let problem = parse_cnf("p cnf 2 2\n1 2 0\n-1 0\n").unwrap();
        assert_eq!(check_assignment(&problem, &[false, true]), Ok(()));
        assert_eq!(check_assignment(&problem, &[false, false]), Err(Refusal::ClauseFalse(vec![1, 2])));
        assert_eq!(check_assignment(&problem, &[]), Err(Refusal::ClauseFalse(vec![1, 2])));
    }

    #[test]
    fn refuses_texts_out_of_format() {
        for text in
            ["1 2 0", "p cnf 2 1\n1 3 0", "p cnf 2 1\n1 2", "p cnf 2 2\n1 0", "p knf 1 1\n1 0", "p cnf 1 1\nx 0"]
        {
            assert!(matches!(parse_cnf(text), Err(Refusal::Malformed { .. })), "{text}");
        }
        let problem = parse_cnf("p cnf 1 1\n1 0").unwrap();
        assert!(matches!(check_proof(&problem, "1", &[]), Err(Refusal::Malformed { .. })));
        assert!(matches!(check_proof(&problem, "a 0", &[]), Err(Refusal::Malformed { .. })));
        assert!(matches!(check_proof(&problem, &format!("{} 0", i64::MIN), &[]), Err(Refusal::Malformed { .. })));
    }
}
