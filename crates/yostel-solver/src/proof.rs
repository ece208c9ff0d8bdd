//! Proof steps: each learned clause follows from those before it by unit propagation (RUP), so a checker that shares
//! no code with the search can follow (Goldberg and Novikov 2003; the textual form is DRAT, Wetzler et al. 2014).

use crate::literal::Lit;

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
}

impl ProofLog {
    pub(crate) fn new(record: bool) -> Self {
        Self { steps: record.then(Vec::new), stated: Vec::new() }
    }

    /// Notes a clause as its caller stated it, before anything is simplified.
    pub(crate) fn state(&mut self, clause: &[Lit]) {
        if self.steps.is_some() {
            self.stated.push(clause.to_vec());
        }
    }

    /// Writes what was stated as DIMACS CNF; nothing when recording is off.
    pub(crate) fn to_cnf(&self, variables: usize) -> Option<String> {
        self.steps.as_ref()?;
        let mut text = format!("p cnf {variables} {}\n", self.stated.len());
        self.stated.iter().for_each(|clause| write_clause(&mut text, clause));
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
