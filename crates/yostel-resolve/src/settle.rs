//! What ends a collision, of all that may be edited: sets of edits to needs, to rules, or to both.
//!
//! Edits to needs are found by counting switches ([`crate::edits`]). Rules are lifted one by one, then two at once and so
//! on, and each time the problem is resolved anew: what resolves is a set of edits to rules, and what does not is looked at
//! for edits to needs beside them. So no set is told of which one edit could be left out.

mod loosening;

use std::collections::{BTreeSet, VecDeque};

use yostel_documents::{PackageName, Requirement};

use crate::collision::Collision;
use crate::edits::{EditRules, EditSet, RequirementEdit};
use crate::problem::Problem;
use crate::resolution::Resolution;
use crate::resolver::{Outcome, Resolver};
use crate::rule_edit::{RuleEdit, candidates};
use crate::settling::{Extent, Settled, Settling, is_of_one_need};

/// How often rules are lifted before that is enough.
const MOST_TRIED: usize = 300;

/// How much work is done in all before what was found will do, as [`Resolver::work`] counts it: counted and not timed, so
/// that the same is found on every machine.
const MOST_WORK: u64 = 30_000_000;

/// How much of it goes into one question, so that a hard one leaves something to the others.
const MOST_AT_ONCE: u64 = MOST_WORK / 3;

/// How many edits of rules are tried of all packages that are known; where there are more, only those of packages that
/// collide are.
const MOST_CANDIDATES: usize = 40;

/// Sets with edits of rules have no more edits than the fewest to needs alone would take, or than this.
const FEW_EDITS: usize = 2;

/// Where more releases than this are in reach of edits, only needs of collisions are loosened.
const MOST_RELEASES: usize = 60_000;

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

/// Finds sets of edits after which a problem can be resolved. Its needs are as they are written.
///
/// # Errors
/// Those of `drive`; what a problem with edits brings with it only ends that attempt.
pub fn settle<D: Drive>(problem: &Problem, rules: &EditRules, drive: &mut D) -> Result<Settled, D::Error> {
    let mut search = Search {
        problem,
        rules,
        found: Vec::new(),
        fewest: usize::MAX,
        kept: Vec::new(),
        left: MOST_WORK,
        at_once: MOST_AT_ONCE,
        extent: Extent::Whole,
    };
    let mut resolver = Resolver::with_edits(problem.clone());
    resolver.look_at_most(MOST_RELEASES);
    let out_of_time = || Settled { extent: Extent::OutOfTime, ..Settled::default() };
    let Some((outcome, mut resolver)) = driven(resolver, drive)? else { return Ok(out_of_time()) };
    if matches!(outcome, Outcome::Stopped(_)) {
        // More is in reach of edits than can be looked at.
        let Some((outcome, _)) = driven(Resolver::new(problem.clone()), drive)? else { return Ok(out_of_time()) };
        let Outcome::Collision(collision) = outcome else { return Ok(Settled::default()) };
        search.falls_short(Extent::Part);
        search.loosen(&collision, drive)?;
        return Ok(search.settled(collision));
    }
    let Outcome::Collision(collision) = outcome else { return Ok(Settled::default()) };
    for edit_set in search.edit_sets(&mut resolver, drive)? {
        search.fewest = search.fewest.min(edit_set.edits.len());
        let EditSet { edits: needs, resolution, moved, pre_releases, .. } = edit_set;
        search.take(Settling { rules: Vec::new(), needs, resolution, moved, pre_releases });
    }
    search.lift(&collision, &resolver, drive)?;
    if search.found.is_empty() && search.extent == Extent::Part {
        search.loosen(&collision, drive)?;
    }
    Ok(search.settled(collision))
}

/// Drives a resolver as far as it takes; nothing when there was no time left.
fn driven<D: Drive>(resolver: Resolver, drive: &mut D) -> Result<Option<(Outcome, Box<Resolver>)>, D::Error> {
    match drive.drive(resolver)? {
        Ended::Well(outcome, resolver) => Ok(Some((outcome, resolver))),
        Ended::Badly(error) => Err(error),
        Ended::OutOfTime => Ok(None),
    }
}

struct Search<'s> {
    problem: &'s Problem,
    rules: &'s EditRules,
    found: Vec<Settling>,
    /// The fewest edits of a set that was found.
    fewest: usize,
    /// Sets of rules that end it without edits of needs.
    kept: Vec<BTreeSet<RuleEdit>>,
    /// How much work may still be done.
    left: u64,
    /// How much of it on one question.
    at_once: u64,
    extent: Extent,
}

