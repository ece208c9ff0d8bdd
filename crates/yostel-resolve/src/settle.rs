//! What ends a collision, of all that may be edited: sets of edits to needs, to rules, or to both.
//!
//! Edits to needs are found by counting switches ([`crate::edits`]). Rules are lifted one by one, then two at once and so
//! on, and each time the problem is resolved anew: what resolves is a set of edits to rules, and what does not is looked at
//! for edits to needs beside them. So no set is told of which one edit could be left out.

use std::collections::{BTreeSet, VecDeque};

use yostel_documents::{PackageName, Requirement};

use crate::collision::Collision;
use crate::edits::{EditRules, EditSet, RequirementEdit};
use crate::problem::Problem;
use crate::resolution::Resolution;
use crate::resolver::{Outcome, Resolver};
use crate::rule_edit::{RuleEdit, candidates};

/// How often rules are lifted before that is enough.
const MOST_TRIED: usize = 300;

/// How many edits of rules are tried of all packages that are known; where there are more, only those of packages that
/// collide are.
const MOST_CANDIDATES: usize = 40;

/// Sets with edits of rules have no more edits than the fewest to needs alone would take, or than this.
const FEW_EDITS: usize = 2;

/// Edits that end a collision, and what they lead to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settling {
    /// The edits of rules, sorted.
    pub rules: Vec<RuleEdit>,
    /// The edits of needs, as they are written, sorted. None of either can be left out.
    pub needs: Vec<RequirementEdit>,
    /// The set that follows.
    pub resolution: Resolution,
    /// How many locked packages move.
    pub moved: usize,
    /// Packages of which a constraint names a pre-release.
    pub pre_releases: BTreeSet<PackageName>,
}

impl Settling {
    /// Returns how many edits there are.
    pub fn len(&self) -> usize {
        self.rules.len() + self.needs.len()
    }

    /// Tells whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Returns how many needs are removed.
    pub fn drops(&self) -> usize {
        self.needs.iter().filter(|edit| matches!(edit, RequirementEdit::Drop { .. })).count()
    }

    /// Returns how many versions are forced, whatever is asked.
    pub fn forces(&self) -> usize {
        self.rules.iter().filter(|edit| matches!(edit, RuleEdit::Force { .. })).count()
    }

    /// Returns how much is given up: packages of which a pre-release is accepted, and edits that are last resorts.
    pub fn last_resorts(&self) -> usize {
        self.pre_releases.len() + self.rules.iter().filter(|edit| edit.is_last_resort()).count()
    }

    /// The order in which sets are told (docs/resolution.md §5): versions that are forced, whether a wish is touched, needs
    /// that are removed, what gives something up, how many edits, of which kinds, how many packages move.
    fn rank(&self, rules: &EditRules) -> (usize, bool, usize, usize, usize, usize, usize) {
        let kinds = self.rules.iter().map(RuleEdit::kind).sum();
        let wished = self.needs.iter().any(|edit| rules.wished.contains(edit.requirement()));
        (self.forces(), wished, self.drops(), self.last_resorts(), self.len(), kinds, self.moved)
    }

    /// Tells whether it holds all edits of another set and is thereby needless. What changes a need does not include what
    /// removes it, or what gives it a pre-release.
    fn includes(&self, other: &Self) -> bool {
        let is_drop = |edit: &RequirementEdit| matches!(edit, RequirementEdit::Drop { .. });
        other.rules.iter().all(|edit| self.rules.contains(edit))
            && other.pre_releases.is_subset(&self.pre_releases)
            && other.needs.iter().all(|edit| {
                let goes_as_far = |mine: &RequirementEdit| is_drop(mine) || !is_drop(edit);
                self.needs.iter().any(|mine| is_of_one_need(mine, edit.requirement()) && goes_as_far(mine))
            })
    }
}

/// Tells whether an edit is of a need, whatever other edits make of its constraint.
fn is_of_one_need(edit: &RequirementEdit, need: &Requirement) -> bool {
    let other = edit.requirement();
    (&other.asker, &other.purpose, &other.package) == (&need.asker, &need.purpose, &need.package)
}

