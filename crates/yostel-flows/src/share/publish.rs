//! Publish packages.

use std::cell::OnceCell;

use yostel_documents::PackageName;
use yostel_registry::{Publication, Published, ReleaseRemarks, check};
use yostel_sources::{CheckedOut, GitError, checked_out};

use super::target::{OpenTarget, RegistryTarget, with_target};
use super::tried::{NeedsVerdict, Trial, run_needs};
use crate::context::Context;
use crate::error::FlowError;
use crate::observer::go_on;
use crate::project::{LoadedProject, ProjectFile};
use crate::using::order::in_order_of_needs;

/// How to publish.
#[derive(Debug, Clone, Default)]
pub struct PublishRequest {
    /// What the files do not hold.
    pub remarks: ReleaseRemarks,
    /// Whether all projects of the workspace are published that have a version, and not only the one worked on.
    pub each: bool,
    /// Whether an older line may get one more release.
    pub backport: bool,
    /// Whether what a package needs is taken as it stands, and not tried.
    pub untried: bool,
    /// Whether nothing is published, and only said what would be.
    pub preview: bool,
}

/// What publishing came to.
#[derive(Debug)]
pub struct PublishReport {
    /// The packages, those before others that need them.
    pub packages: Vec<PublishedPackage>,
    /// Projects of the workspace that have no version, where all were to be published.
    pub without_version: Vec<PackageName>,
}

/// One package that was published, or was there.
#[derive(Debug)]
pub struct PublishedPackage {
    /// Its name.
    pub name: PackageName,
    /// Whether a set of what it needs was found.
    pub needs: NeedsVerdict,
    /// Whether its manifest names a licence.
    pub has_licence: bool,
    /// What its folder is to the repository that it says it is made from, and why nobody could tell; where it says so.
    pub checked_out: Option<Result<CheckedOut, GitError>>,
    /// What came of it.
    pub published: Published,
}

/// Publishes the package in a project's folder to a registry, without the projects below it; or every package of its
/// workspace, those before others that need them. Whatever can be found out before is found out before anything is
/// published, of all.
///
/// # Errors
/// `Registry`, `Source`; `Needs`, when somebody who needs a package would get no set; `Halfway`, when some were published
/// and one was not.
pub fn publish(
    project: &LoadedProject,
    target: &RegistryTarget,
    request: &PublishRequest,
    context: &Context<'_>,
) -> Result<PublishReport, FlowError> {
    let (chosen, without_version) = match request.each {
        true => in_order(project),
        false => (vec![project.here()], Vec::new()),
    };
    let checked = chosen.iter().filter_map(|file| check(&file.manifest).err());
    let failures: Vec<FlowError> = checked.map(FlowError::from).collect();
    if !failures.is_empty() {
        return Err(FlowError::several(failures));
    }
    let registry = target.open(context.settings)?;
    let (verdicts, mut failures) = try_all(project, &chosen, (target, &registry), request, context)?;
    if chosen.len() > 1 && !request.preview && failures.is_empty() {
        let previews = chosen.iter().map(|file| publish_one(project, file, &registry, (request, true), context));
        failures = previews.filter_map(Result::err).collect();
    }
    if !failures.is_empty() {
        return Err(FlowError::several(failures));
    }
    let mut packages: Vec<PublishedPackage> = Vec::new();
    for (file, needs) in chosen.iter().zip(verdicts) {
        let came = go_on(context.observer)
            .and_then(|()| publish_one(project, file, &registry, (request, request.preview), context));
        match came {
            Ok((published, checked_out)) => {
                let (name, has_licence) = (file.name().clone(), file.manifest.project.licence.is_some());
                packages.push(PublishedPackage { name, needs, has_licence, checked_out, published });
            }
            Err(cause) if packages.iter().any(|package| package.published.is_new) && !request.preview => {
                let new = packages.into_iter().filter(|package| package.published.is_new);
                let done = new.map(|package| (package.name, package.published.release.version)).collect();
                return Err(FlowError::Halfway { done, cause: Box::new(cause) });
            }
            Err(cause) => return Err(cause),
        }
    }
    Ok(PublishReport { packages, without_version })
}

