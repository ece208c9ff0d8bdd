//! Edits for problems so large that not all that edits may lead to can be looked at: needs of collisions are loosened, one
//! after the other, and what is resolved then shows which constraints would do.

use std::collections::BTreeSet;

use yostel_documents::Requirement;
use yostel_versions::ConstraintText;

use super::{Drive, Ended, MOST_WORK, Search};
use crate::collision::Collision;
use crate::edits::RequirementEdit;
use crate::resolution::Resolution;
use crate::resolver::{Outcome, Resolver};
use crate::settling::Settling;

/// How much work goes into loosening needs.
const MOST_LOOSENING: u64 = 2 * MOST_WORK;

/// How many needs are loosened together.
const MOST_LOOSENED: usize = 8;

impl Search<'_> {
    /// Loosens one need of each collision, and of each that comes up then, until there is a set: this finds some edits, not
    /// the nearest.
    pub(super) fn loosen<D: Drive>(&mut self, collision: &Collision, drive: &mut D) -> Result<(), D::Error> {
        (self.left, self.at_once) = (MOST_LOOSENING, MOST_WORK);
        // The needs of each collision that was met, by index.
        let collisions = std::iter::once(collision).chain(&collision.others);
        let at_first: Vec<Vec<usize>> = collisions.map(|collision| self.may_loosen(collision)).collect();
        if at_first.iter().any(Vec::is_empty) {
            return Ok(());
        }
        for &first in &at_first[0] {
            let mut loosened = BTreeSet::from([first]);
            let mut met = at_first.clone();
            while loosened.len() <= MOST_LOOSENED {
                for may in &met {
                    if !may.iter().any(|at| loosened.contains(at)) {
                        loosened.extend(may.first());
                    }
                }
                let mut amended = self.problem.clone();
                for at in &loosened {
                    let accept = &mut amended.requirements[*at].accept;
                    *accept = loosest(accept);
                }
                match self.drive(Resolver::new(amended), drive)? {
                    Ended::Well(Outcome::Resolved(resolution), _) => {
                        self.tighten(&loosened, &met, &resolution, drive)?;
                        break;
                    }
                    Ended::Well(Outcome::Collision(next), _) => {
                        let may = self.may_loosen(&next);
                        let Some(more) = may.iter().find(|at| !loosened.contains(at)) else { break };
                        loosened.insert(*more);
                        met.push(may);
                    }
                    Ended::Well(Outcome::Stopped(_), _) | Ended::Badly(_) => break,
                    Ended::OutOfTime => return Ok(()),
                }
            }
        }
        Ok(())
    }

    /// Takes in the edits that make loosened needs accept what was chosen, if that ends all collisions that were met.
    fn tighten<D: Drive>(
        &mut self,
        loosened: &BTreeSet<usize>,
        met: &[Vec<usize>],
        resolution: &Resolution,
        drive: &mut D,
    ) -> Result<(), D::Error> {
        let edit = |at: &usize| Some((*at, on_line(&self.problem.requirements[*at], resolution)?));
        let (edited, needs): (BTreeSet<usize>, Vec<RequirementEdit>) = loosened.iter().filter_map(edit).unzip();
        // Where it alone ends a collision, it cannot be left out.
        let is_alone =
            |may: &[usize], at| may.contains(at) && may.iter().all(|need| need == at || !edited.contains(need));
        if !edited.iter().all(|at| met.iter().any(|may| is_alone(may, at))) {
            return self.told(Vec::new(), needs, BTreeSet::new(), drive);
        }
        if let Some(resolution) = self.resolved_with(&[], &needs, drive)? {
            let moved = resolution.moved_from(&self.problem.keep);
            self.take(Settling { rules: Vec::new(), needs, resolution, moved, pre_releases: BTreeSet::new() });
        }
        Ok(())
    }

    /// Lists the needs of a collision that may be loosened, by index, wished ones last.
    fn may_loosen(&self, collision: &Collision) -> Vec<usize> {
        let collides = |need: &Requirement| {
            collision.requirements.iter().any(|other| other.asker == need.asker && other.package == need.package)
        };
        let all = self.problem.requirements.iter().enumerate();
        let mut may: Vec<(bool, usize)> = all
            .filter(|(_, need)| collides(need) && !self.rules.kept.contains(&need.package))
            .filter(|(_, need)| need.accept != loosest(&need.accept))
            .map(|(at, need)| (self.rules.wished.contains(need), at))
            .collect();
        may.sort_unstable();
        may.into_iter().map(|(_, at)| at).collect()
    }
}

/// Returns the constraint that accepts every version, where another counts.
fn loosest(accept: &ConstraintText) -> ConstraintText {
    ConstraintText::anything().where_counts(accept)
}

/// Returns the edit that makes a need accept what was chosen, on its line; nothing when it does.
fn on_line(need: &Requirement, resolution: &Resolution) -> Option<RequirementEdit> {
    let choice = resolution.chosen.get(&need.package)?;
    let version = &choice.release.version;
    if need.accept.bind(&choice.numbering).is_ok_and(|bound| bound.accepts(version)) {
        return None;
    }
    let accept = ConstraintText::parse(&format!("^{version}")).ok()?.where_counts(&need.accept);
    Some(RequirementEdit::Change { requirement: need.clone(), accept })
}
