//! A project's `.yostel` as it is: whether it is as planned, and what differs.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yostel_documents::{PackageName, Sha256};
use yostel_files::{Disk, FileError, Folder, Hold, Kind, lock};

use super::inventory::Inventory;
use super::links;
use super::plan::{InstallPlan, PlannedPackage};
use crate::cache::{Cache, MOST_RECORD, ProjectRecord, read_listing};
use crate::install::STATE_FOLDER;
use crate::stamp::stamp;
use crate::verify::{TreeDifference, compare_tree};
use yostel_files::for_each_in_parallel;

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
    pub(super) placing: Placing,
    disk: Disk,
}

/// What differs from the plan: in this package, or in what belongs to none.
pub type Differing = (Option<PackageName>, Vec<TreeDifference>);

/// A project that is held: no other process changes what is installed in it meanwhile.
#[derive(Debug)]
#[must_use = "the project is held until this is dropped"]
pub struct HeldProject {
    pub(super) project: Project,
    pub(super) state: Folder,
    pub(super) _guard: File,
}

/// Tells version control what of a folder is not for it: here, everything.
const IGNORED: &str = ".gitignore";

impl HeldProject {
    /// Returns the project that is held.
    pub fn project(&self) -> &Project {
        &self.project
    }
}

impl Project {
    /// Looks at the project in this folder. Nothing is made or held.
    ///
    /// # Errors
    /// When the folder is not there.
    pub fn at(root: &Path) -> Result<Self, FileError> {
        Self::at_on(Disk::default(), root)
    }

    /// Like [`Self::at`], on a watched disk.
    ///
    /// # Errors
    /// When the folder is not there.
    pub fn at_on(disk: Disk, root: &Path) -> Result<Self, FileError> {
        let root = root.canonicalize().map_err(FileError::when("open the project in", root))?;
        Ok(Self { root, placing: Placing::default(), disk })
    }

