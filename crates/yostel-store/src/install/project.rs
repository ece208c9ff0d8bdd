//! A project's `.yostel` as it is: whether it is as planned, and what differs.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yostel_core::{PackageName, Sha256};

use super::apply::HeldProject;
use super::inventory::Inventory;
use super::links;
use super::plan::{InstallPlan, PlannedPackage};
use crate::cache::{Cache, ProjectRecord, read_listing};
use crate::disk::Disk;
use crate::error::StoreError;
use crate::install::STATE_FOLDER;
use crate::locking::{Hold, lock};
use crate::parallel::for_each_in_parallel;
use crate::stamp::stamp;
use crate::verify::{TreeDifference, compare_tree};

/// How packages come into a project.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Placing {
    /// Each file is a hard link to the cache's, where that can be; else a copy.
    #[default]
    LinkFiles,
    /// Each package is one symbolic link to the cache's tree: at once, and of no use without that cache.
    LinkTrees,
    /// Each file is a file of its own (or a clone, where the file system has such): nothing leads out of the project.
    Copy,
}

/// What a verification takes for granted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trust {
    /// Nothing: every byte is read.
    Nothing,
    /// That a file whose size, times and inode are as recorded is as it was installed.
    Stamps,
}

/// A project's folder and what is installed in it.
#[derive(Debug, Clone)]
pub struct Project {
    pub(super) root: PathBuf,
    pub(super) state: PathBuf,
    pub(super) placing: Placing,
    disk: Disk,
}

/// What differs from the plan: in this package, or in what belongs to none.
pub type Differing = (Option<PackageName>, Vec<TreeDifference>);

impl Project {
    /// Looks at the project in this folder. Nothing is made or held.
    ///
    /// # Errors
    /// When the folder is not there.
    pub fn at(root: &Path) -> Result<Self, StoreError> {
        Self::at_on(Disk::default(), root)
    }

    /// The same, with this way to the file system.
    ///
    /// # Errors
    /// When the folder is not there.
    pub fn at_on(disk: Disk, root: &Path) -> Result<Self, StoreError> {
        let root = fs::canonicalize(root).map_err(StoreError::when("open the project in", root))?;
        Ok(Self { state: root.join(STATE_FOLDER), root, placing: Placing::default(), disk })
    }

    /// The same, with packages coming into it in another way.
    #[must_use]
    pub fn placing(self, placing: Placing) -> Self {
        Self { placing, ..self }
    }

    /// Returns the record of what was installed here last.
    pub fn record(&self, cache: &Cache) -> Option<ProjectRecord> {
        cache.project_record(&self.root)
    }

    /// Returns the record of what was installed here last, when the inventory is still the one of then and packages came
    /// in the same way. Nothing else is looked at: whether files were changed since, only [`Self::is_current`] tells.
    pub fn recorded(&self, cache: &Cache) -> Option<ProjectRecord> {
        let text = fs::read_to_string(self.state.join("inventory.json")).ok()?;
        let record = cache.project_record(&self.root)?;
        (record.inventory == text_digest(&text) && record.placing == self.placing).then_some(record)
    }

    /// Holds the project; calls `waiting` once when another process holds it.
    ///
    /// # Errors
    /// When `.yostel` cannot be made or locked.
    pub fn hold(self, waiting: impl FnOnce()) -> Result<HeldProject, StoreError> {
        // Through a link, everything below would be written somewhere else.
        if self.state.symlink_metadata().is_ok_and(|metadata| !metadata.is_dir()) {
            let cause = io::Error::new(io::ErrorKind::InvalidData, "it is a link or a file, where a folder should be");
            return Err(StoreError { doing: "install into", path: self.state, cause });
        }
        self.disk.make_folders(&self.state)?;
        let path = self.state.join("guard");
        let guard = match File::open(&path) {
            Ok(guard) => guard,
            Err(_) => {
                File::options().append(true).create(true).open(&path).map_err(StoreError::when("write", &path))?
            }
        };
        lock(&guard, Hold::Alone, &path, waiting)?;
        Ok(HeldProject { project: self, _guard: guard })
    }

    /// Returns the folder with everything installed.
    pub fn state(&self) -> &Path {
        &self.state
    }

    /// Tells whether the project already is as planned, opening no package's file: inventory and links are read, and
    /// every installed file is looked at for size, time and inode as recorded when it was installed.
    pub fn is_current(&self, plan: &InstallPlan, cache: &Cache) -> bool {
        let inventory = plan.inventory();
        let text = inventory.write();
        if fs::read_to_string(self.state.join("inventory.json")).ok().as_deref() != Some(text.as_str()) {
            return false;
        }
        let Some(record) = cache.project_record(&self.root) else { return false };
        record.inventory == text_digest(&text)
            && record.placing == self.placing
            && links::are_current(&self.state, &inventory.links)
            && self.package_folders().is_ok_and(|folders| folders.iter().eq(record.stamps.keys()))
            && for_each_in_parallel(&plan.packages.values().collect::<Vec<_>>(), |package| {
                let recorded = record.stamps.get(&format!("packages/{}", package.folder()));
                self.is_open(package) || {
                    let now = stamp(&self.state.join("packages").join(package.folder()));
                    now.is_ok_and(|now| recorded == Some(&now))
                }
            })
            .into_iter()
            .all(|same| same)
    }