impl Search<'_> {
    /// Returns what was found, the nearest to what is there first.
    fn settled(self, collision: Box<Collision>) -> Settled {
        let Self { mut found, rules, extent, .. } = self;
        found.sort_by(|one, other| {
            let rank = one.rank(rules).cmp(&other.rank(rules));
            rank.then_with(|| (&one.needs, &one.rules).cmp(&(&other.needs, &other.rules)))
        });
        Settled { collision: Some(collision), found, extent }
    }

    /// How many edits a set with edits of rules may have.
    fn most(&self) -> usize {
        if self.fewest == usize::MAX { usize::MAX } else { self.fewest.max(FEW_EDITS) }
    }

    /// Drives a resolver as far as there is work left to do; it may end without an outcome then.
    fn drive<D: Drive>(&mut self, mut resolver: Resolver, drive: &mut D) -> Result<Ended<D::Error>, D::Error> {
        resolver.allow(self.left.min(self.at_once));
        let ended = drive.drive(resolver)?;
        match &ended {
            Ended::Well(outcome, resolver) => {
                self.left = self.left.saturating_sub(resolver.work());
                if matches!(outcome, Outcome::Stopped(_)) {
                    self.falls_short(Extent::Part);
                }
            }
            Ended::Badly(_) => {}
            Ended::OutOfTime => self.falls_short(Extent::OutOfTime),
        }
        Ok(ended)
    }

    /// Asks for edits of needs as far as there is work left to do.
    fn edit_sets<D: Drive>(&mut self, resolver: &mut Resolver, drive: &mut D) -> Result<Vec<EditSet>, D::Error> {
        let before = resolver.work();
        resolver.allow(before + self.left.min(self.at_once));
        let edit_sets = drive.edit_sets(resolver, self.rules)?;
        self.left = self.left.saturating_sub(resolver.work() - before);
        if resolver.is_worn_out() {
            self.falls_short(Extent::Part);
        }
        Ok(edit_sets)
    }

    fn falls_short(&mut self, extent: Extent) {
        self.extent = self.extent.max(extent);
    }

    /// Lists the rules that might be lifted; what is to stay as it is stays so on all platforms too.
    fn candidates(&mut self, problem: &Problem, resolver: &Resolver, collision: &Collision) -> Vec<RuleEdit> {
        let (mut edits, all) = candidates(problem, resolver.documents(), collision, MOST_CANDIDATES);
        if !all {
            self.falls_short(Extent::Part);
        }
        edits.retain(|edit| match edit {
            RuleEdit::OnlyOn { requirement, .. } => !self.rules.kept.contains(&requirement.package),
            _ => true,
        });
        edits
    }

    /// Lifts more and more rules.
    fn lift<D: Drive>(&mut self, collision: &Collision, resolver: &Resolver, drive: &mut D) -> Result<(), D::Error> {
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
            if tried == MOST_TRIED || self.left == 0 {
                self.falls_short(Extent::Part);
                break;
            }
            tried += 1;
            match self.attempt(&lifted, drive)? {
                Attempt::OutOfTime => break,
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
        Ok(())
    }

    /// Resolves with some rules lifted.
    fn attempt<D: Drive>(&mut self, lifted: &BTreeSet<RuleEdit>, drive: &mut D) -> Result<Attempt, D::Error> {
        let mut amended = self.problem.clone();
        lifted.iter().for_each(|edit| edit.apply(&mut amended));
        match self.drive(Resolver::with_edits(amended.clone()), drive)? {
            Ended::Badly(_) | Ended::Well(Outcome::Stopped(_), _) => Ok(Attempt::Ended),
            Ended::OutOfTime => Ok(Attempt::OutOfTime),
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
        // Those that are left may do without.
        let has_one = |package: &PackageName| {
            resolution.chosen.all(package).iter().any(|choice| choice.release.version.is_pre_release())
        };
        pre_releases.retain(|package| !needs.is_empty() && has_one(package));
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
        for edit_set in self.edit_sets(resolver, drive)? {
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
        &mut self,
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
        Ok(match self.drive(Resolver::new(amended), drive)? {
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
    /// It resolves, or never will, or that takes too long to know.
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