/// Finds out whether what the packages need can be had; tells of each that cannot.
fn try_all(
    project: &LoadedProject,
    chosen: &[&ProjectFile],
    registry: (&RegistryTarget, &OpenTarget),
    request: &PublishRequest,
    context: &Context<'_>,
) -> Result<(Vec<NeedsVerdict>, Vec<FlowError>), FlowError> {
    let is_tried = |file: &&ProjectFile| !request.untried && !run_needs(file).is_empty();
    let trial = chosen.iter().any(is_tried).then(|| Trial::of(project, chosen, registry)).transpose()?;
    let (mut verdicts, mut failures) = (Vec::new(), Vec::new());
    // Most often one set serves all of them; where none does, each is asked about.
    let together = match &trial {
        Some(trial) if chosen.len() > 1 => match trial.needs_of(chosen, context) {
            Err(FlowError::Stopped) => return Err(FlowError::Stopped),
            verdict => verdict.ok().filter(|verdict| *verdict == NeedsVerdict::Resolved),
        },
        _ => None,
    };
    for file in chosen {
        let needs = run_needs(file);
        let verdict = match (&trial, together) {
            _ if needs.is_empty() => Ok(NeedsVerdict::None),
            (None, _) => Ok(NeedsVerdict::Untried),
            (Some(_), Some(verdict)) => Ok(verdict),
            (Some(trial), None) => trial.needs_of(&[file], context),
        };
        match verdict {
            Ok(verdict) => verdicts.push(verdict),
            Err(FlowError::Stopped) => return Err(FlowError::Stopped),
            Err(cause) => {
                let beside = needs.into_iter().map(|need| need.package);
                let beside = beside.filter(|name| !request.each && project.project(name).is_ok()).collect();
                failures.push(FlowError::Needs { package: file.name().clone(), beside, cause: Box::new(cause) });
            }
        }
    }
    Ok((verdicts, failures))
}

fn publish_one(
    project: &LoadedProject,
    file: &ProjectFile,
    registry: &OpenTarget,
    (request, preview): (&PublishRequest, bool),
    context: &Context<'_>,
) -> Result<(Published, Option<Result<CheckedOut, GitError>>), FlowError> {
    let inside = project.projects().filter_map(|other| match &file.folder[..] {
        "" => Some(other.folder.clone()),
        folder => other.folder.strip_prefix(folder)?.strip_prefix('/').map(str::to_owned),
    });
    let without: Vec<String> = inside.filter(|folder| !folder.is_empty()).collect();
    let folder = project.folder_of(file);
    let seen = OnceCell::new();
    let says = file.manifest.project.repository.is_some();
    let commit = || match says.then(|| seen.get_or_init(|| checked_out(&folder, &project.git_config())))? {
        Ok(CheckedOut::Commit(commit)) => Some(commit.clone()),
        _ => None,
    };
    let publication = Publication {
        folder: &folder,
        without: &without,
        manifest: &file.manifest,
        now: context.settings.now,
        commit: &commit,
        remarks: request.remarks.clone(),
        backport: request.backport,
        preview,
    };
    let published = with_target!(registry, registry => yostel_registry::publish(registry, &publication))?;
    Ok((published, seen.into_inner()))
}

/// Lists the projects of a workspace that have a version, each after those that it needs, and the names of those that have
/// none.
fn in_order(project: &LoadedProject) -> (Vec<&ProjectFile>, Vec<PackageName>) {
    let mut order = in_order_of_needs(project);
    if order.iter().all(|file| file.name() != project.top.name()) && project.top.manifest.project.version.is_some() {
        order.insert(0, &project.top);
    }
    let (chosen, without): (Vec<_>, Vec<_>) =
        order.into_iter().partition(|file| file.manifest.project.version.is_some());
    (chosen, without.into_iter().map(|file| file.name().clone()).collect())
}
