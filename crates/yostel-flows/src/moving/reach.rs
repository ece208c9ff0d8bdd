//! The sets that updates come to: what is asked for as new as can be, and then the fewest others moved.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Declared, Lockfile, PackageDocument, PackageName, Requirement, run_purpose};
use yostel_findings::{Affectable, Threat, UnreadAdvisory};
use yostel_resolve::{Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::ConstraintText;

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::error::{FlowError, SearchError};
use crate::look::gather::{Sought, gather};
use crate::look::statements::sorted;
use crate::moving::aim::{Aim, UpdateRequest};
use crate::project::LoadedProject;
use crate::search::drive::{Tried, drive, drive_trial, watched};
use crate::search::places::{places_of, rules_about, told};
use crate::search::rules::{KeptVersions, kept_versions, rules_of, versions_in, versions_of};

/// A set, and what the sources told of its packages.
pub(crate) type Found = (Resolution, BTreeMap<PackageName, PackageDocument>);

/// Finds the set that an update comes to.
pub(crate) fn find(
    aim: &mut Aim<'_>,
    locked: (&Lockfile, &Declared),
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<WaysOut, FlowError> {
    if aim.request.advisories {
        return out_of_advisories(aim, locked, project, sources, context);
    }
    let found = Some(search(aim, locked, project, sources, context)?);
    Ok(WaysOut { found, threats: Vec::new(), unread: Vec::new() })
}

/// Finds the set in which what is asked for is as new as can be, and then the fewest others move.
fn search(
    aim: &Aim<'_>,
    locked: (&Lockfile, &Declared),
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<Found, FlowError> {
    let problem = problem_of(aim, locked, project, context);
    let driven = drive(Resolver::new(problem), project, sources, context.observer)?;
    match driven.outcome {
        Outcome::Resolved(resolution) => Ok((resolution, driven.resolver.into_documents())),
        Outcome::Stopped(_) => Err(FlowError::Stopped),
        Outcome::Collision(collision) => {
            let asked = aim.demands.iter().find(|demand| collision.requirements.contains(demand));
            let Some(asked) = asked.cloned().map(Box::new) else { return Err(told(project, collision).into()) };
            let (places, rules) = (places_of(project, &collision), rules_about(project, &collision));
            Err(SearchError::OutOfReach { asked, collision, places, rules }.into())
        }
    }
}

/// Poses the problem that an update is.
pub(crate) fn problem_of(
    aim: &Aim<'_>,
    (before, declared): (&Lockfile, &Declared),
    project: &LoadedProject,
    context: &Context<'_>,
) -> Problem {
    let request = aim.request;
    let mut rules = rules_of(project, request.as_of, None, context.settings);
    let mut requirements = declared.requirements.clone();
    if request.edit {
        for need in requirements.iter_mut().filter(|need| aim.is_for(&need.package)) {
            need.accept = need.accept.loosened();
        }
        for (_, accept) in rules.overrides.agreed.iter_mut().filter(|(package, _)| aim.is_for(package)) {
            *accept = accept.loosened();
        }
    }
    requirements.extend(aim.demands.iter().cloned());
    let keep = match &aim.packages {
        Some(_) => kept_versions(before, declared, &aim.keep()),
        None => KeptVersions::new(),
    };
    let mut reach = versions_of(before);
    let is_reached = |name: &PackageName| aim.packages.as_ref().is_some_and(|packages| packages.contains(name));
    reach.retain(|name, _| is_reached(name) && !request.alone && !request.advisories);
    Problem { requirements, reach, keep, rules, not_all_moved: Vec::new() }
}

/// Finds the best set that is unlike others; nothing when there is none.
pub(crate) fn search_another(
    problem: Problem,
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<Option<Found>, FlowError> {
    let mut resolver = Resolver::new(problem);
    let stop = resolver.stop_flag();
    let observer = context.observer;
    match watched(&stop, observer, || drive_trial(&mut resolver, project, sources, observer))?? {
        Tried::Resolved(resolution) => Ok(Some((resolution, resolver.into_documents()))),
        Tried::Refuted => Ok(None),
        Tried::Stopped => Err(FlowError::Stopped),
    }
}

/// What an update out of advisories comes to.
pub(crate) struct WaysOut {
    /// The set; none when nothing is affected, or nothing can be ended.
    pub(crate) found: Option<Found>,
    /// What was to end.
    pub(crate) threats: Vec<Threat>,
    /// Advisories that could not be read, so nobody knows whom they affect.
    pub(crate) unread: Vec<UnreadAdvisory>,
}

/// Finds the set that ends as many advisories as can be ended, with the fewest others moved.
fn out_of_advisories(
    aim: &mut Aim<'_>,
    (before, declared): (&Lockfile, &Declared),
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<WaysOut, FlowError> {
    let documents = told_by_sources(project, &from_sources(before), context.observer)?;
    let (advisories, unread) = gather(&Sought::on(before), &documents, (project, sources), context)?;
    let mut threats = sorted(&advisories, (before, &documents), project, context)?.stand;
    threats.retain(|threat| aim.is_for(&threat.package));
    let affected: BTreeSet<PackageName> = threats.iter().map(|threat| threat.package.clone()).collect();
    let mut asked = std::mem::take(&mut aim.demands);
    asked.retain(|demand| affected.contains(&demand.package));
    let here = Asker::Project(project.here().name().clone());
    // Out on its own line if that can be, and else on any; what no source lists cannot move.
    let ways_of = |package: &PackageName| -> Vec<Requirement> {
        let (Some(locked), Some(document)) = (before.chosen.get(package), documents.get(package)) else {
            return Vec::new();
        };
        let subject = Affectable::locked(package, locked, Some(document));
        let bad = document.releases.iter().filter(|release| advisories.affect_release(&subject, release));
        let bad: Vec<String> = bad.map(|release| format!("!={}", release.version)).collect();
        let any_line = bad.join(", ");
        let own_line = format!("^{}, {any_line}", locked.version);
        let accepts = [own_line, any_line].map(|text| ConstraintText::parse_joined(&text));
        let (asker, purpose) = (&here, run_purpose());
        let way =
            |accept| Requirement { asker: asker.clone(), purpose: purpose.clone(), package: package.clone(), accept };
        accepts.into_iter().flatten().map(way).collect()
    };
    let ways: Vec<Vec<Requirement>> = affected.iter().map(ways_of).filter(|ways| !ways.is_empty()).collect();
    aim.demands = asked.iter().cloned().chain(ways.iter().map(|ways| ways[0].clone())).collect();
    aim.packages = Some(affected);
    let all_at_once =
        if ways.is_empty() { None } else { reachable(aim, (before, declared), project, sources, context)? };
    let found = match all_at_once {
        Some(found) => Some(found),
        None => {
            // So one after the other, as far as each goes with those before it.
            let (mut found, mut ended) = (None, BTreeSet::new());
            aim.demands = asked;
            for way in ways.into_iter().flatten() {
                if ended.contains(&way.package) {
                    continue;
                }
                aim.demands.push(way.clone());
                aim.packages = Some(aim.demands.iter().map(|demand| demand.package.clone()).collect());
                match reachable(aim, (before, declared), project, sources, context)? {
                    Some(with) => {
                        found = Some(with);
                        ended.insert(way.package);
                    }
                    None => drop(aim.demands.pop()),
                }
            }
            aim.packages = Some(aim.demands.iter().map(|demand| demand.package.clone()).collect());
            found
        }
    };
    Ok(WaysOut { found, threats, unread })
}

/// Like [`search`]; nothing where what is asked for cannot be had.
fn reachable(
    aim: &Aim<'_>,
    locked: (&Lockfile, &Declared),
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<Option<Found>, FlowError> {
    match search(aim, locked, project, sources, context) {
        Ok(found) => Ok(Some(found)),
        Err(FlowError::Search(SearchError::OutOfReach { .. })) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Resolves what the manifests say by now, keeping what was found: the same set, without what nobody needs.
pub(crate) fn proved(
    found: &Resolution,
    project: &LoadedProject,
    declared: &Declared,
    sources: &SourceSet,
    request: &UpdateRequest,
    context: &Context<'_>,
) -> Result<Resolution, FlowError> {
    let keep = versions_in(found);
    let rules = rules_of(project, request.as_of, None, context.settings);
    let problem = Problem { requirements: declared.requirements.clone(), keep, rules, ..Problem::default() };
    let driven = drive(Resolver::new(problem), project, sources, context.observer)?;
    match driven.outcome {
        Outcome::Resolved(resolution) => Ok(resolution),
        Outcome::Stopped(_) => Err(FlowError::Stopped),
        Outcome::Collision(collision) => Err(told(project, collision).into()),
    }
}
