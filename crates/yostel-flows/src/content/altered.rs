//! What patches make of locked packages, in the cache.

use yostel_documents::{Alteration, Artifact, LockedPackage, Lockfile, PackageName, Patch, TreeDigest};
use yostel_store::{Cache, PlannedPackage, StagedTree};

use crate::content::bring::bring_in;
use crate::context::Context;
use crate::error::{ChangeError, FlowError, NotAltered, PatchProblem};
use crate::observer::{Event, waiting};
use crate::project::LoadedProject;
use crate::project::patches::Patches;

/// Says in a new lockfile what each patch makes of its package. What the lockfile before says of the same release and the
/// same patch is taken over; else the archives are brought in and changed.
pub(crate) fn complete_patches(
    lockfile: &mut Lockfile,
    before: Option<&Lockfile>,
    patches: &Patches,
    project: &LoadedProject,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    let mut open = Vec::new();
    for package in patches.packages() {
        if lockfile.chosen.all(package).len() > 1 {
            return Err(ChangeError::NotAltered { package: package.clone(), why: NotAltered::Several }.into());
        }
        let Some(locked) = lockfile.chosen.get_mut(package) else { continue };
        let was = before.and_then(|before| before.chosen.get(package));
        let same = |was: &&LockedPackage| {
            was.artifacts == locked.artifacts
                && was.altered.as_ref().map(|altered| altered.patch) == patches.digest(package)
        };
        match was.filter(same) {
            Some(was) => locked.altered.clone_from(&was.altered),
            None => open.push(package.clone()),
        }
    }
    if open.is_empty() {
        return Ok(());
    }
    let planned = |package: &PackageName, artifact: &Artifact| PlannedPackage {
        name: package.clone(),
        version: lockfile.chosen[package].version.clone(),
        artifact: artifact.clone(),
        altered: None,
    };
    let packages: Vec<PlannedPackage> = open
        .iter()
        .flat_map(|package| lockfile.chosen[package].artifacts.iter().map(move |artifact| planned(package, artifact)))
        .collect();
    let _in_use = context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?;
    bring_in(project, lockfile, &packages.iter().collect::<Vec<_>>(), false, context)?;
    let mut staged = Vec::new();
    for package in open {
        let (Some(locked), Some(digest)) = (lockfile.chosen.get_mut(&package), patches.digest(&package)) else {
            continue;
        };
        let patch = patches.patch(&package)?;
        let mut trees = Vec::new();
        for artifact in &locked.artifacts {
            let made = stage_patched(&package, artifact, &patch, None, patches, &context.cache)?;
            trees.push(made.tree());
            staged.push(made);
        }
        locked.altered = Some(Alteration { patch: digest, trees });
    }
    Ok(context.cache.commit(Vec::new(), staged)?)
}

/// Makes the tree of a package with local changes, aside.
pub(crate) fn stage_patched(
    package: &PackageName,
    artifact: &Artifact,
    patch: &Patch,
    expected: Option<TreeDigest>,
    patches: &Patches,
    cache: &Cache,
) -> Result<StagedTree, FlowError> {
    let fail = |error| PatchProblem::NotMade { platform: artifact.platform.clone(), error };
    let staged = cache.stage_altered(artifact.tree, patch, expected);
    Ok(staged.map_err(|error| patches.problem(package, fail(error)))?)
}

/// Makes the trees of packages with local changes from those of their releases.
pub(crate) fn make_altered(packages: &[&PlannedPackage], patches: &Patches, cache: &Cache) -> Result<(), FlowError> {
    let mut made = Vec::new();
    for package in packages {
        if let Some(altered) = &package.altered {
            made.push(stage_patched(
                &package.name,
                &package.artifact,
                &altered.patch,
                Some(altered.tree),
                patches,
                cache,
            )?);
        }
    }
    Ok(cache.commit(Vec::new(), made)?)
}
