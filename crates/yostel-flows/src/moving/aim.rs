//! What an update is to reach: which packages are to move, and how far.

use std::collections::BTreeSet;

use jiff::Timestamp;
use yostel_documents::{
    Asker, Declared, EditError, Lockfile, PackageDocument, PackageName, Purpose, Requirement, SourceName, run_purpose,
};
use yostel_versions::ConstraintText;

use crate::content::trust::told_by_sources;
use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::{FlowError, LockError, SearchError};
use crate::project::LoadedProject;
use crate::project::prepared::known_purposes;
use crate::search::rules::Keep;

/// What to update, and how.
#[derive(Debug, Clone)]
pub struct UpdateRequest {
    /// These packages, each up to what its constraint accepts, where one is given; everything when there are none.
    pub packages: Vec<(PackageName, Option<ConstraintText>)>,
    /// Only what a project needs itself.
    pub direct: bool,
    /// Only what is needed for this purpose.
    pub purpose: Option<Purpose>,
    /// Only what this project of the workspace needs, and what came along with it.
    pub needed_by: Option<PackageName>,
    /// Only what comes from this source.
    pub source: Option<SourceName>,
    /// Only what advisories affect, and only as far as ends them.
    pub advisories: bool,
    /// Whether the projects' own constraints move where they keep a package from newer releases.
    pub edit: bool,
    /// Whether nothing else may move for it that can stay.
    pub alone: bool,
    /// How many other sets to look for, which leave something in its place that those before move.
    pub alternatives: usize,
    /// Only releases published by then; what stays is exempt.
    pub as_of: Option<Timestamp>,
    /// Whether to find out what stayed behind its newest release could have.
    pub tries_what_stayed: bool,
    /// Whether to write.
    pub write: Write,
}

impl UpdateRequest {
    /// Asks for everything, as far as the constraints let it.
    pub fn of_everything(write: Write) -> Self {
        Self {
            packages: Vec::new(),
            direct: false,
            purpose: None,
            needed_by: None,
            source: None,
            advisories: false,
            edit: false,
            alone: false,
            alternatives: 0,
            as_of: None,
            tries_what_stayed: true,
            write,
        }
    }
}

/// What is to move, and where to.
pub(crate) struct Aim<'a> {
    /// None when it is everything.
    pub(crate) packages: Option<BTreeSet<PackageName>>,
    /// Needs that hold in this search alone.
    pub(crate) demands: Vec<Requirement>,
    pub(crate) request: &'a UpdateRequest,
}

impl Aim<'_> {
    /// Tells whether a package is to move.
    pub(crate) fn is_for(&self, package: &PackageName) -> bool {
        self.packages.as_ref().is_none_or(|packages| packages.contains(package))
    }

    /// Says what of the lockfile is kept.
    pub(crate) fn keep(&self) -> Keep {
        match &self.packages {
            Some(packages) => Keep::But(packages.clone()),
            None => Keep::Nothing,
        }
    }
}

/// Lists the locked packages that are to move; nothing when all are.
pub(crate) fn asked_for(
    project: &LoadedProject,
    lockfile: &Lockfile,
    declared: &Declared,
    request: &UpdateRequest,
) -> Result<Option<BTreeSet<PackageName>>, FlowError> {
    for (package, _) in &request.packages {
        if !lockfile.chosen.contains_key(package) {
            return Err(LockError::not_locked(package, lockfile).into());
        }
    }
    let is_narrowed = request.direct || request.purpose.is_some() || request.needed_by.is_some();
    if request.packages.is_empty() && !is_narrowed && request.source.is_none() && !request.advisories {
        return Ok(None);
    }
    if let Some(name) = &request.needed_by {
        project.project(name)?;
    }
    known_purposes(project, lockfile, &request.purpose)?;
    if let Some(source) = request.source.as_ref().filter(|source| !project.manifest().sources.contains_key(*source)) {
        return Err(EditError::NoSuchSource(source.clone()).into());
    }
    let is_asked = |need: &Requirement| {
        request.purpose.as_ref().is_none_or(|purpose| need.purpose == *purpose)
            && request.needed_by.as_ref().is_none_or(|name| need.asker.name() == name)
    };
    let needs: Vec<Requirement> = declared.bound_requirements().into_iter().filter(is_asked).collect();
    let reached = lockfile.reached(&needs, declared, None);
    let direct: BTreeSet<&PackageName> = needs.iter().map(|need| &need.package).collect();
    let is_named =
        |name: &PackageName| request.packages.is_empty() || request.packages.iter().any(|(package, _)| package == name);
    let all = lockfile.chosen.iter().filter(|(name, locked)| {
        is_named(name)
            && (!is_narrowed || reached.has(name))
            && (!request.direct || direct.contains(*name))
            && request.source.as_ref().is_none_or(|source| locked.from.source() == Some(source))
    });
    Ok(Some(all.map(|(name, _)| name.clone()).collect()))
}

/// Lists needs that stand for the constraints that were asked for.
pub(crate) fn demands(project: &LoadedProject, request: &UpdateRequest) -> Vec<Requirement> {
    let demand = |(package, accept): &(PackageName, Option<ConstraintText>)| {
        Some(Requirement {
            asker: Asker::Project(project.here().name().clone()),
            purpose: run_purpose(),
            package: package.clone(),
            accept: accept.clone()?,
        })
    };
    request.packages.iter().filter_map(demand).collect()
}

/// Refuses what a need of a project does not accept any of, unless that may be edited.
pub(crate) fn refuse_unaccepted(
    project: &LoadedProject,
    lockfile: &Lockfile,
    declared: &Declared,
    request: &UpdateRequest,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    for (package, accept) in request.packages.iter().filter(|_| !request.edit) {
        let Some(asked) = accept else { continue };
        let numbering = &lockfile.chosen[package].numbering;
        let bind = |accept: &ConstraintText| accept.bind(numbering);
        let bound = match bind(asked) {
            Ok(bound) => bound,
            Err(cause) => {
                let (package, accept) = (package.clone(), asked.clone());
                return Err(SearchError::Unreadable { package, accept, requirement: None, cause }.into());
            }
        };
        let apart = |need: &&Requirement| {
            need.package == *package && bind(&need.accept).is_ok_and(|own| own.intersection(&bound).is_empty())
        };
        let Some(need) = declared.requirements.iter().find(apart) else { continue };
        // Of what there is no release, that is to be said, and not that a need accepts none.
        let documents = told_by_sources(project, &[package.clone()].into(), context.observer)?;
        let exists = |document: &PackageDocument| document.releases.iter().any(|one| bound.accepts(&one.version));
        if documents.get(package).is_none_or(exists) {
            let place = project.place_of(need).map(Box::new);
            return Err(SearchError::NotAccepted { requirement: need.clone(), place, asked: asked.clone() }.into());
        }
    }
    Ok(())
}
