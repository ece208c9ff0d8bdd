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

/// Collects steps, or nothing at all when recording is off.
#[derive(Debug, Default)]
pub(crate) struct ProofLog {
    steps: Option<Vec<ProofStep>>,
}

impl ProofLog {
    pub(crate) fn new(record: bool) -> Self {
        Self { steps: record.then(Vec::new) }
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
