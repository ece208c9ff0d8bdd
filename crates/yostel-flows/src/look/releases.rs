//! Which releases of a package there are, and what speaks for and against each.

use std::collections::BTreeSet;
use std::sync::Arc;

use yostel_documents::{Declared, ListedRelease, Lockfile, Origin, PackageName, Release, Requirement};
use yostel_resolve::{Barred, Problem};
use yostel_versions::Version;

use crate::content::ask::ask;
use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::project::read::load_lockfile;
use crate::search::drive::unknown_package;
use crate::search::rules::{Keep, rules_of};

/// All releases of a package.
#[derive(Debug)]
pub struct ReleasesReport {
    /// The package.
    pub package: PackageName,
    /// Where they are.
    pub from: Origin,
    /// The releases, the newest first.
    pub releases: Vec<ReleaseSeen>,
}

/// A release as the project sees it.
#[derive(Debug)]
pub struct ReleaseSeen {
    /// The release.
    pub release: Arc<Release>,
    /// Whether it is locked.
    pub locked: bool,
    /// Why it would not be chosen anew, whatever is asked; nothing when it might be.
    pub barred: Option<Barred>,
    /// Needs that do not accept it: those of the projects, and those of what is locked.
    pub not_accepted: Vec<Requirement>,
    /// Platforms to be served for which it offers nothing.
    pub unserved: Vec<String>,
}

/// Lists the releases of a package, whether it is locked or not.
///
/// # Errors
/// `UnknownPackage` when no source has it, and whatever reading the lockfile and asking the sources refuse.
pub fn releases(
    project: &LoadedProject,
    package: &PackageName,
    context: &Context<'_>,
) -> Result<ReleasesReport, FlowError> {
    let lockfile = load_lockfile(project)?;
    let declared = project.declared_with(&project.patches()?);
    let sources = project.sources_and_elsewhere(lockfile.as_ref(), &Keep::Locked, context)?;
    let found = ask(&BTreeSet::from([package.clone()]), &sources, context.observer)?.remove(package).flatten();
    let Some((from, document)) = found else {
        return Err(unknown_package(package, None, project, &sources).into());
    };
    let rules = rules_of(project, None, None, context.settings);
    let problem = Problem { requirements: declared.requirements.clone(), rules, ..Problem::default() };
    let needs = needs_of(package, &declared, lockfile.as_ref());
    let locked: BTreeSet<&Version> = match &lockfile {
        Some(lockfile) => lockfile.chosen.all(package).iter().map(|locked| &locked.version).collect(),
        None => BTreeSet::new(),
    };
    let accepts = |need: &Requirement, release: &ListedRelease| {
        need.accept.bind(&document.numbering).is_ok_and(|constraint| constraint.accepts(&release.version))
    };
    let seen = |release: &ListedRelease| ReleaseSeen {
        locked: locked.contains(&release.version),
        barred: problem.rules.bar(package, release),
        not_accepted: needs.iter().filter(|need| !accepts(need, release)).cloned().collect(),
        unserved: problem.rules.platforms.iter().filter(|platform| !release.serves(platform)).cloned().collect(),
        release: release.whole().clone(),
    };
    let releases = document.releases.iter().rev().map(seen).collect();
    Ok(ReleasesReport { package: package.clone(), from, releases })
}

/// Lists who needs the package: projects as they say it now, and releases as they are locked.
fn needs_of(package: &PackageName, declared: &Declared, lockfile: Option<&Lockfile>) -> Vec<Requirement> {
    let mut needs = declared.bound_requirements();
    needs.retain(|need| need.package == *package);
    let locked = lockfile.map_or(&[][..], |lockfile| lockfile.chosen.all(package));
    for asked in locked.iter().flat_map(|locked| &locked.asked_by).filter(|asked| !asked.who.is_project()) {
        let (asker, accept, purpose) = (asked.who.clone(), asked.accept.clone(), asked.purpose.clone());
        needs.push(Requirement { asker, package: package.clone(), accept, purpose });
    }
    needs.sort();
    needs.dedup();
    needs
}
