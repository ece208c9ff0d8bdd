//! What to think of what is locked.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Dispute, Disputed, PackageName};
use yostel_findings::{Duplicate, Notice, Outdated, duplicates, notices, outdated};
use yostel_resolve::{Problem, Resolution};
use yostel_sources::SourceSet;

use crate::content::trust::{disputes_with, told_by_sources};
use crate::context::Context;
use crate::error::FlowError;
use crate::look::advisories::{Advised, Around, UnreadAdvisory, advised, published};
use crate::look::dedupe::{Dedupe, dedupes};
use crate::look::upkeep::{Upkeep, upkeep};
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;
use crate::search::fresh::fresh;
use crate::search::rules::{Keep, rules_of};

/// What an audit found.
#[derive(Debug)]
#[must_use = "findings must be told"]
pub struct AuditReport {
    /// The project that is worked on.
    pub project: PackageName,
    /// How many packages are locked.
    pub packages: usize,
    /// Packages for which something newer exists: direct ones first.
    pub outdated: Vec<Outdated>,
    /// Things that are there twice.
    pub duplicates: Vec<Duplicate>,
    /// What it would take to have one version of each package that is locked at several.
    pub dedupes: BTreeMap<PackageName, Dedupe>,
    /// Packages that no source knows any more.
    pub unknown: Vec<PackageName>,
    /// Forced versions, swaps and deviations that somebody should look after.
    pub upkeep: Vec<Upkeep>,
    /// What is said of locked releases since they were published.
    pub notices: Vec<Notice>,
    /// What the lockfile says of releases, and their sources say otherwise.
    pub alarms: Vec<Dispute>,
    /// Advisories that affect what is locked, the worst first.
    pub advisories: Vec<Advised>,
    /// Advisories that could not be read.
    pub unread: Vec<UnreadAdvisory>,
}

impl AuditReport {
    /// Tells whether there is anything to act on.
    pub fn has_findings(&self) -> bool {
        !(self.outdated.is_empty()
            && self.duplicates.is_empty()
            && self.unknown.is_empty()
            && self.upkeep.is_empty()
            && self.notices.is_empty()
            && self.alarms.is_empty()
            && self.advisories.is_empty()
            && self.unread.is_empty())
    }
}

/// Audits what is locked against what the sources have today.
///
/// # Errors
/// As loading a lockfile, and asking the sources.
pub fn audit(project: &LoadedProject, context: &Context<'_>) -> Result<AuditReport, FlowError> {
    let Prepared { lockfile, declared, stale, .. } = project.prepare_to_look(context.observer)?;
    // Of what does not come from a source, none can tell anything.
    let from_source = lockfile.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    let names: BTreeSet<PackageName> = from_source.map(|(name, _)| name.clone()).collect();
    let documents = told_by_sources(project, &names, context.observer)?;
    let unknown = names.into_iter().filter(|name| !documents.contains_key(name)).collect();
    let mut alarms = disputes_with(&lockfile, &declared, &documents);
    // Told as unknown already.
    alarms.retain(|alarm| alarm.about != Disputed::Package);
    // What releases need is told as the manifest rewrites it, and that may be otherwise by now.
    alarms.retain(|alarm| !stale || !matches!(alarm.about, Disputed::Needs { .. }));
    let duplicates = duplicates(&lockfile, &documents);
    let mut outdated = outdated(&lockfile, &documents);
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Nothing, context)?;
    let (published, unread) = published(lockfile.chosen.iter(), &sources, context.observer)?;
    let anew = resolved(&mut outdated, project, &sources, context)?;
    let (lock, anew) = (&lockfile, anew.as_ref());
    let around = Around { project, lockfile: lock, documents: &documents, sources: &sources, anew };
    let advisories = advised(&published, &around, context)?;
    Ok(AuditReport {
        advisories,
        unread,
        project: project.here().name().clone(),
        dedupes: dedupes(project, &lockfile, &duplicates, context)?,
        packages: lockfile.chosen.len(),
        outdated,
        notices: notices(&lockfile, &documents),
        duplicates,
        unknown,
        alarms,
        upkeep: upkeep(project, &lockfile, context)?,
    })
}

/// Says of newer releases which would be chosen if nothing were kept: who asks today may be gone then, and who does not may
/// keep one out.
fn resolved(
    outdated: &mut [Outdated],
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<Option<Resolution>, FlowError> {
    if outdated.is_empty() {
        return Ok(None);
    }
    let rules = rules_of(project, None, None, context.settings);
    let problem = Problem { requirements: project.requirements(), rules, ..Problem::default() };
    let anew = fresh(&problem, project, sources, context.observer)?;
    for one in outdated.iter_mut() {
        let chosen = anew.as_ref().and_then(|anew| anew.chosen.get(&one.package));
        let version = chosen.map(|choice| choice.release.version.clone()).filter(|version| *version > one.locked);
        one.kept_out = anew.is_some() && one.accepted.is_some() && version.is_none();
        one.accepted = version;
    }
    Ok(anew)
}