    /// Makes the next install read the files of these packages, in the project and in the cache, before it trusts them.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn distrust(&self, packages: &[&PlannedPackage], cache: &Cache) -> Result<(), StoreError> {
        for package in packages {
            cache.distrust(package.tree());
            cache.distrust(package.artifact.tree);
        }
        if let Some(mut record) = cache.project_record(&self.root) {
            packages.iter().for_each(|package| drop(record.stamps.remove(&format!("packages/{}", package.folder()))));
            cache.write_project_record(&record)?;
        }
        Ok(())
    }

    /// Compares the installed files with what is planned; by package, and last what belongs to none.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn verify(
        &self,
        plan: &InstallPlan,
        cache: &Cache,
        trust: Trust,
        progress: impl Fn() + Sync,
    ) -> Result<Vec<Differing>, StoreError> {
        let packages: Vec<&PlannedPackage> = plan.packages.values().collect();
        let recorded = match trust {
            Trust::Nothing => BTreeMap::new(),
            Trust::Stamps => cache.project_record(&self.root).map(|record| record.stamps).unwrap_or_default(),
        };
        let compared = for_each_in_parallel(&packages, |package| {
            let folder = self.state.join("packages").join(package.folder());
            let label = Some(package.name.clone());
            if let Some(recorded) = recorded.get(&format!("packages/{}", package.folder()))
                && stamp(&folder).is_ok_and(|now| now == *recorded)
            {
                progress();
                return Ok((label, Vec::new()));
            }
            let listing =
                read_listing(&self.listing_path(package), package.tree()).or_else(|_| cache.listing(package.tree()));
            let differences = match listing {
                Ok(listing) if self.is_open(package) => compare_tree(&self.copy_of(&package.name), &listing),
                Ok(listing) => compare_tree(&content_of(&folder, package, cache), &listing),
                // Without any listing the digest still tells whether all is well, if not what differs.
                Err(_) => Ok(vec![TreeDifference::Missing("(the whole package)".into())]),
            };
            progress();
            differences.map(|differences| (label, differences))
        });
        let mut report = Vec::new();
        for outcome in compared {
            let (label, differences) = outcome?;
            if !differences.is_empty() {
                report.push((label, differences));
            }
        }
        let mut others = Vec::new();
        let planned: BTreeSet<String> = plan.packages.values().map(|p| format!("packages/{}", p.folder())).collect();
        for folder in self.package_folders().unwrap_or_default().difference(&planned) {
            others.push(TreeDifference::Extra(folder.clone()));
        }
        let mut found = BTreeMap::new();
        links::walk(&self.state.join("for"), "for", &mut found).ok();
        let wanted = plan.inventory().links;
        for (path, target) in &wanted {
            match found.remove(path) {
                None => others.push(TreeDifference::Missing(path.clone())),
                Some(seen) if seen == *target => {}
                Some(_) => others.push(TreeDifference::Changed { path: path.clone(), how: "target" }),
            }
        }
        others.extend(found.into_keys().map(TreeDifference::Extra));
        if !others.is_empty() {
            report.push((None, others));
        }
        Ok(report)
    }

    /// Returns the inventory as it lies there.
    pub fn inventory(&self) -> Option<Inventory> {
        Inventory::parse(&fs::read_to_string(self.state.join("inventory.json")).ok()?)
    }

    pub(super) fn listing_path(&self, package: &PlannedPackage) -> PathBuf {
        self.state.join("listings").join(package.folder())
    }

    /// Lists package folders on disk as paths below `.yostel`.
    fn package_folders(&self) -> io::Result<BTreeSet<String>> {
        let mut folders = BTreeSet::new();
        let packages = self.state.join("packages");
        if packages.symlink_metadata().is_err() {
            return Ok(folders);
        }
        for name in fs::read_dir(packages)? {
            let name = name?;
            let mut empty = true;
            for version in fs::read_dir(name.path())? {
                empty = false;
                let (name, version) = (name.file_name(), version?.file_name());
                folders.insert(format!("packages/{}/{}", name.to_string_lossy(), version.to_string_lossy()));
            }
            if empty {
                folders.insert(format!("packages/{}", name.file_name().to_string_lossy()));
            }
        }
        Ok(folders)
    }
}

/// Returns where a package's files are: in its folder, or in the tree of the cache that it is a link to. A link to anywhere
/// else is no package.
pub(super) fn content_of(folder: &Path, package: &PlannedPackage, cache: &Cache) -> PathBuf {
    match (fs::read_link(folder), fs::canonicalize(cache.tree_files(package.tree()))) {
        (Ok(target), Ok(tree)) if target == tree => tree,
        _ => folder.to_owned(),
    }
}

pub(super) fn text_digest(text: &str) -> String {
    yostel_core::to_hex(&Sha256::of(text.as_bytes()))
}
