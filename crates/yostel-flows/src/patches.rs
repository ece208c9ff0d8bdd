//! The patches that a manifest names, and what they make of locked packages.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_documents::{
    Alteration, Artifact, ContentDigest, Declared, LockedPackage, Lockfile, PackageName, Patch, TreeDigest,
};
use yostel_files::Folder;
use yostel_store::{Cache, PlannedAlteration, PlannedPackage, StagedTree};

use crate::error::{FlowError, NotAltered, PatchProblem};
use crate::install::bring_in;
use crate::observer::{Event, Observer};
use crate::project::LoadedProject;

/// Longest patch that is read, in bytes.
pub(crate) const MOST_PATCH: u64 = 16 << 20;

/// The patches that a manifest names, by package.
#[derive(Debug, Clone, Default)]
pub struct Patches(BTreeMap<PackageName, PatchFile>);

#[derive(Debug, Clone)]
struct PatchFile {
    path: PathBuf,
    text: String,
}

impl LoadedProject {
    /// Reads the patches that the manifest names.
    ///
    /// # Errors
    /// `Patch` when one is not there or cannot be read.
    pub fn patches(&self) -> Result<Patches, FlowError> {
        let mut patches = BTreeMap::new();
        if self.top.manifest.alter.is_empty() {
            return Ok(Patches(patches));
        }
        let root = Folder::open(&self.root)?;
        for (package, change) in &self.top.manifest.alter {
            let path = self.root.join(&change.patch);
            let text = root.read_text(&change.patch, MOST_PATCH).map_err(|error| FlowError::Patch {
                package: package.clone(),
                path: path.clone(),
                text: String::new(),
                problem: PatchProblem::Unreadable(error.cause),
            })?;
            patches.insert(package.clone(), PatchFile { path, text });
        }
        Ok(Patches(patches))
    }

    /// Returns all that the manifest declares.
    ///
    /// # Errors
    /// As [`Self::patches`].
    pub fn declared(&self) -> Result<Declared, FlowError> {
        Ok(self.declared_with(&self.patches()?))
    }

    pub(crate) fn declared_with(&self, patches: &Patches) -> Declared {
        Declared {
            wishes: self.requirements(),
            platforms: self.top.manifest.project.platforms.clone(),
            shared_roles: self.top.manifest.policy.share_roles.clone(),
            coexist: self.top.manifest.policy.coexist.clone(),
            overrides: self.overrides(),
            elsewhere: self.elsewhere.clone(),
            live: self.live(),
            alterations: patches.0.keys().filter_map(|name| Some((name.clone(), patches.digest(name)?))).collect(),
        }
    }
}

impl Patches {
    fn digest(&self, package: &PackageName) -> Option<ContentDigest> {
        self.0.get(package).map(|file| ContentDigest::of(file.text.as_bytes()))
    }

    /// Lists patches of packages that are not locked.
    pub(crate) fn unused(&self, lockfile: &Lockfile) -> BTreeSet<PackageName> {
        self.0.keys().filter(|package| !lockfile.chosen.contains_key(package)).cloned().collect()
    }

    fn problem(&self, package: &PackageName, problem: PatchProblem) -> FlowError {
        let (path, text) = self.0.get(package).map(|file| (file.path.clone(), file.text.clone())).unwrap_or_default();
        FlowError::Patch { package: package.clone(), path, text, problem }
    }

    /// Reads the patch of a package.
    pub(crate) fn patch(&self, package: &PackageName) -> Result<Patch, FlowError> {
        let text = self.0.get(package).map_or("", |file| &file.text);
        Patch::parse(text).map_err(|error| self.problem(package, PatchProblem::Syntax(error)))
    }

    /// Returns the local changes to make to a locked package, when it is locked with some.
    pub(crate) fn planned(
        &self,
        package: &PackageName,
        tree: Option<TreeDigest>,
    ) -> Result<Option<PlannedAlteration>, FlowError> {
        tree.map(|tree| Ok(PlannedAlteration { patch: self.patch(package)?, tree })).transpose()
    }
}

/// Says in a new lockfile what each patch makes of its package. What the lockfile before says of the same release and the
/// same patch is taken over; else the archives are brought in and changed.
pub(crate) fn complete(
    lockfile: &mut Lockfile,
    before: Option<&Lockfile>,
    patches: &Patches,
    project: &LoadedProject,
    cache: &Cache,
    observer: &dyn Observer,
) -> Result<(), FlowError> {
    let mut open = Vec::new();
    for package in patches.0.keys() {
        if lockfile.chosen.all(package).len() > 1 {
            return Err(FlowError::NotAltered { package: package.clone(), why: NotAltered::Several });
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
    let _in_use = cache.use_with_others(|| observer.notice(Event::WaitForPrune))?;
    bring_in(project, lockfile, &packages.iter().collect::<Vec<_>>(), cache, false, observer)?;
    let mut staged = Vec::new();
    for package in open {
        let (Some(locked), Some(digest)) = (lockfile.chosen.get_mut(&package), patches.digest(&package)) else {
            continue;
        };
        let patch = patches.patch(&package)?;
        let mut trees = Vec::new();
        for artifact in &locked.artifacts {
            let made = make(&package, artifact, &patch, None, patches, cache)?;
            trees.push(made.tree());
            staged.push(made);
        }
        locked.altered = Some(Alteration { patch: digest, trees });
    }
    Ok(cache.commit(Vec::new(), staged)?)
}

/// Makes the tree of a package with local changes, aside.
pub(crate) fn make(
    package: &PackageName,
    artifact: &Artifact,
    patch: &Patch,
    expected: Option<TreeDigest>,
    patches: &Patches,
    cache: &Cache,
) -> Result<StagedTree, FlowError> {
    cache
        .stage_altered(artifact.tree, patch, expected)
        .map_err(|error| patches.problem(package, PatchProblem::NotMade { platform: artifact.platform.clone(), error }))
}
