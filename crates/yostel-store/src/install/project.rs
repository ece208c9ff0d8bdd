//! A project's `.yostel`: is it current, and how it becomes so.
//!
//! Order of writes: packages one by one (each made aside and renamed to a name that says its content) → links, in one
//! step → inventory → removal of what is no longer needed → the record in the cache. Until the links switch, everything
//! that was installed before is there and used; from then on, the new is.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yostel_core::{PackageName, Sha256};

use super::inventory::Inventory;
use super::links;
use super::plan::{InstallPlan, PlannedPackage};
use crate::atomic::write_atomically;
use crate::cache::{Cache, ProjectRecord, read_listing};
use crate::error::StoreError;
use crate::install::STATE_FOLDER;
use crate::listing::{EntryKind, Listing};
use crate::locking::{Hold, lock};
use crate::parallel::for_each_in_parallel;
use crate::stamp::stamp;
use crate::unpack::fix_time;
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
    root: PathBuf,
    state: PathBuf,
    placing: Placing,
}

/// What differs from the plan: in this package, or in what belongs to none.
pub type Differing = (Option<PackageName>, Vec<TreeDifference>);

/// A project that is held: no other process changes what is installed in it meanwhile.
#[derive(Debug)]
#[must_use = "the project is held until this is dropped"]
pub struct HeldProject {
    project: Project,
    _guard: File,
}

/// What an install did.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Installed {
    /// Packages that were put there.
    pub placed: Vec<String>,
    /// Packages that had been changed on disk and were put back.
    pub replaced: Vec<ReplacedPackage>,
    /// Package folders that were removed.
    pub removed: usize,
    /// Files that could not be linked to the cache and were copied.
    pub copied: u64,
}

/// A package that was found changed and put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplacedPackage {
    /// Its name and version.
    pub package: String,
    /// What differed.
    pub differences: Vec<TreeDifference>,
}

impl Project {
    /// Looks at the project in this folder. Nothing is made or held.
    ///
    /// # Errors
    /// When the folder is not there.
    pub fn at(root: &Path) -> Result<Self, StoreError> {
        let root = fs::canonicalize(root).map_err(StoreError::when("open the project in", root))?;
        Ok(Self { state: root.join(STATE_FOLDER), root, placing: Placing::default() })
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
        fs::create_dir_all(&self.state).map_err(StoreError::when("make the folder", &self.state))?;
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
            && for_each_in_parallel(&record.stamps.iter().collect::<Vec<_>>(), |(folder, recorded)| {
                stamp(&self.state.join(folder)).is_ok_and(|now| now == **recorded)
            })
            .into_iter()
            .all(|same| same)
    }

