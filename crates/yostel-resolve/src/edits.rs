//! What to do about a collision: the smallest sets of edits to the user's own needs after which there is a set.
//!
//! Each need gets two switches: *touched* (its constraint no longer binds, but the package must still be there) and
//! *dropped* (nor must the package). Sets of touched needs are enumerated by size, each blocked once found, so what is
//! found is minimal and nothing smaller exists (minimal correction sets, Liffiton and Sakallah 2008). Then each is made
//! concrete: the best set under the touched needs shows which versions they could have, and a constraint on those lines
//! is written. That very edit is resolved again before it is offered.

use std::collections::BTreeSet;

use yostel_documents::{PackageName, Requirement};
use yostel_solver::{Lit, Outcome};
use yostel_versions::ConstraintText;

use crate::encode::{Encoding, at_most};
use crate::known::Known;
use crate::objective::best;
use crate::problem::Problem;
use crate::resolution::Resolution;
use crate::satisfies::satisfies;

/// Sets of so many edits more than the fewest are looked for: nobody weighs larger ones against them.
const MORE_EDITS: usize = 3;

/// How many of the sets that are listed are left for those that touch a wished need, where others do not.
pub const ROOM_FOR_WISHED: usize = 3;

/// Which edit sets are looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditRules {
    /// How many at most.
    pub most: usize,
    /// Packages whose needs stay as they are.
    pub kept: BTreeSet<PackageName>,
    /// Needs that are touched last: sets that leave them alone come first.
    pub wished: BTreeSet<Requirement>,
}

impl EditRules {
    /// Looks for so many sets of any edits.
    pub fn any(most: usize) -> Self {
        Self { most, kept: BTreeSet::new(), wished: BTreeSet::new() }
    }

    /// Tells whether a set touches a wished need.
    pub fn touches_wish(&self, edit_set: &EditSet) -> bool {
        edit_set.edits.iter().any(|edit| self.wished.contains(edit.requirement()))
    }
}

/// One edit of the user's needs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum RequirementEdit {
    /// Give the need another constraint.
    Change {
        /// The need as it is.
        requirement: Requirement,
        /// Its new constraint.
        accept: ConstraintText,
    },
    /// Drop the need.
    Drop {
        /// The need as it is.
        requirement: Requirement,
    },
}

impl RequirementEdit {
    /// Returns the need as it is.
    pub fn requirement(&self) -> &Requirement {
        match self {
            Self::Change { requirement, .. } | Self::Drop { requirement } => requirement,
        }
    }
}

/// A set of edits, and what it leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditSet {
    /// The edits, sorted; none can be left out.
    pub edits: Vec<RequirementEdit>,
    /// The needs after the edits.
    pub requirements: Vec<Requirement>,
    /// The set that the edited needs resolve to.
    pub resolution: Resolution,
    /// How many locked packages move.
    pub moved: usize,
}

pub(super) fn edit_sets(problem: &Problem, known: &mut Known, rules: &EditRules) -> Vec<EditSet> {
    let sets = touched_sets(problem, known, rules);
    let mut found: Vec<EditSet> = sets.into_iter().filter_map(|set| concrete(problem, known, &set)).collect();
    let drops =
        |edit_set: &EditSet| edit_set.edits.iter().filter(|edit| matches!(edit, RequirementEdit::Drop { .. })).count();
    let rank =
        |edit_set: &EditSet| (rules.touches_wish(edit_set), edit_set.edits.len(), drops(edit_set), edit_set.moved);
    found.sort_by(|a, b| rank(a).cmp(&rank(b)).then_with(|| a.edits.cmp(&b.edits)));
    found
}

/// Needs to touch, by index; true = to drop.
type Touched = Vec<(usize, bool)>;

/// Enumerates minimal sets of needs to touch: first those that leave wished needs alone, then all; of either, smallest
/// first, and of one size those that drop nothing first.
fn touched_sets(problem: &Problem, known: &mut Known, rules: &EditRules) -> Vec<Touched> {
    let mut encoding = Encoding::new(known);
    encoding.state_all(problem, known);
    let mut switches: Vec<(Lit, Lit)> = Vec::new();
    for requirement in &problem.requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        let id = known.package(&requirement.package);
        let (touched, dropped) = (encoding.helper(), encoding.helper());
        let need = encoding.need(need, problem, known);
        let releases = encoding.candidates(id, problem, known);
        let there: Vec<Lit> =
            std::iter::once(dropped).chain(releases.into_iter().map(|(_, literal)| literal)).collect();
        for clause in [vec![touched, need], there, vec![!dropped, touched]] {
            encoding.solver.add_clause(&clause);
        }
        if rules.kept.contains(&requirement.package) {
            encoding.solver.add_clause(&[!touched]);
        }
        switches.push((touched, dropped));
    }
    let is_wished = |i: &usize| rules.wished.contains(&problem.requirements[*i]);
    let wished: Vec<Lit> = (0..switches.len()).filter(is_wished).map(|i| !switches[i].0).collect();
    let mut sets: Vec<Touched> = Vec::new();
    if !wished.is_empty() {
        let room = rules.most.saturating_sub(ROOM_FOR_WISHED).max(1);
        enumerate(&mut encoding, &switches, &wished, room, &mut sets);
    }
    enumerate(&mut encoding, &switches, &[], rules.most, &mut sets);
    sets
}

