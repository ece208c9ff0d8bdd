//! How few packages must leave the version to keep.

use yostel_solver::Lit;

use super::{Search, is_out};
use crate::fewest::Fewest;
use crate::known::{Halt, Known, PackageId};
use crate::narrowed::narrowed;
use crate::problem::Problem;

impl Search {
    /// Finds the fewest packages that must leave the version to keep, and makes that a fact; tells whether there is a set.
    pub(super) fn fewest(&mut self, fewest: &mut Fewest, problem: &Problem, known: &mut Known) -> Result<bool, Halt> {
        self.narrow(fewest, problem, known)?;
        loop {
            let assumptions: Vec<Lit> = fewest.assumptions().collect();
            match self.ask_keeping(&assumptions, problem, known)? {
                Ok(model) => {
                    self.model = Some(model);
                    if !fewest.goes_on() {
                        break;
                    }
                }
                Err(core) => {
                    let blamed = fewest.blamed(&core);
                    let failed = match blamed.len() {
                        // A trial begins here, and does not know yet whether there is any set.
                        0 => return Ok(false),
                        1 => 0,
                        _ => self.try_alone(&blamed, fewest, known)?,
                    };
                    if failed == 0 {
                        fewest.give_up(&core, &mut self.encoding.solver);
                    }
                    if fewest.is_to_try_all(failed.max(usize::from(blamed.len() == 1))) {
                        let all: Vec<Lit> = fewest.assumptions().collect();
                        let failed = self.try_alone(&all, fewest, known)?;
                        fewest.tried_all(failed);
                    }
                }
            }
        }
        match &mut self.trial {
            Some(assumed) => assumed.keep(fewest.assumptions().collect()),
            None => fewest.assumptions().for_each(|hope| self.encoding.solver.add_clause(&[hope])),
        }
        Ok(true)
    }

    /// Gives up what cannot stay whatever else is chosen, and takes in which releases are left of it.
    fn narrow(&mut self, fewest: &mut Fewest, problem: &Problem, known: &mut Known) -> Result<(), Halt> {
        let (encoding, trial) = (&mut self.encoding, &self.trial);
        let mut open = |package: PackageId, known: &mut Known| {
            let candidates = encoding.candidates(package, problem, known).into_iter();
            let candidates = candidates.filter(|(_, literal)| !is_out(*literal, encoding, trial.as_ref()));
            let mut open: Vec<u32> = candidates.map(|(at, _)| at).collect();
            open.sort_unstable();
            open
        };
        for (package, left) in narrowed(problem, known, &mut open)? {
            let is_left = self.encoding.one_of(package, &left, problem, known);
            match &mut self.trial {
                Some(assumed) => assumed.need(is_left),
                None => self.encoding.solver.add_clause(&[is_left]),
            }
            let kept = self.kept.as_ref().and_then(|kept| kept.alone(package));
            if let Some((moved, _)) = kept
                && fewest.give_up_alone(!moved, &mut self.encoding.solver)
                && self.trial.is_none()
            {
                self.encoding.solver.add_clause(&[moved]);
            }
        }
        Ok(())
    }

    /// Gives up each hope that is seen to fail alone, which is a better lesson than that several collide, and costs far less
    /// than a search (failed literals, Freeman 1995); returns how many do.
    fn try_alone(&mut self, hopes: &[Lit], fewest: &mut Fewest, known: &mut Known) -> Result<usize, Halt> {
        let mut failed = 0;
        for hope in hopes {
            if !fewest.hopes_for(*hope) {
                continue;
            }
            let alone = match &self.trial {
                Some(assumed) => assumed.hoping(&[*hope]),
                None => vec![*hope],
            };
            let Some(core) = self.encoding.seen_to_collide(&alone, known)? else { continue };
            if !fewest.blamed(&core).is_empty() {
                fewest.give_up(&core, &mut self.encoding.solver);
                failed += 1;
            }
        }
        Ok(failed)
    }
}