    /// Makes the next install read the files of these packages, in the project and in the cache, before it trusts them.
    ///
    /// # Errors
    /// When the cache cannot be written.
    pub fn distrust(&self, packages: &[&PlannedPackage], cache: &Cache) -> Result<(), StoreError> {
        packages.iter().for_each(|package| cache.distrust(package.artifact.tree));
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
            let listing = read_listing(&self.listing_path(package), package.artifact.tree)
                .or_else(|_| cache.listing(package.artifact.tree));
            let differences = match listing {
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

    fn listing_path(&self, package: &PlannedPackage) -> PathBuf {
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

impl HeldProject {
    /// Returns the project that is held.
    pub fn project(&self) -> &Project {
        &self.project
    }

    /// Makes the project as planned. Every tree must be in the cache and sound.
    ///
    /// # Errors
    /// When something cannot be written; what was installed before is then still there and used.
    pub fn apply(
        &self,
        plan: &InstallPlan,
        cache: &Cache,
        progress: impl Fn() + Sync,
    ) -> Result<Installed, StoreError> {
        let aside = self.project.state.join("aside");
        // The project is held, so what lies aside was left by a process that was killed.
        remove_tree(&aside)?;
        fs::create_dir_all(&aside).map_err(StoreError::when("make the folder", &aside))?;
        let record = cache.project_record(&self.project.root);
        let old = Old {
            // Of what came from another cache, nothing is known; links to files are what it may be.
            another_way: record.as_ref().map(|record| record.placing).unwrap_or_default() != self.project.placing,
            stamps: record.map(|record| record.stamps).unwrap_or_default(),
        };
        let packages: Vec<&PlannedPackage> = plan.packages.values().collect();
        let outcomes = for_each_in_parallel(&packages, |package| {
            let outcome = self.place(package, &aside, cache, &old);
            progress();
            outcome
        });
        let mut installed = Installed::default();
        let mut stamps = BTreeMap::new();
        for (package, outcome) in packages.iter().zip(outcomes) {
            let placed = outcome?;
            let label = format!("{} {}", package.name, package.version);
            match placed.state {
                Before::Same => {}
                Before::Absent => installed.placed.push(label),
                Before::Changed(differences) => {
                    installed.replaced.push(ReplacedPackage { package: label, differences })
                }
            }
            installed.copied += placed.copied;
            stamps.insert(format!("packages/{}", package.folder()), placed.stamp);
        }
        let inventory = plan.inventory();
        links::switch(&self.project.state, &aside, &inventory.links)?;
        let text = inventory.write();
        write_atomically(&self.project.state.join("inventory.json"), text.as_bytes())?;
        installed.removed = self.remove_unneeded(plan)?;
        remove_tree(&aside)?;
        let trees = plan.packages.values().map(|package| package.artifact.tree.to_string()).collect();
        let record = ProjectRecord {
            project: self.project.root.clone(),
            inventory: text_digest(&text),
            lock: plan.lock.to_string(),
            platform: plan.platform.clone(),
            digest: inventory.digest().to_string(),
            placing: self.project.placing,
            stamps,
            trees,
        };
        cache.write_project_record(&record)?;
        Ok(installed)
    }

    fn place(&self, package: &PlannedPackage, aside: &Path, cache: &Cache, old: &Old) -> Result<Placed, StoreError> {
        let folder = self.project.state.join("packages").join(package.folder());
        let listing = cache.listing(package.artifact.tree)?;
        let key = format!("packages/{}", package.folder());
        let mut state = Before::Absent;
        if folder.symlink_metadata().is_ok() && !old.another_way {
            let now = stamp(&folder).map_err(StoreError::when("read the folder", &folder))?;
            let differences = if old.stamps.get(&key) == Some(&now) {
                Vec::new()
            } else {
                compare_tree(&content_of(&folder, package, cache), &listing)?
            };
            if differences.is_empty() {
                self.place_listing(package, cache)?;
                return Ok(Placed { state: Before::Same, stamp: now, copied: 0 });
            }
            state = Before::Changed(differences);
        }
        let made = aside.join(package.folder().replace('/', "@"));
        let (copied, stamp_there) = match self.project.placing {
            Placing::LinkTrees => {
                let files = cache.tree_files(package.artifact.tree);
                let files = fs::canonicalize(&files).map_err(StoreError::when("read the folder", &files))?;
                symlink(&files, &made).map_err(StoreError::when("make the link", &made))?;
                (0, cache.tree_stamp(package.artifact.tree))
            }
            placing => self.place_files(package, &listing, &made, cache, placing)?,
        };
        let parent = folder.parent().expect("a package lies in a folder");
        fs::create_dir_all(parent).map_err(StoreError::when("make the folder", parent))?;
        if folder.symlink_metadata().is_ok() {
            let grave = aside.join(format!("{}@old", package.folder().replace('/', "@")));
            fs::rename(&folder, &grave).map_err(StoreError::when("replace", &folder))?;
        }
        fs::rename(&made, &folder).map_err(StoreError::when("write", &folder))?;
        self.place_listing(package, cache)?;
        let stamp = match stamp_there {
            Some(stamp) => stamp,
            None => stamp(&folder).map_err(StoreError::when("read the folder", &folder))?,
        };
        Ok(Placed { state, stamp, copied })
    }

    /// Puts a package's files into a new folder. Returns how many were copied, and the folder's stamp when it is known
    /// without a look: what is linked file by file looks like the cache's tree.
    fn place_files(
        &self,
        package: &PlannedPackage,
        listing: &Listing,
        made: &Path,
        cache: &Cache,
        placing: Placing,
    ) -> Result<(u64, Option<String>), StoreError> {
        fs::create_dir_all(made).map_err(StoreError::when("make the folder", made))?;
        let (mut copied, mut symlinks) = (0, false);
        let mut last_folder = String::new();
        for (path, entry) in &listing.entries {
            if let Some((parent, _)) = path.rsplit_once('/')
                && parent != last_folder
            {
                let on_disk = made.join(parent);
                fs::create_dir_all(&on_disk).map_err(StoreError::when("make the folder", on_disk))?;
                parent.clone_into(&mut last_folder);
            }
            let (from, to) = (cache.tree_files(package.artifact.tree).join(path), made.join(path));
            if entry.kind == EntryKind::Link {
                let target = fs::read_link(&from).map_err(StoreError::when("read the link", &from))?;
                symlink(target, &to).map_err(StoreError::when("make the link", &to))?;
                symlinks = true;
            } else if placing == Placing::Copy {
                copy(&from, &to)?;
                copied += 1;
            } else if link_or_copy(&from, &to)? {
                copied += 1;
            }
        }
        let same = copied == 0 && !symlinks;
        Ok((copied, if same { cache.tree_stamp(package.artifact.tree) } else { None }))
    }

    fn place_listing(&self, package: &PlannedPackage, cache: &Cache) -> Result<(), StoreError> {
        let path = self.project.listing_path(package);
        if read_listing(&path, package.artifact.tree).is_ok() {
            return Ok(());
        }
        let folder = path.parent().expect("a listing lies in a folder");
        fs::create_dir_all(folder).map_err(StoreError::when("make the folder", folder))?;
        let text = cache.listing(package.artifact.tree)?.write();
        fs::write(&path, text).map_err(StoreError::when("write", path))
    }

    fn remove_unneeded(&self, plan: &InstallPlan) -> Result<usize, StoreError> {
        let planned: BTreeSet<String> = plan.packages.values().map(PlannedPackage::folder).collect();
        let mut removed = 0;
        for root in ["packages", "listings"] {
            let root_path = self.project.state.join(root);
            let Ok(names) = fs::read_dir(&root_path) else { continue };
            for name in names.flatten() {
                for version in fs::read_dir(name.path()).into_iter().flatten().flatten() {
                    let key =
                        format!("{}/{}", name.file_name().to_string_lossy(), version.file_name().to_string_lossy());
                    if !planned.contains(&key) {
                        remove_tree(&version.path())?;
                        removed += usize::from(root == "packages");
                    }
                }
                // Only an empty folder goes.
                fs::remove_dir(name.path()).ok();
            }
        }
        Ok(removed)
    }
}

/// What was there before.
struct Old {
    stamps: BTreeMap<String, String>,
    /// Whether packages had come in another way: then all are placed anew.
    another_way: bool,
}

struct Placed {
    state: Before,
    stamp: String,
    copied: u64,
}

enum Before {
    Same,
    Absent,
    Changed(Vec<TreeDifference>),
}

/// Returns where a package's files are: in its folder, or in the tree of the cache that it is a link to. A link to anywhere
/// else is no package.
fn content_of(folder: &Path, package: &PlannedPackage, cache: &Cache) -> PathBuf {
    match (fs::read_link(folder), fs::canonicalize(cache.tree_files(package.artifact.tree))) {
        (Ok(target), Ok(tree)) if target == tree => tree,
        _ => folder.to_owned(),
    }
}

/// Links a file to the cache's copy; where links cannot be, copies it. Returns whether it copied.
fn link_or_copy(from: &Path, to: &Path) -> Result<bool, StoreError> {
    match fs::hard_link(from, to) {
        Ok(()) => Ok(false),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Err(StoreError { doing: "link", path: from.to_owned(), cause: error })
        }
        // Another file system, a file system without links, or too many links to one file.
        Err(_) => copy(from, to).map(|()| true),
    }
}

/// Copies a file; the system clones it where the file system can.
fn copy(from: &Path, to: &Path) -> Result<(), StoreError> {
    fs::copy(from, to).map_err(StoreError::when("write", to))?;
    let file = File::open(to).map_err(StoreError::when("write", to))?;
    fix_time(&file).map_err(StoreError::when("write", to))
}

fn remove_tree(path: &Path) -> Result<(), StoreError> {
    let removed = match path.symlink_metadata() {
        Ok(metadata) if metadata.is_dir() => fs::remove_dir_all(path),
        Ok(_) => fs::remove_file(path),
        Err(_) => Ok(()),
    };
    removed.map_err(StoreError::when("remove", path))
}

fn text_digest(text: &str) -> String {
    yostel_core::to_hex(&Sha256::of(text.as_bytes()))
}