/// Enumerates minimal sets of needs to touch under assumptions until there are `most` sets, and blocks each.
fn enumerate(encoding: &mut Encoding, switches: &[(Lit, Lit)], assumed: &[Lit], most: usize, sets: &mut Vec<Touched>) {
    let touched: Vec<Lit> = switches.iter().map(|(touched, _)| *touched).collect();
    let Some(fewest) = fewest_touched(encoding, &touched, assumed) else { return };
    for size in fewest..=(fewest + MORE_EDITS).min(touched.len()) {
        let bound = at_most(&mut encoding.solver, &touched, size);
        for may_drop in [false, true] {
            while sets.len() < most {
                let mut assumptions: Vec<Lit> = assumed.iter().copied().chain(bound).collect();
                if !may_drop {
                    assumptions.extend(switches.iter().map(|(_, dropped)| !*dropped));
                }
                let Outcome::Satisfiable(model) = encoding.solver.solve(&assumptions) else { break };
                let set: Vec<usize> = (0..touched.len()).filter(|&i| model.is_true(touched[i])).collect();
                sets.push(fewest_drops(encoding, switches, &set));
                let block: Vec<Lit> = set.iter().map(|&i| !touched[i]).collect();
                encoding.solver.add_clause(&block);
            }
        }
    }
}

/// Returns the smallest number of needs to touch: none may at first, and as long as that is too few, those to blame may
/// and the number goes up by one (MSU3, Marques-Silva and Planes 2007). Nothing when no number would do, or nobody waits
/// for it any more.
fn fewest_touched(encoding: &mut Encoding, touched: &[Lit], assumed: &[Lit]) -> Option<usize> {
    let mut free: BTreeSet<Lit> = BTreeSet::new();
    let mut bound = None;
    for number in 0..=touched.len() {
        let held = touched.iter().filter(|touched| !free.contains(touched)).map(|touched| !*touched);
        let assumptions: Vec<Lit> = assumed.iter().copied().chain(bound).chain(held).collect();
        let core = match encoding.solver.solve(&assumptions) {
            Outcome::Satisfiable(_) => return Some(number),
            Outcome::Unsatisfiable(core) => core,
            Outcome::Stopped | Outcome::Paused => return None,
        };
        let blamed: Vec<Lit> = core.iter().filter(|lit| !assumed.contains(lit)).map(|lit| !*lit).collect();
        if blamed.is_empty() {
            return None;
        }
        free.extend(blamed.into_iter().filter(|lit| touched.contains(lit)));
        let candidates: Vec<Lit> = free.iter().copied().collect();
        bound = at_most(&mut encoding.solver, &candidates, number + 1);
    }
    None
}

/// Decides which needs of a set must be dropped and for which another constraint will do.
fn fewest_drops(encoding: &mut Encoding, switches: &[(Lit, Lit)], set: &[usize]) -> Touched {
    let mut assumptions: Vec<Lit> = (0..switches.len()).filter(|i| !set.contains(i)).map(|i| !switches[i].0).collect();
    let mut decided = Vec::new();
    for &i in set {
        assumptions.push(!switches[i].1);
        let stays = matches!(encoding.solver.solve(&assumptions), Outcome::Satisfiable(_));
        if !stays {
            assumptions.pop();
        }
        decided.push((i, !stays));
    }
    decided
}

/// Finds constraints for the touched needs, and proves the edit by resolving it.
fn concrete(problem: &Problem, known: &mut Known, set: &Touched) -> Option<EditSet> {
    let dropped: BTreeSet<usize> = set.iter().filter(|(_, drop)| *drop).map(|(i, _)| *i).collect();
    let changed: BTreeSet<usize> = set.iter().filter(|(_, drop)| !*drop).map(|(i, _)| *i).collect();
    let with = |accept_of: &dyn Fn(usize) -> ConstraintText| {
        let requirements =
            problem.requirements.iter().enumerate().filter(|(i, _)| !dropped.contains(i)).map(|(i, requirement)| {
                let accept = match changed.contains(&i) {
                    true => accept_of(i).where_counts(&requirement.accept),
                    false => requirement.accept.clone(),
                };
                Requirement { accept, ..requirement.clone() }
            });
        Problem { requirements: requirements.collect(), ..problem.clone() }
    };
    // A release first; a pre-release is accepted only where nothing else will do.
    let any_release = ConstraintText::parse("*").expect("a star is a constraint");
    let of_any_release = with(&|_| any_release.clone());
    let of_any_version = with(&|i| any_version(known, &problem.requirements[i]));
    let trial = best(&of_any_release, known).ok()?.or_else(|| best(&of_any_version, known).ok()?)?;
    let on_its_line = |i: usize| {
        let version = &trial.chosen[&problem.requirements[i].package].release.version;
        ConstraintText::parse(&format!("^{version}")).expect("a version makes a constraint")
    };
    let edited = with(&on_its_line);
    let resolution = best(&edited, known).ok()?.filter(|resolution| satisfies(&edited, resolution).is_empty())?;
    let mut edits: Vec<RequirementEdit> = set
        .iter()
        .map(|&(i, drop)| {
            let requirement = problem.requirements[i].clone();
            let accept = || on_its_line(i).where_counts(&requirement.accept);
            if drop {
                RequirementEdit::Drop { requirement }
            } else {
                RequirementEdit::Change { accept: accept(), requirement }
            }
        })
        .collect();
    edits.sort();
    let kept = problem.keep.iter().flat_map(|(name, all)| all.iter().map(move |version| (name, version)));
    let moved = kept.filter(|(name, version)| {
        resolution.chosen.contains_key(name) && resolution.chosen.at(name, version).is_none()
    });
    Some(EditSet { edits, requirements: edited.requirements, moved: moved.count(), resolution })
}

/// Accepts every release of the needed package, pre-releases too, by naming each.
fn any_version(known: &Known, requirement: &Requirement) -> ConstraintText {
    let releases = known.document(&requirement.package).map_or(&[][..], |document| &document.releases);
    let texts: Vec<String> = releases.iter().map(|release| format!("={}", release.version)).collect();
    ConstraintText::parse(&texts.join(" || ")).unwrap_or_else(|_| requirement.accept.clone())
}
