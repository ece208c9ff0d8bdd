//! The patches that a manifest names.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_documents::{ContentDigest, Declared, Lockfile, PackageName, Patch, TreeDigest};
use yostel_files::Folder;
use yostel_store::PlannedAlteration;

use crate::error::{ChangeError, FlowError, PatchProblem};
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
            let text = root.read_text(&change.patch, MOST_PATCH).map_err(|error| ChangeError::Patch {
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
            requirements: self.requirements(),
            platforms: self.top.manifest.project.platforms.clone(),
            shared_roles: self.top.manifest.policy.share_roles.clone(),
            coexist: self.top.manifest.policy.coexist.clone(),
            overrides: self.overrides(),
            elsewhere: self.elsewhere.clone(),
            local: self.local(),
            alterations: patches.0.keys().filter_map(|name| Some((name.clone(), patches.digest(name)?))).collect(),
        }
    }
}

impl Patches {
    pub(crate) fn digest(&self, package: &PackageName) -> Option<ContentDigest> {
        self.0.get(package).map(|file| ContentDigest::of(file.text.as_bytes()))
    }

    /// Lists the packages that have one.
    pub(crate) fn packages(&self) -> impl Iterator<Item = &PackageName> {
        self.0.keys()
    }

    /// Lists patches of packages that are not locked.
    pub(crate) fn unused(&self, lockfile: &Lockfile) -> BTreeSet<PackageName> {
        self.0.keys().filter(|package| !lockfile.chosen.contains_key(package)).cloned().collect()
    }

    pub(crate) fn problem(&self, package: &PackageName, problem: PatchProblem) -> ChangeError {
        let (path, text) = self.0.get(package).map(|file| (file.path.clone(), file.text.clone())).unwrap_or_default();
        ChangeError::Patch { package: package.clone(), path, text, problem }
    }

    /// Reads the patch of a package.
    pub(crate) fn patch(&self, package: &PackageName) -> Result<Patch, ChangeError> {
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
