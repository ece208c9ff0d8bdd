//! What to do about a collision: the smallest sets of edits to the user's own needs after which there is a set.
//!
//! Each need gets two switches: *touched* (its constraint no longer binds, but the package must still be there) and
//! *dropped* (nor must the package). Sets of touched needs are enumerated by size, each blocked once found, so what is
//! found is minimal and nothing smaller exists (minimal correction sets, Liffiton and Sakallah 2008). Then each is made
//! concrete: the best set under the touched needs shows which versions they could have, and a constraint on those lines
//! is written. That very edit is resolved again before it is offered.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{PackageName, Requirement};
use yostel_solver::{Lit, Model};
use yostel_versions::ConstraintText;

use crate::encode::{Encoding, at_most};
use crate::fewest::Fewest;
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
    /// Needs, as they are written, that are touched last: sets that leave them alone come first.
    pub wished: BTreeSet<Requirement>,
}

impl EditRules {
    /// Looks for so many sets of any edits.
    pub fn any(most: usize) -> Self {
        Self { most, kept: BTreeSet::new(), wished: BTreeSet::new() }
    }

    /// Tells whether edits touch a wished need.
    pub fn touch_a_wish(&self, edits: &[RequirementEdit]) -> bool {
        edits.iter().any(|edit| self.wished.contains(edit.requirement()))
    }
}

/// One edit of the user's needs, as they are written.
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

    /// Tells whether it drops the need.
    pub fn is_drop(&self) -> bool {
        matches!(self, Self::Drop { .. })
    }
}

/// A set of edits, and what it leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditSet {
    /// The edits, sorted; none can be left out.
    pub edits: Vec<RequirementEdit>,
    /// The needs after the edits, as they bind.
    pub requirements: Vec<Requirement>,
    /// The set that the edited needs resolve to.
    pub resolution: Resolution,
    /// How many locked packages move.
    pub moved: usize,
    /// Packages of which a need is given a constraint for the sake of a pre-release.
    pub pre_releases: BTreeSet<PackageName>,
}

/// By the index of a need as it binds, the needs as they are written that came to it; more than one only where they are
/// joined.
pub(crate) type Written = Vec<Vec<Requirement>>;

/// Returns the needs of a problem as they bind, sorted, each with those that are written for it. Two that come to the same
/// are told apart, for each can be edited by itself.
pub(crate) fn written(problem: &Problem) -> Vec<(Requirement, Vec<Requirement>)> {
    let as_written: BTreeSet<&Requirement> = problem.requirements.iter().collect();
    let mut all = problem.rules.overrides.bound_with_written(as_written, &problem.rules.coexist);
    all.sort();
    all.into_iter().map(|(bound, written)| (bound, written.into_iter().cloned().collect())).collect()
}

pub(super) fn edit_sets(problem: &Problem, written: &Written, known: &mut Known, rules: &EditRules) -> Vec<EditSet> {
    let sets = touched_sets(problem, written, known, rules);
    let mut found: Vec<EditSet> = sets.into_iter().filter_map(|set| concrete(problem, written, known, &set)).collect();
    let drops = |edit_set: &EditSet| edit_set.edits.iter().filter(|edit| edit.is_drop()).count();
    let rank = |edit_set: &EditSet| {
        let EditSet { edits, pre_releases, moved, .. } = edit_set;
        (rules.touch_a_wish(edits), drops(edit_set), pre_releases.len(), edits.len(), *moved)
    };
    found.sort_by(|a, b| rank(a).cmp(&rank(b)).then_with(|| a.edits.cmp(&b.edits)));
    found
}

/// How far a need is touched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Touch {
    /// It accepts any release.
    Releases,
    /// It accepts any version, pre-releases too.
    Versions,
    /// It is not there.
    Drop,
}

/// Needs to touch, by index.
type Touched = Vec<(usize, Touch)>;

/// The switches of all needs, by index.
#[derive(Default)]
struct Switches {
    touched: Vec<Lit>,
    /// With pre-releases; touched then, too.
    opened: Vec<Lit>,
    /// Touched then, too.
    dropped: Vec<Lit>,
}

/// The question which needs to touch.
struct Asked<'a> {
    encoding: Encoding,
    problem: &'a Problem,
    known: &'a mut Known,
}

impl Asked<'_> {
    /// Returns a model in which the assumptions hold, or the assumptions to blame; nothing when it was told to stop.
    fn solve(&mut self, assumptions: &[Lit]) -> Option<Result<Model, Vec<Lit>>> {
        self.encoding.solve_or_blame(assumptions, self.problem, self.known).ok()
    }
}

