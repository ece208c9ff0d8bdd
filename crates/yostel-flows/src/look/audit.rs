//! What to think of what is locked.

use std::collections::{BTreeMap, BTreeSet};

use jiff::tz::TimeZone;
use yostel_documents::{Disputed, Lockfile, PackageName};
use yostel_findings::{
    Advisories, AuditReport, Dismissed, Dismissing, FindingGroup, Origins, Outdated, Spot, Threat, dismissing,
    duplicates, notices, outdated, quiet, threats, unlicensed,
};
use yostel_resolve::{Problem, Resolution};
use yostel_sources::SourceSet;
use yostel_versions::Version;

use crate::content::trust::{disputes_with, told_by};
use crate::context::Context;
use crate::error::FlowError;
use crate::look::advisories::{Around, advised};
use crate::look::dedupe::dedupes;
use crate::look::gather::{Sought, gather};
use crate::look::remedies::remedies;
use crate::look::statements::statements_of;
use crate::look::trials::try_all;
use crate::look::upkeep::upkeep;
use crate::project::prepared::Prepared;
use crate::project::{LoadedProject, spot_of};
use crate::search::fresh::fresh;
use crate::search::rules::{Keep, rules_of};

/// What to look for.
#[derive(Debug, Clone, Default)]
pub struct AuditRequest {
    /// These; everything when there are none. What lockfile and sources tell differently is told in any case.
    pub groups: BTreeSet<FindingGroup>,
}

impl AuditRequest {
    /// Tells whether this is looked for.
    pub fn looks_for(&self, group: FindingGroup) -> bool {
        self.groups.is_empty() || self.groups.contains(&group)
    }
}

/// Audits what is locked against what the sources have today.
///
/// # Errors
/// As loading a lockfile, and asking the sources.
pub fn audit(project: &LoadedProject, request: &AuditRequest, context: &Context<'_>) -> Result<AuditReport, FlowError> {
    let Prepared { lockfile, declared, stale, .. } = project.prepare_to_look(context.observer)?;
    // Of what does not come from a source, none can tell anything.
    let from_source = lockfile.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    let names: BTreeSet<PackageName> = from_source.map(|(name, _)| name.clone()).collect();
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Nothing, context)?;
    // What is resolved below asks for the same; but what the manifest takes from elsewhere by now, no source would tell there.
    let asked = if project.elsewhere.is_empty() { &sources } else { &project.sources()? };
    let documents = told_by(asked, &names, context.observer)?;
    let unknown = names.into_iter().filter(|name| !documents.contains_key(name)).collect();
    let mut alarms = disputes_with(&lockfile, &declared, &documents);
    // Told as unknown already.
    alarms.retain(|alarm| alarm.about != Disputed::Package);
    // What releases need is told as the manifest rewrites it, and that may be otherwise by now.
    alarms.retain(|alarm| !stale || !matches!(alarm.about, Disputed::Needs { .. }));
    let duplicates = duplicates(&lockfile, &documents);
    let mut outdated = outdated(&lockfile, &documents);
    let (advisories, unread) = match request.looks_for(FindingGroup::Advisories) {
        true => gather(&Sought::on(&lockfile), &documents, (project, &sources), context)?,
        false => Default::default(),
    };
    let notices = notices(&lockfile, &documents);
    let of_releases = [FindingGroup::Outdated, FindingGroup::Advisories, FindingGroup::Notices];
    let says_anything = !outdated.is_empty() || !notices.is_empty();
    let anew = match says_anything && of_releases.into_iter().any(|group| request.looks_for(group)) {
        true => resolved(&mut outdated, &lockfile, project, &sources, context)?,
        false => None,
    };
    if request.looks_for(FindingGroup::Outdated) {
        try_all(&mut outdated, &lockfile, project, &sources, context)?;
    }
    let (lock, anew) = (&lockfile, anew.as_ref());
    let around = Around { project, lockfile: lock, documents: &documents, sources: &sources, anew };
    let Judged { stand, dismissed, lapsed } = judged(&advisories, &around, context)?;
    let advisories = advised(stand, &advisories, &around, context)?;
    let policy = &project.manifest().policy;
    let today = context.settings.now.to_zoned(TimeZone::UTC).date();
    let exceptions = &project.manifest().licence_exceptions;
    let licences = policy.allowed_licences.as_ref();
    let dedupes = match request.looks_for(FindingGroup::Duplicates) {
        true => dedupes(project, &lockfile, &duplicates, context)?,
        false => BTreeMap::new(),
    };
    let upkeep = match request.looks_for(FindingGroup::Upkeep) {
        true => upkeep(project, &lockfile, &documents, context)?,
        false => Vec::new(),
    };
    let mut report = AuditReport {
        judges_licences: licences.is_some(),
        unlicensed: licences
            .map(|allowed| unlicensed(&lockfile, &documents, allowed, exceptions, today))
            .unwrap_or_default(),
        quiet: policy
            .quiet_after_days
            .map(|days| quiet(&lockfile, &documents, days, context.settings.now))
            .unwrap_or_default(),
        advisories,
        dismissed,
        lapsed,
        unread,
        project: project.here().name().clone(),
        is_workspace: project.is_workspace(),
        dedupes,
        packages: lockfile.chosen.len(),
        outdated,
        notices,
        duplicates,
        unknown,
        alarms,
        upkeep,
        ways: Origins::of(&lockfile, places_of_needs(project)),
        remedies: BTreeMap::new(),
    };
    report.retain(|finding| finding.kind().group().is_none_or(|group| request.looks_for(group)));
    report.remedies = remedies(&report, project, around.anew);
    Ok(report)
}