/// How driving a resolver ended.
#[derive(Debug)]
pub enum Ended<E> {
    /// With an outcome.
    Well(Outcome, Box<Resolver>),
    /// With an error that is the problem's: something that it needs is not to be had, say.
    Badly(E),
    /// There was no time left.
    OutOfTime,
}

/// Whoever has the packages' documents, and knows when nobody waits any more.
pub trait Drive {
    /// Why nothing can be driven any more.
    type Error;

    /// Drives a resolver to its end.
    ///
    /// # Errors
    /// As it sees fit.
    fn drive(&mut self, resolver: Resolver) -> Result<Ended<Self::Error>, Self::Error>;

    /// Asks [`Resolver::edit_sets`].
    ///
    /// # Errors
    /// As it sees fit.
    fn edit_sets(&mut self, resolver: &mut Resolver, rules: &EditRules) -> Result<Vec<EditSet>, Self::Error>;
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Settled {
    /// What collides; nothing when there is a set as things are.
    pub collision: Option<Box<Collision>>,
    /// Sets of edits, each of which ends it, the best first.
    pub found: Vec<Settling>,
    /// Whether there was no time for more.
    pub out_of_time: bool,
}

/// Finds sets of edits after which a problem can be resolved. Its needs are as they are written.
///
/// # Errors
/// Those of `drive`; what a problem with edits brings with it only ends that attempt.
pub fn settle<D: Drive>(problem: &Problem, rules: &EditRules, drive: &mut D) -> Result<Settled, D::Error> {
    let mut search = Search { problem, rules, found: Vec::new(), fewest: usize::MAX, kept: Vec::new() };
    let (outcome, mut resolver) = match drive.drive(Resolver::with_edits(problem.clone()))? {
        Ended::Well(outcome, resolver) => (outcome, resolver),
        Ended::Badly(error) => return Err(error),
        Ended::OutOfTime => return Ok(Settled { out_of_time: true, ..Settled::default() }),
    };
    let Outcome::Collision(collision) = outcome else { return Ok(Settled::default()) };
    for edit_set in drive.edit_sets(&mut resolver, rules)? {
        search.fewest = search.fewest.min(edit_set.edits.len());
        let EditSet { edits: needs, resolution, moved, pre_releases, .. } = edit_set;
        search.take(Settling { rules: Vec::new(), needs, resolution, moved, pre_releases });
    }
    let out_of_time = search.lift(&collision, &resolver, drive)?;
    let mut found = search.found;
    found.sort_by(|one, other| {
        let rank = one.rank(rules).cmp(&other.rank(rules));
        rank.then_with(|| (&one.needs, &one.rules).cmp(&(&other.needs, &other.rules)))
    });
    Ok(Settled { collision: Some(collision), found, out_of_time })
}

struct Search<'s> {
    problem: &'s Problem,
    rules: &'s EditRules,
    found: Vec<Settling>,
    /// The fewest edits of a set that was found.
    fewest: usize,
    /// Sets of rules that end it without edits of needs.
    kept: Vec<BTreeSet<RuleEdit>>,
}

