//! Proof steps: each learned clause follows from those before it by unit propagation (RUP), so a checker that shares
//! no code with the search can follow (Goldberg and Novikov 2003; the textual form is DRAT, Wetzler et al. 2014).

use std::collections::BTreeSet;

use crate::literal::{Lit, Var};

/// One step of a proof, in the order in which the search took it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ProofStep {
    /// A clause that follows from all clauses present so far. The empty clause ends a refutation.
    Add(Vec<Lit>),
    /// A clause that is no longer used.
    Delete(Vec<Lit>),
}

/// Collects what was stated and each step from there, or nothing at all when recording is off.
#[derive(Debug, Default)]
pub(crate) struct ProofLog {
    steps: Option<Vec<ProofStep>>,
    stated: Vec<Vec<Lit>>,
    /// Groups of variables of which at most one is true: first and number.
    groups: Vec<(u32, u32)>,
    /// Exclusions that were said to hold.
    exclusions: BTreeSet<[Lit; 2]>,
}

impl ProofLog {
    pub(crate) fn new(record: bool) -> Self {
        Self { steps: record.then(Vec::new), ..Self::default() }
    }

    /// Notes a clause as its caller stated it, before anything is simplified.
    pub(crate) fn state(&mut self, clause: &[Lit]) {
        if self.steps.is_some() {
            self.stated.push(clause.to_vec());
        }
    }

    /// Notes that at most one of `size` variables from `first` on is true.
    pub(crate) fn state_group(&mut self, first: u32, size: u32) {
        if self.steps.is_some() {
            self.groups.push((first, size));
        }
    }

    /// Writes what was stated as DIMACS CNF; nothing when recording is off.
    ///
    /// A group becomes a sequential counter (Sinz 2005) over helper variables behind all others: linear in its size, and
    /// what the rule forces, unit propagation forces too, so a proof need not name the helpers.
    pub(crate) fn to_cnf(&self, variables: usize) -> Option<String> {
        self.steps.as_ref()?;
        let mut helpers = u32::try_from(variables).expect("fewer than 2^31 variables fit in memory");
        let mut clauses: Vec<[Lit; 2]> = Vec::new();
        for &(first, size) in &self.groups {
            // `taken` is true when one of the variables so far is.
            let mut taken: Option<Lit> = None;
            for number in first..first + size {
                let var = Var(number);
                if let Some(taken) = taken {
                    clauses.push([var.negative(), !taken]);
                }
                if number + 1 < first + size {
                    let next = Var(helpers).positive();
                    helpers += 1;
                    clauses.extend(taken.map(|taken| [!taken, next]));
                    clauses.push([var.negative(), next]);
                    taken = Some(next);
                }
            }
        }
        let mut text = format!("p cnf {helpers} {}\n", self.stated.len() + clauses.len());
        self.stated.iter().for_each(|clause| write_clause(&mut text, clause));
        clauses.iter().for_each(|clause| write_clause(&mut text, clause));
        Some(text)
    }

    /// Writes the steps as DRAT in text form; nothing when recording is off.
    pub(crate) fn to_drat(&self) -> Option<String> {
        let mut text = String::new();
        for step in self.steps.as_ref()? {
            match step {
                ProofStep::Add(clause) => write_clause(&mut text, clause),
                ProofStep::Delete(clause) => {
                    text.push_str("d ");
                    write_clause(&mut text, clause);
                }
            }
        }
        Some(text)
    }

    pub(crate) fn add(&mut self, clause: &[Lit]) {
        if let Some(steps) = &mut self.steps {
            steps.push(ProofStep::Add(clause.to_vec()));
        }
    }

    /// Adds an exclusion, unless that was done before.
    pub(crate) fn add_exclusion(&mut self, pair: [Lit; 2]) {
        if self.exclusions.insert(pair) {
            self.add(&pair);
        }
    }

    pub(crate) fn delete(&mut self, clause: &[Lit]) {
        if let Some(steps) = &mut self.steps {
            steps.push(ProofStep::Delete(clause.to_vec()));
        }
    }

    pub(crate) fn steps(&self) -> &[ProofStep] {
        self.steps.as_deref().unwrap_or_default()
    }
}

fn write_clause(text: &mut String, clause: &[Lit]) {
    for literal in clause {
        text.push_str(&literal.to_dimacs().to_string());
        text.push(' ');
    }
    text.push_str("0\n");
}
