//! The sets in between two locks: each a real resolution.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Lockfile, PackageName, Requirement, run_purpose};
use yostel_resolve::{Collision, Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::ConstraintText;

use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::FlowError;
use crate::moving::aim::{Aim, UpdateRequest};
use crate::moving::constraints::with_edits;
use crate::project::LoadedProject;
use crate::project::patches::Patches;
use crate::search::drive::drive;
use crate::search::places::told;
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, KeptVersions, rules_of, versions_in, versions_of};

/// A set that is tried.
pub(super) struct TriedSet {
    /// The project, with its constraints as they accept the set.
    pub(super) edited: LoadedProject,
    pub(super) proposal: Proposal,
}

/// What lies between two locks.
pub(super) struct Between<'b> {
    pub(super) project: &'b LoadedProject,
    pub(super) patches: &'b Patches,
    pub(super) at_good: KeptVersions,
    pub(super) at_bad: KeptVersions,
    pub(super) moved: &'b [PackageName],
    pub(super) sources: &'b SourceSet,
    pub(super) context: &'b Context<'b>,
}

impl Between<'_> {
    /// Returns a need that holds a package where the bad lock has it; nothing where it has none of it, or several.
    fn demand(&self, package: &PackageName) -> Option<Requirement> {
        let versions = self.at_bad.get(package).filter(|versions| versions.len() == 1)?;
        Some(Requirement {
            asker: Asker::Project(self.project.here().name().clone()),
            purpose: run_purpose(),
            package: package.clone(),
            accept: ConstraintText::parse(&format!("={}", versions.first()?)).ok()?,
        })
    }

    /// Lists the moved packages that a set does not have where the good lock has them.
    pub(super) fn moved_in(&self, lockfile: &Lockfile) -> BTreeSet<usize> {
        let there = versions_of(lockfile);
        let is_moved = |at: &usize| there.get(&self.moved[*at]) != self.at_good.get(&self.moved[*at]);
        (0..self.moved.len()).filter(is_moved).collect()
    }

    /// Resolves the set in which these of the moved packages are where the bad lock has them, and the rest where the good one
    /// has it, as far as that is consistent. The projects' own constraints give way, since either lock was right once.
    pub(super) fn set_with(&self, set: &BTreeSet<usize>) -> Result<TriedSet, FlowError> {
        let Self { project, patches, context, .. } = self;
        let at_bad: BTreeSet<&PackageName> = set.iter().map(|at| &self.moved[*at]).collect();
        let mut keep = self.at_good.clone();
        for name in at_bad {
            match self.at_bad.get(name) {
                Some(versions) => drop(keep.insert(name.clone(), versions.clone())),
                None => drop(keep.remove(name)),
            }
        }
        let declared = project.declared_with(patches);
        let mut rules = rules_of(project, None, None, context.settings);
        let mut requirements = declared.requirements.clone();
        requirements.iter_mut().for_each(|need| need.accept = need.accept.loosened());
        rules.overrides.agreed.values_mut().for_each(|accept| *accept = accept.loosened());
        let problem = Problem { requirements, keep, rules, ..Problem::default() };
        let demands = set.iter().filter_map(|at| self.demand(&self.moved[*at]));
        let demanding =
            Problem { requirements: problem.requirements.iter().cloned().chain(demands).collect(), ..problem.clone() };
        let resolved = |problem: Problem| -> Result<Result<Resolution, Box<Collision>>, FlowError> {
            match drive(Resolver::new(problem), project, self.sources, context.observer)?.outcome {
                Outcome::Resolved(resolution) => Ok(Ok(resolution)),
                Outcome::Collision(collision) => Ok(Err(collision)),
                Outcome::Stopped(_) => Err(FlowError::Stopped),
            }
        };
        // What is to be where the bad lock has it is there, if that can be; what nobody needs then is left out.
        let problem = match resolved(demanding)? {
            Ok(resolution) => Problem { keep: versions_in(&resolution), ..problem },
            Err(_) => problem,
        };
        let resolution = match resolved(problem)? {
            Ok(resolution) => resolution,
            Err(collision) => return Err(told(project, collision).into()),
        };
        let request = UpdateRequest::of_everything(Write::Nothing);
        let aim = Aim { packages: None, demands: Vec::new(), request: &UpdateRequest { edit: true, ..request } };
        let (edited, _) = with_edits(project, &aim, &resolution)?;
        let declared = edited.declared_with(patches);
        let basis = Basis {
            project: &edited,
            declared: &declared,
            patches,
            before: None,
            keep: &Keep::Nothing,
            manifests: BTreeMap::new(),
            shareable: false,
        };
        let proposal = Proposal::of(&resolution, &basis, context)?;
        Ok(TriedSet { edited, proposal })
    }
}