impl Search<'_> {
    /// How many edits a set with edits of rules may have.
    fn most(&self) -> usize {
        if self.fewest == usize::MAX { usize::MAX } else { self.fewest.max(FEW_EDITS) }
    }

    /// Lists the rules that might be lifted; what is to stay as it is stays so on all platforms too.
    fn candidates(&self, problem: &Problem, resolver: &Resolver, collision: &Collision) -> Vec<RuleEdit> {
        let mut edits = candidates(problem, resolver.documents(), collision, MOST_CANDIDATES);
        edits.retain(|edit| match edit {
            RuleEdit::OnlyOn { requirement, .. } => !self.rules.kept.contains(&requirement.package),
            _ => true,
        });
        edits
    }

    /// Lifts more and more rules; tells whether time ran out.
    fn lift<D: Drive>(&mut self, collision: &Collision, resolver: &Resolver, drive: &mut D) -> Result<bool, D::Error> {
        let first = self.candidates(self.problem, resolver, collision);
        let mut open: VecDeque<BTreeSet<RuleEdit>> = first.into_iter().map(|edit| BTreeSet::from([edit])).collect();
        let mut seen: BTreeSet<BTreeSet<RuleEdit>> = open.iter().cloned().collect();
        let mut tried = 0;
        while let Some(lifted) = open.pop_front() {
            if lifted.len() > self.most() {
                break;
            }
            if self.kept.iter().any(|kept| kept.is_subset(&lifted)) || !makes_sense(&lifted, self.problem) {
                continue;
            }
            if tried == MOST_TRIED {
                return Ok(false);
            }
            tried += 1;
            match self.attempt(&lifted, drive)? {
                Attempt::OutOfTime => return Ok(true),
                Attempt::Ended => {}
                Attempt::Collides(more) if lifted.len() < self.most() => {
                    for edit in more {
                        let mut further = lifted.clone();
                        if further.insert(edit) && seen.insert(further.clone()) {
                            open.push_back(further);
                        }
                    }
                }
                Attempt::Collides(_) => {}
            }
        }
        Ok(false)
    }

    /// Resolves with some rules lifted.
    fn attempt<D: Drive>(&mut self, lifted: &BTreeSet<RuleEdit>, drive: &mut D) -> Result<Attempt, D::Error> {
        let mut amended = self.problem.clone();
        lifted.iter().for_each(|edit| edit.apply(&mut amended));
        match drive.drive(Resolver::with_edits(amended.clone()))? {
            Ended::Badly(_) => Ok(Attempt::Ended),
            Ended::OutOfTime | Ended::Well(Outcome::Stopped(_), _) => Ok(Attempt::OutOfTime),
            Ended::Well(Outcome::Resolved(resolution), _) => {
                self.ends(lifted, &resolution, drive)?;
                Ok(Attempt::Ended)
            }
            Ended::Well(Outcome::Collision(collision), mut resolver) => {
                let more = self.candidates(&amended, &resolver, &collision);
                if lifted.len() < self.most() {
                    self.beside(lifted, &mut resolver, drive)?;
                }
                Ok(Attempt::Collides(more))
            }
        }
    }

    /// Takes in that lifted rules end it: with what is then written for them, if that ends it too.
    fn ends<D: Drive>(
        &mut self,
        lifted: &BTreeSet<RuleEdit>,
        resolution: &Resolution,
        drive: &mut D,
    ) -> Result<(), D::Error> {
        self.kept.push(lifted.clone());
        let Some(rules) = written(lifted, resolution) else { return Ok(()) };
        self.told(rules, Vec::new(), BTreeSet::new(), drive)
    }

    /// Takes in edits as they are written, without those that can be left out, if they end it.
    fn told<D: Drive>(
        &mut self,
        mut rules: Vec<RuleEdit>,
        mut needs: Vec<RequirementEdit>,
        mut pre_releases: BTreeSet<PackageName>,
        drive: &mut D,
    ) -> Result<(), D::Error> {
        let Some(mut resolution) = self.resolved_with(&rules, &needs, drive)? else { return Ok(()) };
        // One that was thought of late may do what several do, and so may one that came to name a pre-release.
        let several = rules.len() + needs.len() > 1;
        for at in (0..rules.len()).rev().filter(|_| several) {
            let mut fewer = rules.clone();
            fewer.remove(at);
            if let Some(without) = self.resolved_with(&fewer, &needs, drive)? {
                (rules, resolution) = (fewer, without);
            }
        }
        for at in (0..needs.len()).rev() {
            let mut fewer = needs.clone();
            fewer.remove(at);
            if let Some(without) = self.resolved_with(&rules, &fewer, drive)? {
                (needs, resolution) = (fewer, without);
            }
        }
        self.fewest = self.fewest.min(rules.len() + needs.len());
        let moved = resolution.moved_from(&self.problem.keep);
        if needs.is_empty() {
            pre_releases.clear();
        }
        pre_releases.extend(rules.iter().filter_map(RuleEdit::pre_release_of).cloned());
        self.take(Settling { rules, needs, resolution, moved, pre_releases });
        Ok(())
    }

    /// Looks for edits of needs beside lifted rules.
    fn beside<D: Drive>(
        &mut self,
        lifted: &BTreeSet<RuleEdit>,
        resolver: &mut Resolver,
        drive: &mut D,
    ) -> Result<(), D::Error> {
        for edit_set in drive.edit_sets(resolver, self.rules)? {
            if lifted.len() + edit_set.edits.len() > self.most() {
                continue;
            }
            let Some(rules) = written(lifted, &edit_set.resolution) else { continue };
            self.told(rules, edit_set.edits, edit_set.pre_releases, drive)?;
        }
        Ok(())
    }

    /// Resolves with edits as they are written; nothing when that is not possible.
    fn resolved_with<D: Drive>(
        &self,
        rules: &[RuleEdit],
        needs: &[RequirementEdit],
        drive: &mut D,
    ) -> Result<Option<Resolution>, D::Error> {
        let mut amended = self.problem.clone();
        rules.iter().for_each(|edit| edit.apply(&mut amended));
        for edit in needs {
            let is_it = |need: &Requirement| is_of_one_need(edit, need);
            match edit {
                RequirementEdit::Change { accept, .. } => {
                    let changed = amended.requirements.iter_mut().filter(|need| is_it(need));
                    changed.for_each(|need| need.accept = accept.clone());
                }
                RequirementEdit::Drop { .. } => amended.requirements.retain(|need| !is_it(need)),
            }
        }
        if amended.rules.overrides.leads_back() {
            return Ok(None);
        }
        Ok(match drive.drive(Resolver::new(amended))? {
            Ended::Well(Outcome::Resolved(resolution), _) => Some(resolution),
            _ => None,
        })
    }

    /// Keeps a set unless it includes one that was found, and in place of those that include it.
    fn take(&mut self, settling: Settling) {
        // What is removed counts on no platform, and what is changed is one edit.
        let twice = |edit: &RuleEdit| match edit {
            RuleEdit::OnlyOn { requirement, .. } => settling.needs.iter().any(|edit| is_of_one_need(edit, requirement)),
            _ => false,
        };
        if settling.rules.iter().any(twice) || self.found.iter().any(|found| settling.includes(found)) {
            return;
        }
        self.found.retain(|found| !found.includes(&settling));
        self.found.push(settling);
    }
}

