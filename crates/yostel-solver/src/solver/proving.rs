//! What a proof has to say of exclusions. A checker knows them as clauses only: that a need rules out a release follows from
//! what the need is met by, but not by unit propagation from the need alone.

use super::Solver;
use crate::clauses::{Conflict, Reason};
use crate::literal::{Lit, Var};

impl Solver {
    /// Says of each exclusion that had a part in a conflict that it holds, where that was not said before.
    pub(super) fn prove_exclusions_of(&mut self, conflict: Conflict) {
        if self.config.record_proof {
            self.prove_exclusions(match conflict {
                Conflict::Clause(id) => self.clauses.literals(id).to_vec(),
                Conflict::Pair(pair) => pair.to_vec(),
            });
        }
    }

    /// Does the same for exclusions that had a part in giving literals their values.
    pub(super) fn prove_exclusions(&mut self, mut literals: Vec<Lit>) {
        if !self.config.record_proof {
            return;
        }
        self.proved.resize(self.variables, false);
        let mut seen = Vec::new();
        while let Some(literal) = literals.pop() {
            let var = literal.var();
            if std::mem::replace(&mut self.proved[var.index()], true) {
                continue;
            }
            // What holds for good does so for the same reason from now on.
            if self.trail.level_of(var) > 0 {
                seen.push(var);
            }
            let reason = self.trail.reason_of(var);
            literals.extend_from_slice(self.clauses.others(reason));
            if let &Reason::Pair(other) = reason
                && self.is_excluded(var, !other)
            {
                self.proof.add_exclusion([var.negative(), other]);
            }
        }
        for var in seen {
            self.proved[var.index()] = false;
        }
    }

    /// Tells whether a variable is false once `by` is true, which is no other of its group.
    fn is_excluded(&self, var: Var, by: Lit) -> bool {
        let spans = self.clauses.excluded_by(by);
        let names = |var: Var| spans.iter().any(|span| (span.first..span.end).contains(&var.0));
        names(var) && !names(by.var())
    }
}
