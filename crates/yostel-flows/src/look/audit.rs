//! What to think of what is locked.

use std::collections::{BTreeMap, BTreeSet};

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use yostel_documents::{
    Declared, Dispute, Disputed, LockedPackage, Lockfile, PackageDocument, PackageName, Purpose, Reached, artifact_for,
};
use yostel_findings::{
    AuditReport, FindingGroup, Listings, Origins, Outdated, Spot, duplicates, notices, outdated, quiet, unlicensed,
};
use yostel_resolve::{Problem, Resolution};
use yostel_sources::SourceSet;
use yostel_versions::Version;

use crate::content::trust::{disputes_with, from_sources, told_by};
use crate::context::Context;
use crate::error::FlowError;
use crate::look::concerns::concerns;
use crate::look::dedupe::dedupes;
use crate::look::gather::{Sought, gather};
use crate::look::remedies::remedies;
use crate::look::statements::{Sorted, sorted};
use crate::look::trials::try_all;
use crate::look::upkeep::upkeep;
use crate::look::way_out::{Around, advised};
use crate::project::prepared::{Prepared, known_purposes};
use crate::project::{LoadedProject, spot_of};
use crate::search::fresh::fresh;
use crate::search::rules::{Keep, rules_of};

/// What to look for.
#[derive(Debug, Clone, Default)]
pub struct AuditRequest {
    /// These; everything when there are none. What lockfile and sources tell differently is told in any case.
    pub groups: BTreeSet<FindingGroup>,
    /// Which of the packages that are behind are told.
    pub behind: Behind,
    /// Whether it is told what newer releases say that is new in them.
    pub with_news: bool,
}

/// Which of the packages that are behind are told, and in which order.
#[derive(Debug, Clone, Default)]
pub struct Behind {
    /// Only those that a project asks for itself.
    pub direct: bool,
    /// Only those whose newest release is on another compatible line.
    pub crossing: bool,
    /// Only those whose locked release was published at least so many days ago.
    pub older_than_days: Option<u32>,
    /// Only those that are needed for this purpose.
    pub purpose: Option<Purpose>,
    /// In which order.
    pub order: BehindOrder,
}

/// In which order packages that are behind are told; those that a project asks for itself come first in any case.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum BehindOrder {
    /// By name.
    #[default]
    Name,
    /// The oldest locked release first.
    Age,
    /// That with the most newer releases first.
    Releases,
}

impl Behind {
    /// Tells whether anything is left out.
    pub fn is_narrowed(&self) -> bool {
        self.direct || self.crossing || self.older_than_days.is_some() || self.purpose.is_some()
    }

    /// Leaves out what is not to be told, and sorts the rest.
    fn apply(&self, outdated: &mut Vec<Outdated>, reached: &Reached, now: Timestamp) {
        let is_for = |one: &Outdated| match &self.purpose {
            Some(purpose) => reached.purposes(&one.package, &one.locked).is_some_and(|all| all.contains(purpose)),
            None => true,
        };
        let is_old = |one: &Outdated| match self.older_than_days {
            Some(days) => one.published.is_some_and(|then| {
                now.duration_since(then) >= SignedDuration::from_hours(i64::from(days).saturating_mul(24))
            }),
            None => true,
        };
        outdated.retain(|one| {
            (one.direct || !self.direct) && (one.crosses_line || !self.crossing) && is_old(one) && is_for(one)
        });
        match self.order {
            BehindOrder::Name => {}
            BehindOrder::Age => outdated.sort_by_key(|one| (!one.direct, one.published)),
            BehindOrder::Releases => {
                outdated.sort_by_key(|one| (!one.direct, std::cmp::Reverse(one.releases_behind)));
            }
        }
    }
}

impl AuditRequest {
    /// Leaves only those that are to be told, with what newer releases say where that was asked for.
    fn narrow(
        &self,
        outdated: &mut Vec<Outdated>,
        reached: &Reached,
        documents: &BTreeMap<PackageName, PackageDocument>,
        now: Timestamp,
    ) {
        self.behind.apply(outdated, reached, now);
        for one in outdated.iter_mut().filter(|_| self.with_news) {
            documents.get(&one.package).into_iter().for_each(|document| one.read_news(document));
        }
    }

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
    let names = from_sources(&lockfile);
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Nothing, context)?;
    // What is resolved below asks for the same; but what the manifest takes from elsewhere by now, no source would tell there.
    let asked = if project.elsewhere.is_empty() { &sources } else { &project.sources()? };
    let documents = told_by(asked, &names, context.observer)?;
    let unknown = names.into_iter().filter(|name| !documents.contains_key(name)).collect();
    let alarms = alarms((&lockfile, stale), &declared, &documents);
    let looks = request.looks_for(FindingGroup::Duplicates);
    let listings = if looks { listings_of(&lockfile, context) } else { Listings::new() };
    let duplicates = duplicates(&lockfile, &documents, &listings);
    known_purposes(project, &lockfile, request.behind.purpose.as_ref())?;
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
    let reached = lockfile.reached(&declared.bound_requirements(), &declared, None);
    request.narrow(&mut outdated, &reached, &documents, context.settings.now);
    if request.looks_for(FindingGroup::Outdated) {
        try_all(&mut outdated, &lockfile, project, &sources, context)?;
    }
    let (lock, anew) = (&lockfile, anew.as_ref());
    let around = Around { project, lockfile: lock, documents: &documents, sources: &sources, anew };
    let Sorted { stand, dismissed, lapsed } = match request.looks_for(FindingGroup::Advisories) {
        true => sorted(&advisories, (lock, &documents), project, context)?,
        false => Sorted::default(),
    };
    let advisories = advised(stand, &advisories, &around, context)?;
    let policy = &project.manifest().policy;
    let today = context.settings.now.to_zoned(TimeZone::UTC).date();
    let exceptions = &project.manifest().licence_exceptions;
    let licences = policy.allowed_licences.as_ref();
    let dedupes = if looks { dedupes(project, &lockfile, &duplicates, context)? } else { BTreeMap::new() };
    let (upkeep, concerns) = match request.looks_for(FindingGroup::Upkeep) {
        true => (
            upkeep(project, &lockfile, &documents, context)?,
            concerns(project, &lockfile, &documents, &sources, context)?,
        ),
        false => Default::default(),
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
        concerns,
        ways: Origins::of(&lockfile, places_of_needs(project)),
        remedies: BTreeMap::new(),
    };
    report.retain(|finding| finding.kind().group().is_none_or(|group| request.looks_for(group)));
    report.remedies = remedies(&report, project, around.anew);
    Ok(report)
}

/// Lists what the lockfile and the sources tell differently.
fn alarms(
    (lockfile, stale): (&Lockfile, bool),
    declared: &Declared,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Vec<Dispute> {
    let mut alarms = disputes_with(lockfile, declared, documents);
    // Told as unknown already.
    alarms.retain(|alarm| alarm.about != Disputed::Package);
    // What releases need is told as the manifest rewrites it, and that may be otherwise by now.
    alarms.retain(|alarm| !stale || !matches!(alarm.about, Disputed::Needs { .. }));
    alarms
}

/// Reads what the cache has of the files of what is locked, on this platform.
fn listings_of(lockfile: &Lockfile, context: &Context<'_>) -> Listings {
    let listing = |(package, locked): (&PackageName, &LockedPackage)| {
        let artifact = artifact_for(&locked.artifacts, &context.settings.platform)?;
        let listing = context.cache.listing(artifact.tree).ok()?;
        Some(((package.clone(), locked.version.clone()), listing))
    };
    lockfile.chosen.iter().filter_map(listing).collect()
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
