//! The way out of each advisory that affects what is locked, tried.

use std::collections::BTreeMap;

use yostel_documents::{AskedBy, Lockfile, PackageDocument, PackageName, Requirement};
use yostel_findings::{Advised, Advisories, Affectable, MoveKind, Threat, WayOut};
use yostel_resolve::{Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::{ConstraintText, Version};

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::search::drive::drive;
use crate::search::proposal::moves_to;
use crate::search::rules::{rules_of, versions_of};

/// What the ways out are looked for in.
pub(crate) struct Around<'a> {
    pub(crate) project: &'a LoadedProject,
    pub(crate) lockfile: &'a Lockfile,
    pub(crate) documents: &'a BTreeMap<PackageName, PackageDocument>,
    pub(crate) sources: &'a SourceSet,
    /// What a lock without anything to keep chooses, as far as that was found out.
    pub(crate) anew: Option<&'a Resolution>,
}

/// Finds the way out of advisories that affect something.
///
/// # Errors
/// `Stopped`, and those of asking the sources.
pub(crate) fn advised(
    threats: Vec<Threat>,
    advisories: &Advisories,
    around: &Around<'_>,
    context: &Context<'_>,
) -> Result<Vec<Advised>, FlowError> {
    let mut ways: BTreeMap<(PackageName, Version), WayOut> = BTreeMap::new();
    let mut all = Vec::new();
    for threat in threats {
        let key = (threat.package.clone(), threat.version.clone());
        let way = match ways.get(&key) {
            Some(way) => way.clone(),
            None => way_of(&threat, advisories, around, context)?,
        };
        ways.insert(key, way.clone());
        all.push(Advised { threat, way });
    }
    Ok(all)
}

fn way_of(
    threat: &Threat,
    advisories: &Advisories,
    around: &Around<'_>,
    context: &Context<'_>,
) -> Result<WayOut, FlowError> {
    let (package, lockfile) = (&threat.package, around.lockfile);
    let Some(locked) = lockfile.chosen.at(package, &threat.version) else { return Ok(WayOut::NoRelease) };
    if let Some(commit) = &threat.fixed_at {
        return Ok(WayOut::Commit(commit.clone()));
    }
    let document = around.documents.get(package);
    let subject = Affectable::locked(package, locked, document);
    let is_free = |version: &Version| {
        let release = document.and_then(|document| document.listed(version));
        release.is_some_and(|release| !advisories.affect_release(&subject, release))
    };
    let taken = |resolution: &Resolution| -> Option<Version> {
        let all = resolution.chosen.all(package);
        let are_free = !all.is_empty() && all.iter().all(|choice| is_free(&choice.release.version));
        are_free.then(|| all[0].release.version.clone())
    };
    if let Some(version) = around.anew.and_then(taken) {
        return Ok(WayOut::Fresh(version));
    }
    let Some(fixed) = &threat.fixed else { return Ok(WayOut::NoRelease) };
    let mut declared = around.project.declared()?;
    if declared.overrides.forced.contains_key(package) {
        return Ok(WayOut::Forced);
    }
    let accepts = |accept: &ConstraintText| accept.bind(&locked.numbering).is_ok_and(|bound| bound.accepts(fixed));
    let holders: Vec<AskedBy> = locked.asked_by.iter().filter(|asked| !accepts(&asked.accept)).cloned().collect();
    let requirements = around.project.requirements();
    let holding: Vec<&Requirement> =
        requirements.iter().filter(|need| need.package == *package && !accepts(&need.accept)).collect();
    let [own] = holding[..] else { return Ok(WayOut::Held(holders)) };
    // What is agreed is not a need's to change.
    let is_agreed = declared.overrides.agreed.contains_key(package);
    if is_agreed || holders.iter().any(|holder| !holder.who.is_project()) {
        return Ok(WayOut::Held(holders));
    }
    let Ok(wider) = ConstraintText::parse(&format!("^{fixed}")) else { return Ok(WayOut::Held(holders)) };
    let accept = wider.where_counts(&own.accept);
    let changed = |need: &Requirement| match need == own {
        true => Requirement { accept: accept.clone(), ..need.clone() },
        false => need.clone(),
    };
    let requirements: Vec<Requirement> = requirements.iter().map(changed).collect();
    let rules = rules_of(around.project, None, None, context.settings);
    declared.requirements.clone_from(&requirements);
    let problem = Problem { requirements, keep: versions_of(lockfile), rules, ..Problem::default() };
    match drive(Resolver::new(problem), around.project, around.sources, context.observer)?.outcome {
        Outcome::Resolved(resolution) if taken(&resolution).is_some() => {
            let moves = moves_to(&resolution, &declared, lockfile);
            let others = moves.iter().filter(|m| m.package != *package && matches!(m.kind, MoveKind::Moved { .. }));
            Ok(WayOut::Need { requirement: own.clone(), accept, others: others.count() })
        }
        Outcome::Stopped(_) => Err(FlowError::Stopped),
        _ => Ok(WayOut::Held(holders)),
    }
}
