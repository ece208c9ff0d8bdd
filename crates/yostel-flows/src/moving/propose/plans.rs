//! What could be proposed: for each package that could move, or group of them, an update that is not written.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};
use yostel_documents::{LockedPackage, Lockfile, PackageName, Proposals, Seal};
use yostel_findings::{Candidate, MoveKind};

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::{FlowError, LockError};
use crate::moving::aim::UpdateRequest;
use crate::moving::update::{UpdateReport, update};
use crate::project::LoadedProject;
use crate::project::read::load_lockfile;

/// An update that could be proposed.
#[derive(Debug)]
pub(crate) struct Plan {
    pub(crate) candidate: Candidate,
    pub(crate) request: UpdateRequest,
    pub(crate) report: UpdateReport,
}

/// Finds what could be proposed: what ends an advisory first, then groups, then what a project needs itself, each by name. What
/// moves with one of those is no proposal of its own.
///
/// # Errors
/// `NoLockfile`, `NotLocked`, and as updating.
pub(crate) fn plans(
    project: &LoadedProject,
    proposals: &Proposals,
    only: &[PackageName],
    context: &Context<'_>,
) -> Result<Vec<Plan>, FlowError> {
    let today = proposals.today(context.settings.now);
    let lockfile = load_lockfile(project)?.ok_or_else(|| LockError::NoLockfile(project.lockfile_path()))?;
    if let Some(package) = only.iter().find(|package| !lockfile.chosen.contains_key(package)) {
        return Err(LockError::not_locked(package, &lockfile).into());
    }
    let young = too_young(project, proposals, &lockfile, context)?;
    // What is younger than what may be proposed stays, and is kept out of the search for it.
    let others: Vec<PackageName> = match young.is_empty() {
        true => Vec::new(),
        false => lockfile.chosen.keys().filter(|package| !young.contains(package)).cloned().collect(),
    };
    if others.is_empty() && !young.is_empty() {
        return Ok(Vec::new());
    }
    let all = update(project, &request(proposals, others, context), context)?;
    let moved = all.comparison.moves.iter().filter(|one| matches!(one.moved.kind, MoveKind::Moved { .. }));
    let mut packages: BTreeSet<PackageName> = moved.map(|one| one.moved.package.clone()).collect();
    packages.retain(|package| proposals.proposes(package, today) && !young.contains(package));
    // Of a group, all is proposed or nothing.
    let is_asked = |package: &PackageName| {
        let group = proposals.group_of(package);
        only.iter().any(|one| one == package || group.is_some() && proposals.group_of(one) == group)
    };
    packages.retain(|package| only.is_empty() || is_asked(package));
    let mut groups: BTreeMap<String, BTreeSet<PackageName>> = BTreeMap::new();
    let mut alone: Vec<BTreeSet<PackageName>> = Vec::new();
    let direct: BTreeSet<PackageName> = project.requirements().into_iter().map(|need| need.package).collect();
    // What is needed directly takes what came along with it.
    let (first, then): (Vec<PackageName>, Vec<PackageName>) =
        packages.into_iter().partition(|package| direct.contains(package));
    for package in first.into_iter().chain(then) {
        match proposals.group_of(&package) {
            Some(group) => drop(groups.entry(group.to_string()).or_default().insert(package)),
            None => alone.push([package].into()),
        }
    }
    let named = groups.into_iter().map(|(name, packages)| (Some(name), packages));
    let mut plans: Vec<Plan> = Vec::new();
    for (name, packages) in named.chain(alone.into_iter().map(|packages| (None, packages))) {
        let request = request(proposals, packages.iter().cloned().collect(), context);
        let report = update(project, &request, context)?;
        let targets = targets(&report, &packages);
        let is_covered = |plan: &Plan| {
            let there = |(package, version): (&String, &String)| plan.report_moves(package) == Some(version.clone());
            !targets.is_empty() && targets.iter().all(there)
        };
        if !report.changed || targets.is_empty() || name.is_none() && plans.iter().any(is_covered) {
            continue;
        }
        let name = name.unwrap_or_else(|| packages.iter().map(PackageName::to_string).collect());
        let digest = digest_of(&report.files);
        let is_urgent = !report.comparison.advisories_out.is_empty();
        plans.push(Plan { candidate: Candidate { name, targets, digest, is_urgent }, request, report });
    }
    plans.sort_by_key(|plan| !plan.candidate.is_urgent);
    Ok(plans)
}

impl Plan {
    fn report_moves(&self, package: &str) -> Option<String> {
        self.report.comparison.moves.iter().find_map(|one| match &one.moved.kind {
            MoveKind::Moved { to, .. } if one.moved.package.as_str() == package => Some(to.to_string()),
            _ => None,
        })
    }
}

/// Finds packages that are locked at releases that are younger than what may be proposed.
fn too_young(
    project: &LoadedProject,
    proposals: &Proposals,
    lockfile: &Lockfile,
    context: &Context<'_>,
) -> Result<BTreeSet<PackageName>, FlowError> {
    let Some(by) = published_by(proposals, context) else { return Ok(BTreeSet::new()) };
    let documents = told_by_sources(project, &from_sources(lockfile), context.observer)?;
    let is_young = |(package, locked): &(&PackageName, &LockedPackage)| {
        let release = documents.get(*package).and_then(|document| document.release(&locked.version));
        release.is_some_and(|release| release.published > by)
    };
    Ok(lockfile.chosen.iter().filter(is_young).map(|(package, _)| package.clone()).collect())
}

/// Returns the time by which releases must have been published to be proposed.
fn published_by(proposals: &Proposals, context: &Context<'_>) -> Option<Timestamp> {
    let old_enough = proposals.minimum_age_days.map(|days| SignedDuration::from_hours(24 * i64::from(days)));
    // Older than all time, nothing is.
    old_enough.map(|age| context.settings.now.checked_sub(age).unwrap_or(Timestamp::MIN))
}

fn request(proposals: &Proposals, packages: Vec<PackageName>, context: &Context<'_>) -> UpdateRequest {
    let as_of = published_by(proposals, context);
    let packages = packages.into_iter().map(|package| (package, None)).collect();
    let all = UpdateRequest::of_everything(Write::Nothing);
    UpdateRequest { packages, edit: proposals.edit, as_of, tries_what_stayed: false, ..all }
}

/// Returns where packages of a plan's own would be.
fn targets(report: &UpdateReport, packages: &BTreeSet<PackageName>) -> BTreeMap<String, String> {
    let moves = report.comparison.moves.iter().filter(|one| packages.contains(&one.moved.package));
    let target = |one: &yostel_findings::Compared| match &one.moved.kind {
        MoveKind::Moved { to, .. } => Some((one.moved.package.to_string(), to.to_string())),
        _ => None,
    };
    moves.filter_map(target).collect()
}

/// Returns a digest of files.
fn digest_of(files: &BTreeMap<String, String>) -> String {
    let mut bytes = Vec::new();
    for (file, text) in files {
        bytes.extend(format!("{} {} {}\n", file.len(), file, text.len()).bytes().chain(text.bytes()));
    }
    Seal::of(&bytes).to_string()
}