/// Returns the edits as they would be written after this set; nothing when one of them is about nothing in it.
fn written(lifted: &BTreeSet<RuleEdit>, resolution: &Resolution) -> Option<Vec<RuleEdit>> {
    lifted.iter().map(|edit| edit.settled_on(resolution)).collect()
}

enum Attempt {
    /// It still collides; what might be lifted besides.
    Collides(Vec<RuleEdit>),
    /// It resolves, or never will.
    Ended,
    OutOfTime,
}

/// Tells whether edits can be made together: one of a kind about a package, and no need that counts nowhere in the end.
fn makes_sense(edits: &BTreeSet<RuleEdit>, problem: &Problem) -> bool {
    let about = |edit: &RuleEdit| match edit {
        RuleEdit::SwapAccept { package, .. } | RuleEdit::Unswap { package, .. } | RuleEdit::Swap { package, .. } => {
            Some((0, package.clone()))
        }
        RuleEdit::Unforce { package, .. } | RuleEdit::Force { package, .. } => Some((1, package.clone())),
        RuleEdit::Admit { package, .. } => Some((2, package.clone())),
        RuleEdit::Agree { package, .. } => Some((3, package.clone())),
        _ => None,
    };
    let dropped: BTreeSet<&String> = edits
        .iter()
        .filter_map(|edit| match edit {
            RuleEdit::DropPlatform { platform } => Some(platform),
            _ => None,
        })
        .collect();
    let counts = |edit: &RuleEdit| match edit {
        RuleEdit::OnlyOn { accept, .. } => {
            problem.rules.platforms.iter().any(|platform| !dropped.contains(platform) && accept.covers(platform))
        }
        _ => true,
    };
    if !edits.iter().all(counts) {
        return false;
    }
    let about: Vec<_> = edits.iter().filter_map(about).collect();
    about.iter().collect::<BTreeSet<_>>().len() == about.len()
}