/// What becomes of the advisories that affect something.
#[derive(Default)]
struct Judged {
    stand: Vec<Threat>,
    dismissed: Vec<Dismissed>,
    lapsed: Vec<Dismissed>,
}

/// Sorts advisories by what the project and others say of them.
fn judged(advisories: &Advisories, around: &Around<'_>, context: &Context<'_>) -> Result<Judged, FlowError> {
    let statements = statements_of(around.project)?;
    let today = context.settings.now.to_zoned(TimeZone::UTC).date();
    let name = around.project.top.name();
    let mut judged = Judged::default();
    for threat in threats(around.lockfile, around.documents, advisories) {
        let Some(locked) = around.lockfile.chosen.at(&threat.package, &threat.version) else { continue };
        match dismissing(&threat, (name, locked, around.documents.get(&threat.package)), &statements, today) {
            Dismissing::Stands => judged.stand.push(threat),
            Dismissing::Dismissed(dismissed) => judged.dismissed.push(dismissed),
            Dismissing::Lapsed(lapsed) => {
                judged.lapsed.push(lapsed);
                judged.stand.push(threat);
            }
        }
    }
    Ok(judged)
}

/// Says where each project writes that it needs a package.
fn places_of_needs(project: &LoadedProject) -> BTreeMap<(PackageName, PackageName), Spot> {
    let mut places = BTreeMap::new();
    for file in project.projects() {
        for (package, need) in file.manifest.needs.values().flatten() {
            // Of several purposes the one that is written first.
            let spot = spot_of(file, &need.span);
            let place = places.entry((file.name().clone(), package.clone())).or_insert_with(|| spot.clone());
            *place = spot.min(place.clone());
        }
    }
    places
}

/// Says of newer releases which would be chosen if nothing were kept: who asks today may be gone then, and who does not may
/// keep one out.
fn resolved(
    outdated: &mut [Outdated],
    lockfile: &Lockfile,
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<Option<Resolution>, FlowError> {
    let rules = rules_of(project, None, None, context.settings);
    let problem = Problem { requirements: project.requirements(), rules, ..Problem::default() };
    let anew = fresh(&problem, project, sources, context.observer)?;
    for one in outdated.iter_mut() {
        let (package, locked) = (&one.package, &one.locked);
        let chosen = anew.iter().flat_map(|anew| anew.chosen.all(package));
        let numbering = &lockfile.chosen[package].numbering;
        // Where several versions are locked, each moves along its own line; what is locked on another is not its own.
        let is_own = |version: &Version| !one.several || numbering.is_same_line(version, locked);
        let newer = chosen.map(|choice| &choice.release.version).filter(|version| *version > locked && is_own(version));
        let version = newer.max().cloned();
        one.kept_out = anew.is_some() && one.accepted.is_some() && version.is_none();
        one.accepted = version;
    }
    Ok(anew)
}