    /// Returns the same project, with packages coming into it in another way.
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
        let text = self.inventory_text()?;
        let record = cache.project_record(&self.root)?;
        (record.inventory == text_digest(&text) && record.placing == self.placing).then_some(record)
    }

    /// Holds the project; calls `waiting` again and again while another process holds it, which tells whether to
    /// go on.
    ///
    /// # Errors
    /// When `.yostel` cannot be made, written or locked.
    pub fn hold(self, waiting: impl FnMut() -> bool) -> Result<HeldProject, FileError> {
        let state = self.root_folder()?.make_folders(STATE_FOLDER)?;
        let guard = state.open_guard("guard")?;
        lock(&guard, Hold::Alone, &state.path_of("guard"), waiting)?;
        // Whoever wants it otherwise changes or empties the file; it is made once.
        if !state.exists(IGNORED) {
            state.write_atomically(IGNORED, b"*\n")?;
        }
        Ok(HeldProject { project: self, state, _guard: guard })
    }

    /// Opens the project's folder. Nothing below `.yostel` and `altered` is reached through a link from there.
    pub(super) fn root_folder(&self) -> Result<Folder, FileError> {
        Folder::open_on(&self.disk, &self.root)
    }

    /// Opens the folder with everything installed; nothing when there is none.
    pub(super) fn state_if_there(&self) -> Result<Option<Folder>, FileError> {
        match self.root_folder()?.folder(STATE_FOLDER) {
            Err(error) if error.is_not_found() => Ok(None),
            state => state.map(Some),
        }
    }

    /// Returns the folder with everything installed, for messages and other programs.
    pub fn state(&self) -> PathBuf {
        self.root.join(STATE_FOLDER)
    }

    /// Tells whether anything was ever installed here.
    pub fn has_packages(&self) -> bool {
        self.state_if_there().is_ok_and(|state| state.is_some_and(|state| state.has("packages", Kind::Folder)))
    }

    /// Reads a file of an installed package as it is there.
    ///
    /// # Errors
    /// When it is not there or cannot be read.
    pub fn read_installed(
        &self,
        package: &PlannedPackage,
        cache: &Cache,
        path: &str,
        kind: yostel_documents::EntryKind,
    ) -> Result<yostel_documents::TreeFile, FileError> {
        let place = self.state().join("packages").join(package.folder());
        let not_there = || FileError::unfit("read", place, "there is no such package");
        let state = self.state_if_there()?;
        let folder = state.and_then(|state| content_of(self, &state, package, cache)).ok_or_else(not_there)?;
        crate::changes::read_file(&folder, path, kind)
    }

    fn inventory_text(&self) -> Option<String> {
        self.state_if_there().ok()??.read_text("inventory.json", MOST_RECORD).ok()
    }

    /// Tells whether the project already is as planned, opening no package's file: inventory and links are read, and
    /// every installed file is looked at for size, time and inode as recorded when it was installed.
    pub fn is_current(&self, plan: &InstallPlan, cache: &Cache) -> bool {
        let inventory = plan.inventory();
        let text = inventory.write();
        let Ok(Some(state)) = self.state_if_there() else { return false };
        if state.read_text("inventory.json", MOST_RECORD).ok().as_deref() != Some(text.as_str()) {
            return false;
        }
        let Some(record) = cache.project_record(&self.root) else { return false };
        record.inventory == text_digest(&text)
            && record.placing == self.placing
            && links::are_current(&state, &inventory.links)
            && plan.packages.iter().count() == record.stamps.len()
            && for_each_in_parallel(&plan.packages.values().collect::<Vec<_>>(), |package| {
                let recorded = record.stamps.get(&format!("packages/{}", package.folder()));
                self.is_open(&state, package) || {
                    let content = content_of(self, &state, package, cache);
                    content.is_some_and(|folder| stamp(&folder).is_ok_and(|now| recorded == Some(&now)))
                }
            })
            .into_iter()
            .all(|same| same)
    }

    /// Makes the next install read the files of these packages, in the project and in the cache, before it trusts them.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn distrust(&self, packages: &[&PlannedPackage], cache: &Cache) -> Result<(), FileError> {
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

    /// Compares the installed files with what is planned; by package, and last what belongs to none. Calls `progress`
    /// after each package, which tells whether to go on.
    ///
    /// # Errors
    /// When a file cannot be read, or `progress` said no.
    pub fn verify(
        &self,
        plan: &InstallPlan,
        cache: &Cache,
        trust: Trust,
        progress: impl Fn() -> bool + Sync,
    ) -> Result<Vec<Differing>, FileError> {
        let Some(state) = self.state_if_there()? else {
            let all = plan.packages.keys().map(|name| (Some(name.clone()), vec![missing_whole()]));
            return Ok(all.collect());
        };
        let packages: Vec<&PlannedPackage> = plan.packages.values().collect();
        let recorded = match trust {
            Trust::Nothing => BTreeMap::new(),
            Trust::Stamps => cache.project_record(&self.root).map(|record| record.stamps).unwrap_or_default(),
        };
        let compared = for_each_in_parallel(&packages, |package| {
            let label = Some(package.name.clone());
            let folder = content_of(self, &state, package, cache);
            if let Some(recorded) = recorded.get(&format!("packages/{}", package.folder()))
                && folder.as_ref().is_some_and(|folder| stamp(folder).is_ok_and(|now| now == *recorded))
            {
                progress();
                return Ok((label, Vec::new()));
            }
            let there = read_listing(&state, &listing_path(package), package.tree());
            let differences = match there.or_else(|_| cache.listing(package.tree())) {
                Ok(listing) => compare_tree(folder.as_ref(), &listing),
                // Without any listing the digest still tells whether all is well, if not what differs.
                Err(_) => Ok(vec![missing_whole()]),
            };
            if !progress() {
                return Err(FileError::stop("read", state.path_of(package.folder())));
            }
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
        for folder in package_folders(&state)?.difference(&planned) {
            others.push(TreeDifference::Extra(folder.clone()));
        }
        let mut found = links::found(&state)?;
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

    /// Returns the inventory as it is there.
    pub fn inventory(&self) -> Option<Inventory> {
        Inventory::parse(&self.inventory_text()?)
    }
}

fn missing_whole() -> TreeDifference {
    TreeDifference::Missing("(the whole package)".into())
}

/// Returns where a package's listing is below `.yostel`.
pub(super) fn listing_path(package: &PlannedPackage) -> String {
    format!("listings/{}", package.folder())
}

/// Lists package folders on disk as paths below `.yostel`.
fn package_folders(state: &Folder) -> Result<BTreeSet<String>, FileError> {
    let mut folders = BTreeSet::new();
    let mut open = vec!["packages".to_owned()];
    while let Some(at) = open.pop() {
        for entry in state.entries_of(&at)? {
            let below = format!("{at}/{}", entry.text());
            let versions = match entry.kind {
                // A level of names.
                Kind::Folder if below.ends_with('_') => {
                    open.push(below);
                    continue;
                }
                Kind::Folder => state.entries_of(&below)?,
                _ => Vec::new(),
            };
            if versions.is_empty() {
                folders.insert(below);
            } else {
                folders.extend(versions.iter().map(|version| format!("{below}/{}", version.text())));
            }
        }
    }
    Ok(folders)
}

/// Opens where a package's files are: its folder, the open copy or the tree of the cache that it is a link to. A link to
/// anywhere else is not a package.
pub(super) fn content_of(project: &Project, state: &Folder, package: &PlannedPackage, cache: &Cache) -> Option<Folder> {
    let place = format!("packages/{}", package.folder());
    // What nearly all are, without asking first.
    if let Ok(folder) = state.folder_to_list(&place) {
        return Some(folder);
    }
    match state.meta(&place).ok()?.kind {
        Kind::Folder => state.folder(&place).ok(),
        Kind::Link if project.is_open(state, package) => project.open_copy(&package.name).ok(),
        Kind::Link => {
            let tree = cache.tree(package.tree()).ok()?;
            let there = tree.path().canonicalize().ok()?;
            (state.read_link(&place).ok()? == there.as_os_str()).then_some(tree)
        }
        Kind::File | Kind::Other => None,
    }
}

pub(super) fn text_digest(text: &str) -> String {
    yostel_documents::to_hex(&Sha256::of(text.as_bytes()))
}