/// Enumerates minimal sets of needs to touch: first those that leave wished needs alone, then all.
fn touched_sets(problem: &Problem, written: &Written, known: &mut Known, rules: &EditRules) -> Vec<Touched> {
    let mut encoding = Encoding::new(known);
    let mut switches = Switches::default();
    for (requirement, written) in problem.requirements.iter().zip(written) {
        let mut need = |accept: &ConstraintText, known: &mut Known| {
            let need = known.requirement(&requirement.package, accept);
            encoding.need(need, problem, known)
        };
        let as_it_is = need(&requirement.accept, known);
        let release = need(&bound(&ConstraintText::anything(), written, problem), known);
        let version = need(&bound(&any_version(known, requirement), written, problem), known);
        let [touched, opened, dropped] = std::array::from_fn(|_| encoding.helper());
        for clause in [
            vec![touched, as_it_is],
            vec![dropped, opened, release],
            vec![dropped, version],
            vec![!opened, touched],
            vec![!dropped, touched],
        ] {
            encoding.solver.add_clause(&clause);
        }
        if written.iter().any(|need| rules.kept.contains(&need.package)) {
            encoding.solver.add_clause(&[!touched]);
        }
        switches.touched.push(touched);
        switches.opened.push(opened);
        switches.dropped.push(dropped);
    }
    let all = [&switches.touched, &switches.opened, &switches.dropped];
    encoding.decide_first(all.into_iter().flatten().copied());
    let is_wished = |i: &usize| written[*i].iter().any(|need| rules.wished.contains(need));
    let wished: Vec<Lit> = (0..switches.touched.len()).filter(is_wished).map(|i| !switches.touched[i]).collect();
    let mut sets: Vec<Touched> = Vec::new();
    let mut asked = Asked { encoding, problem, known };
    if !wished.is_empty() {
        let room = rules.most.saturating_sub(ROOM_FOR_WISHED).max(1);
        enumerate(&mut asked, &switches, &wished, room, &mut sets);
    }
    enumerate(&mut asked, &switches, &[], rules.most, &mut sets);
    sets
}

/// Enumerates minimal sets of needs to touch under assumptions until there are `most` sets, and blocks each: of those with
/// at most so many edits more than the fewest, those that drop the fewest needs first, then those that accept the fewest
/// pre-releases, then the smallest.
fn enumerate(asked: &mut Asked<'_>, switches: &Switches, assumed: &[Lit], most: usize, sets: &mut Vec<Touched>) {
    let Switches { touched, opened, dropped } = switches;
    let Some(fewest) = fewest_of(asked, touched, assumed) else { return };
    let largest = (fewest + MORE_EDITS).min(touched.len());
    let with = |assumed: &[Lit], bound: Vec<Lit>| -> Vec<Lit> { assumed.iter().copied().chain(bound).collect() };
    let assumed = with(assumed, no_more(&mut asked.encoding, touched, largest));
    let Some(fewest_drops) = fewest_of(asked, dropped, &assumed) else { return };
    for drops in fewest_drops..=(fewest_drops + MORE_EDITS).min(largest) {
        let assumed = with(&assumed, no_more(&mut asked.encoding, dropped, drops));
        let Some(fewest_opened) = fewest_of(asked, opened, &assumed) else { continue };
        for pre_releases in fewest_opened..=(fewest_opened + MORE_EDITS).min(largest) {
            let assumed = with(&assumed, no_more(&mut asked.encoding, opened, pre_releases));
            for size in fewest..=largest {
                let assumed = with(&assumed, no_more(&mut asked.encoding, touched, size));
                while sets.len() < most {
                    let Some(Ok(model)) = asked.solve(&assumed) else { break };
                    let set: Vec<usize> = (0..touched.len()).filter(|&i| model.is_true(touched[i])).collect();
                    let touch = |i: usize| match (model.is_true(dropped[i]), model.is_true(opened[i])) {
                        (true, _) => Touch::Drop,
                        (false, true) => Touch::Versions,
                        (false, false) => Touch::Releases,
                    };
                    sets.push(set.iter().map(|&i| (i, touch(i))).collect());
                    let block: Vec<Lit> = set.iter().map(|&i| !touched[i]).collect();
                    asked.encoding.solver.add_clause(&block);
                }
            }
        }
    }
}

/// Returns literals that hold when no more than so many switches are set.
fn no_more(encoding: &mut Encoding, switches: &[Lit], most: usize) -> Vec<Lit> {
    match most {
        0 => switches.iter().map(|switch| !*switch).collect(),
        _ => at_most(&mut encoding.solver, switches, most).into_iter().collect(),
    }
}

