//! The checks that manifests have: which there are, and which of them a change reaches.

use std::collections::BTreeSet;

use yostel_documents::{Check, Declared, Lockfile, NamePattern, PackageName, Purpose, Word};

use crate::error::{FlowError, ProjectError};
use crate::project::LoadedProject;
use crate::using::order::in_order_of_needs;

/// A check, and the project in which it is run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CheckIn {
    /// The project.
    pub project: PackageName,
    /// The check's name.
    pub name: Word,
    /// The check.
    pub check: Check,
}

/// Lists the checks of all projects, or those of these names: projects that others need come first, and in each the checks by
/// name.
///
/// # Errors
/// `NoChecks` when there are none, `NoSuchCheck`, `CheckNowhere`.
pub fn checks_of(project: &LoadedProject, names: &[Word]) -> Result<Vec<CheckIn>, FlowError> {
    let mut order: Vec<&PackageName> = in_order_of_needs(project).into_iter().map(|file| file.name()).collect();
    // A root that needs nothing is not among them, and may have checks.
    if !order.contains(&project.top.name()) {
        order.push(project.top.name());
    }
    let top = &project.top.manifest;
    for (name, check) in &top.checks {
        let covers_none = |pattern: &&NamePattern| !order.iter().any(|project| pattern.covers(project));
        if let Some(pattern) = check.projects.iter().find(covers_none) {
            let (check, pattern) = (name.clone(), pattern.to_string());
            return Err(ProjectError::CheckNowhere { check, pattern }.into());
        }
    }
    let mut checks = Vec::new();
    for name in order {
        let Ok(file) = project.project(name) else { continue };
        let own = file.manifest.checks.iter().filter(|(_, check)| check.projects.is_empty());
        let from_top =
            top.checks.iter().filter(|(_, check)| check.projects.iter().any(|in_these| in_these.covers(name)));
        let mut of_project: Vec<CheckIn> = own
            .chain(from_top)
            .map(|(check, entry)| CheckIn { project: name.clone(), name: check.clone(), check: entry.clone() })
            .collect();
        of_project.sort_by(|one, other| one.name.cmp(&other.name));
        checks.extend(of_project);
    }
    if checks.is_empty() {
        return Err(ProjectError::NoChecks(project.manifest_of(project.here())).into());
    }
    for name in names {
        if !checks.iter().any(|check| check.name == *name) {
            let known: BTreeSet<Word> = checks.into_iter().map(|check| check.name).collect();
            return Err(ProjectError::NoSuchCheck { name: name.clone(), known: known.into_iter().collect() }.into());
        }
    }
    checks.retain(|check| names.is_empty() || names.contains(&check.name));
    Ok(checks)
}

/// Lists the checks of the project that is worked on; those of all projects at the root of a workspace.
///
/// # Errors
/// As [`checks_of`].
pub fn checks_here(project: &LoadedProject, names: &[Word]) -> Result<Vec<CheckIn>, FlowError> {
    let mut checks = checks_of(project, names)?;
    let here = project.here().name();
    if here != project.top.name() {
        checks.retain(|check| check.project == *here);
    }
    if checks.is_empty() {
        return Err(ProjectError::NoChecks(project.manifest_of(project.here())).into());
    }
    Ok(checks)
}

/// Tells whether one of these packages is among what a check finds in its environment.
pub(crate) fn reaches(check: &CheckIn, moved: &BTreeSet<&PackageName>, set: (&Lockfile, &Declared)) -> bool {
    let (lockfile, declared) = set;
    let is_for = |purpose: &Purpose| check.check.purposes.is_empty() || check.check.purposes.contains(purpose);
    let mut requirements = declared.bound_requirements();
    requirements.retain(|need| *need.asker.name() == check.project && is_for(&need.purpose));
    let reached = lockfile.reached(&requirements, declared, None);
    moved.iter().any(|package| reached.has(package))
}
