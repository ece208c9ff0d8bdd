//! Install exactly what the lockfile says, or nothing.

use std::collections::BTreeSet;

use yostel_documents::{PackageName, Purpose, Seal};
use yostel_findings::Notice;
use yostel_store::{Cache, Installed, Placing, PlannedPackage, Project};
use yostel_versions::Version;

use crate::content::altered::make_altered;
use crate::content::bring::{Brought, bring_in};
use crate::content::fetch::note_use;
use crate::content::trust::{Content, check_contents, said_of};
use crate::context::Context;
use crate::error::FlowError;
use crate::observer::{Event, waiting};
use crate::plan::compose::Selection;
use crate::plan::installed::{as_installed, selection_of};
use crate::project::LoadedProject;
use crate::project::prepared::known_purposes;
use crate::project::read::lockfile_header;

/// How to install.
#[derive(Debug, Clone, Default)]
pub struct InstallRequest {
    /// Ask no source: the cache must hold everything.
    pub offline: bool,
    /// Another platform than this machine's.
    pub platform: Option<String>,
    /// How packages come into the project.
    pub placing: Placing,
    /// Only what is reached for one of these purposes; everything when there is none.
    pub purposes: BTreeSet<Purpose>,
    /// Only what these projects of the workspace reach; everything when there is none.
    pub projects: BTreeSet<PackageName>,
    /// Trust the record of the last install: when the lockfile is still the same, no installed file is looked at.
    pub quick: bool,
}

impl InstallRequest {
    /// Asks for an install in the way in which it was done before.
    pub(crate) fn again(placing: Placing, selection: Selection) -> Self {
        let Selection { platform, purposes, projects } = selection;
        Self { platform: Some(platform), placing, purposes, projects, ..Self::default() }
    }
}

/// What an install came to.
#[derive(Debug)]
pub struct InstallReport {
    /// How many packages are installed now.
    pub packages: usize,
    /// Archives that were fetched, with their size in bytes.
    pub fetched: Vec<(PackageName, Version, u64)>,
    /// Trees of the cache that had been changed and were unpacked again.
    pub put_back: Vec<(PackageName, Version)>,
    /// Packages that are open for changes, and stay as they are.
    pub open: Vec<PackageName>,
    /// What was done in the project; none when there was nothing to do.
    pub done: Option<Installed>,
    /// The digest of everything installed.
    pub digest: Seal,
    /// What is said of installed releases since they were published, where anything was installed.
    pub notices: Vec<Notice>,
}

/// Installs the project as its lockfile says, in the way in which it was installed before.
///
/// # Errors
/// As [`install`].
pub fn install_again(project: &LoadedProject, context: &Context<'_>) -> Result<InstallReport, FlowError> {
    let (placing, selection) = as_installed(&project.target()?, &context.cache, context.settings);
    install(project, &InstallRequest::again(placing, selection), context)
}

/// Installs the project as its lockfile says.
///
/// # Errors
/// `NoLockfile`, `Stale`, `NotInCache`, `Admit`, `Source` and whatever writing refuses. Everything is fetched and checked
/// before anything is changed, so a failure leaves project and cache as they were.
pub fn install(
    project: &LoadedProject,
    request: &InstallRequest,
    context: &Context<'_>,
) -> Result<InstallReport, FlowError> {
    let target = project.target()?.placing(request.placing);
    let platform = request.platform.as_deref().unwrap_or(&context.settings.platform);
    let (purposes, projects) = (request.purposes.clone(), request.projects.clone());
    let selection = Selection { platform: platform.to_owned(), purposes, projects };
    if request.quick
        && let Some(report) = recorded(project, &target, &context.cache, &selection)
    {
        return Ok(report);
    }
    let prepared = project.prepare()?;
    let lockfile = &prepared.lockfile;
    known_purposes(project, lockfile, &request.purposes)?;
    request.projects.iter().try_for_each(|name| project.project(name).map(drop))?;
    let plan = prepared.plan(&selection)?;
    let mut report = InstallReport {
        packages: plan.packages.len(),
        fetched: Vec::new(),
        put_back: Vec::new(),
        open: target.open_packages(&plan),
        done: None,
        notices: Vec::new(),
        digest: plan.inventory().digest(),
    };
    if target.is_current(&plan, &context.cache) {
        return Ok(report);
    }
    let packages: Vec<&PlannedPackage> = plan.packages.values().collect();
    let in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
    // A tree with local changes that is there needs no other.
    let is_there = |package: &PlannedPackage| package.altered.is_some() && context.cache.is_tree_sound(package.tree());
    let needed: Vec<&PlannedPackage> = packages.iter().copied().filter(|package| !is_there(package)).collect();
    Brought { fetched: report.fetched, put_back: report.put_back } =
        bring_in(project, lockfile, &needed, request.offline, context)?;
    let contents: Vec<Content<'_>> = needed
        .iter()
        .filter(|package| package.altered.is_none())
        .filter_map(|package| {
            let locked = lockfile.chosen.at(&package.name, &package.version)?;
            Some((&package.name, locked, &package.artifact))
        })
        .collect();
    check_contents(lockfile, &prepared.declared, &contents, &context.cache)?;
    make_altered(&needed, &prepared.patches, &context.cache)?;
    let held = target.hold(waiting(context.observer, Event::Wait))?;
    // While we waited, another process may have done it all.
    if !held.project().is_current(&plan, &context.cache) {
        context.observer.notice(Event::Begin("installing", packages.len() as u64));
        report.done = Some(held.apply(&plan, &context.cache, || context.observer.notice(Event::Advance(1)))?);
        context.observer.notice(Event::End);
    }
    for package in packages {
        let Some(locked) = lockfile.chosen.at(&package.name, &package.version) else { continue };
        let from = locked.from.to_string();
        let release = [package.name.as_str(), package.version.as_str(), &from];
        note_use(&context.cache, release, &package.artifact, &project.target, context.settings);
    }
    drop(in_use);
    if report.done.is_some() && !request.offline {
        report.notices = said_of(project, lockfile, context)?;
        report.notices.retain(|one| plan.packages.values().any(|p| p.name == one.package && p.version == one.version));
    }
    Ok(report)
}

/// Tells that there is nothing to do as far as the record says; nothing when it does not.
fn recorded(project: &LoadedProject, target: &Project, cache: &Cache, selection: &Selection) -> Option<InstallReport> {
    let header = lockfile_header(project)?;
    let declared = project.declared().ok()?;
    let record = target.recorded(cache)?;
    let fits = header.declarations == declared.seal();
    let digest = Seal::parse(&record.digest).ok()?;
    let same = selection_of(&record) == *selection;
    (fits && same && record.lock == header.seal.to_string()).then(|| InstallReport {
        packages: record.stamps.len(),
        fetched: Vec::new(),
        put_back: Vec::new(),
        open: Vec::new(),
        done: None,
        notices: Vec::new(),
        digest,
    })
}