/// Returns the smallest number of switches to set. Nothing when no number would do, or nobody waits for it any more.
fn fewest_of(asked: &mut Asked<'_>, switches: &[Lit], assumed: &[Lit]) -> Option<usize> {
    let mut fewest = Fewest::of(switches);
    loop {
        let assumptions: Vec<Lit> = assumed.iter().copied().chain(fewest.assumptions()).collect();
        let goes_on = match asked.solve(&assumptions)? {
            Ok(_) => fewest.goes_on(),
            Err(core) if fewest.blamed(&core).is_empty() => return None,
            Err(core) => {
                fewest.give_up(&core, &mut asked.encoding.solver);
                true
            }
        };
        if !goes_on {
            return Some(fewest.number());
        }
    }
}

/// Returns what another constraint for a need comes to: what is said about its package wherever it turns up counts as
/// before.
fn bound(accept: &ConstraintText, written: &[Requirement], problem: &Problem) -> ConstraintText {
    let each = written.iter().map(|need| {
        let accept = accept.where_counts(&need.accept);
        problem.rules.overrides.bind(&need.package, &accept).map_or(accept, |(_, bound)| bound)
    });
    let joined = each.reduce(|one, other| if one == other { one } else { one.and(&other) });
    joined.unwrap_or_else(|| accept.clone())
}

/// Finds constraints for the touched needs, and proves the edit by resolving it.
fn concrete(problem: &Problem, written: &Written, known: &mut Known, set: &Touched) -> Option<EditSet> {
    let of = |touch: Touch| -> BTreeSet<usize> {
        set.iter().filter(|(_, other)| *other == touch).map(|(i, _)| *i).collect()
    };
    let (dropped, opened) = (of(Touch::Drop), of(Touch::Versions));
    let changed: BTreeSet<usize> = of(Touch::Releases).union(&opened).copied().collect();
    let with = |accept_of: &dyn Fn(usize) -> ConstraintText| {
        let requirements =
            problem.requirements.iter().enumerate().filter(|(i, _)| !dropped.contains(i)).map(|(i, requirement)| {
                let accept = match changed.contains(&i) {
                    true => bound(&accept_of(i), &written[i], problem),
                    false => requirement.accept.clone(),
                };
                Requirement { accept, ..requirement.clone() }
            });
        Problem { requirements: requirements.collect(), ..problem.clone() }
    };
    let any: BTreeMap<usize, ConstraintText> =
        opened.iter().map(|i| (*i, any_version(known, &problem.requirements[*i]))).collect();
    let trial = best(&with(&|i| any.get(&i).cloned().unwrap_or_else(ConstraintText::anything)), known).ok()??;
    let chosen = |i: usize| &trial.chosen[&problem.requirements[i].package].release.version;
    let on_its_line =
        |i: usize| ConstraintText::parse(&format!("^{}", chosen(i))).expect("a version makes a constraint");
    let edited = with(&on_its_line);
    let resolution = best(&edited, known).ok()?.filter(|resolution| satisfies(&edited, resolution).is_empty())?;
    let edit = |requirement: &Requirement, i: usize| match dropped.contains(&i) {
        true => RequirementEdit::Drop { requirement: requirement.clone() },
        false => RequirementEdit::Change {
            accept: on_its_line(i).where_counts(&requirement.accept),
            requirement: requirement.clone(),
        },
    };
    let each = set.iter().flat_map(|&(i, _)| written[i].iter().map(move |requirement| (requirement, i)));
    let mut edits: Vec<RequirementEdit> = each.map(|(requirement, i)| edit(requirement, i)).collect();
    edits.sort();
    let moved = resolution.moved_from(&problem.keep);
    let of_pre_release = changed.iter().filter(|i| chosen(**i).is_pre_release());
    let pre_releases = of_pre_release.map(|i| problem.requirements[*i].package.clone()).collect();
    Some(EditSet { edits, requirements: edited.requirements, moved, pre_releases, resolution })
}

/// Accepts every version of the needed package, pre-releases too, by naming those.
fn any_version(known: &Known, requirement: &Requirement) -> ConstraintText {
    let releases = known.document(&requirement.package).map_or(&[][..], |document| &document.releases);
    let pre_releases = releases.iter().filter(|release| release.version.is_pre_release());
    let named: String = pre_releases.map(|release| format!(" || ={}", release.version)).collect();
    ConstraintText::parse_joined(&format!("*{named}")).unwrap_or_else(|_| ConstraintText::anything())
}
