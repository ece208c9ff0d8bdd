//! Is what is installed what the lockfile says?

use yostel_documents::{FilePatch, PackageName, Seal, TreeFile};
use yostel_store::{Cache, FileChange, PlannedPackage, Project, TreeDifference, Trust};

use crate::context::Context;
use crate::error::{FlowError, InstallError};
use crate::observer::{Event, stepping};
use crate::plan::installed::CurrentInstall;
use crate::project::LoadedProject;
use crate::using::install::{InstallReport, InstallRequest, install};

/// What a verification found.
#[derive(Debug)]
#[must_use = "differences must be told"]
pub struct VerifyReport {
    /// How many packages were read.
    pub packages: usize,
    /// What differs, by package.
    pub differences: Vec<(String, Vec<TreeDifference>)>,
    /// What was changed in files, by package, where what they should hold is at hand.
    pub changes: Vec<(String, FileChange)>,
    /// Packages that are open for changes.
    pub open: Vec<PackageName>,
    /// The packages that differ.
    pub differing: Vec<PackageName>,
    /// The digest that the lockfile's install has; proven when nothing differs.
    pub digest: Seal,
}

/// Compares what is installed with the lockfile, file by file.
///
/// # Errors
/// `NotInstalled`, `NoLockfile`, `Stale`, and whatever reading refuses.
pub fn verify(project: &LoadedProject, trust: Trust, context: &Context<'_>) -> Result<VerifyReport, FlowError> {
    let prepared = project.prepare_to_look(context.observer)?;
    let CurrentInstall { target, plan, .. } = project.installed(prepared, context)?;
    if !plan.packages.is_empty() && !target.has_packages() {
        return Err(InstallError::NotInstalled.into());
    }
    context.observer.notice(Event::Begin("verifying", plan.packages.len() as u64));
    let found = target.verify(&plan, &context.cache, trust, stepping(context.observer))?;
    context.observer.notice(Event::End);
    let label = |name: &Option<PackageName>| match name {
        Some(name) => format!("{name} {}", plan.packages[name].version),
        None => ".yostel".to_owned(),
    };
    let differences = found.iter().map(|(name, differences)| (label(name), differences.clone())).collect();
    let changes =
        found.iter().filter_map(|(name, differences)| Some((plan.packages.get(name.as_ref()?)?, differences)));
    let changes = changes.flat_map(|(package, differences)| {
        let changes = changes_of(package, differences, &target, &context.cache);
        changes.into_iter().map(|change| (label(&Some(package.name.clone())), change))
    });
    let changes = changes.collect();
    let differing = found.into_iter().filter_map(|(name, _)| name).collect();
    let open = target.open_packages(&plan);
    Ok(VerifyReport {
        packages: plan.packages.len(),
        differences,
        changes,
        open,
        differing,
        digest: plan.inventory().digest(),
    })
}

/// Finds out what was changed in a package's files.
fn changes_of(
    package: &PlannedPackage,
    differences: &[TreeDifference],
    target: &Project,
    cache: &Cache,
) -> Vec<FileChange> {
    let changed = |difference: &TreeDifference| matches!(difference, TreeDifference::Changed { how: "content", .. });
    let paths: Vec<&str> = differences.iter().filter(|d| changed(d)).map(TreeDifference::path).collect();
    let Some(right) = cache.right_files(package.tree(), &package.artifact, &paths) else { return Vec::new() };
    let change = |(path, before): (String, TreeFile)| {
        let after = target.read_installed(package, cache, &path, before.kind).ok()?;
        let (before_kind, after_kind) = (Some(before.kind), Some(after.kind));
        let patch = FilePatch::between(&path, Some(&before), Some(&after)).ok().flatten();
        Some(FileChange { path, before: before_kind, after: after_kind, patch })
    };
    right.into_iter().filter_map(change).collect()
}

/// Puts back what a verification found, from the cache or, where that was changed too, from the source.
///
/// # Errors
/// As [`install`].
pub fn put_back(
    project: &LoadedProject,
    report: &VerifyReport,
    context: &Context<'_>,
) -> Result<InstallReport, FlowError> {
    let CurrentInstall { target, placing, selection, plan, .. } = project.installed(project.prepare()?, context)?;
    let differing: Vec<&PlannedPackage> = report.differing.iter().filter_map(|name| plan.packages.get(name)).collect();
    target.distrust(&differing, &context.cache)?;
    install(project, &InstallRequest::again(placing, selection), context)
}
