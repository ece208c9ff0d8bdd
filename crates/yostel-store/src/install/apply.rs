//! Making a project's `.yostel` as planned.
//!
//! Order of writes: packages one by one (each made aside and renamed to a name that says its content) → links, in one
//! step → inventory → removal of what is no longer needed → the record in the cache. Until the links switch, everything
//! that was installed before is there and used; from then on, the new is.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::path::Path;

use super::links;
use super::plan::{InstallPlan, PlannedPackage};
use super::project::{Placing, Project, content_of, text_digest};
use crate::cache::{Cache, ProjectRecord, read_listing_text};
use crate::disk::Disk;
use crate::error::StoreError;
use crate::parallel::for_each_in_parallel;
use crate::stamp::stamp;
use crate::verify::{TreeDifference, compare_tree};
use yostel_core::{EntryKind, Listing};

/// A project that is held: no other process changes what is installed in it meanwhile.
#[derive(Debug)]
#[must_use = "the project is held until this is dropped"]
pub struct HeldProject {
    pub(super) project: Project,
    pub(super) _guard: File,
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
        let disk = cache.disk();
        let aside = self.project.state.join("aside");
        // The project is held, so what lies aside was left by a process that was killed.
        disk.remove(&aside)?;
        disk.make_folders(&aside)?;
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
        links::switch(disk, &self.project.state, &aside, &inventory.links)?;
        let text = inventory.write();
        if installed.copied > 0 {
            // Their record vouches for them by size and time, which a machine that loses power may keep without the content.
            disk.sync_all(&self.project.state)?;
        }
        disk.write_atomically(&self.project.state.join("inventory.json"), text.as_bytes())?;
        installed.removed = self.remove_unneeded(plan, disk)?;
        disk.remove(&aside)?;
        let used = plan.packages.values().flat_map(|package| [package.tree(), package.artifact.tree]);
        let trees = used.map(|tree| tree.to_string()).collect();
        let record = ProjectRecord {
            project: self.project.root.clone(),
            inventory: text_digest(&text),
            lock: plan.lock.to_string(),
            platform: plan.platform.clone(),
            purposes: plan.purposes.clone(),
            projects: plan.projects.clone(),
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
        let key = format!("packages/{}", package.folder());
        let mut state = Before::Absent;
        // What is being changed stays as it is.
        if self.project.is_open(package) {
            self.place_listing(package, cache)?;
            return Ok(Placed { state: Before::Same, stamp: OPEN.to_owned(), copied: 0 });
        }
        // A link that leads nowhere, like that to a copy which somebody removed, is nothing.
        if folder.is_dir() && !old.another_way {
            let now = stamp(&folder).map_err(StoreError::when("read the folder", &folder))?;
            let differences = if old.stamps.get(&key) == Some(&now) {
                Vec::new()
            } else {
                compare_tree(&content_of(&folder, package, cache), &cache.listing(package.tree())?)?
            };
            if differences.is_empty() {
                self.place_listing(package, cache)?;
                return Ok(Placed { state: Before::Same, stamp: now, copied: 0 });
            }
            state = Before::Changed(differences);
        }
        let disk = cache.disk();
        let made = aside.join(package.folder().replace('/', "@"));
        let (copied, stamp_there) = match self.project.placing {
            Placing::LinkTrees => {
                let files = cache.tree_files(package.tree());
                let files = fs::canonicalize(&files).map_err(StoreError::when("read the folder", &files))?;
                disk.symlink(&files, &made)?;
                (0, cache.tree_stamp(package.tree()))
            }
            placing => self.place_files(package, &cache.listing(package.tree())?, &made, cache, placing)?,
        };
        let parent = folder.parent().expect("a package lies in a folder");
        disk.make_folders(parent)?;
        if folder.symlink_metadata().is_ok() {
            let grave = aside.join(format!("{}@old", package.folder().replace('/', "@")));
            disk.rename(&folder, &grave).map_err(StoreError::when("replace", &folder))?;
        }
        disk.rename(&made, &folder).map_err(StoreError::when("write", &folder))?;
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
        let disk = cache.disk();
        disk.make_folders(made)?;
        let (mut copied, mut symlinks) = (0, false);
        let mut last_folder = String::new();
        for (path, entry) in &listing.entries {
            if let Some((parent, _)) = path.rsplit_once('/')
                && parent != last_folder
            {
                disk.make_folders(&made.join(parent))?;
                parent.clone_into(&mut last_folder);
            }
            let (from, to) = (cache.tree_files(package.tree()).join(path), made.join(path));
            if entry.kind == EntryKind::Link {
                let target = fs::read_link(&from).map_err(StoreError::when("read the link", &from))?;
                disk.symlink(target, &to)?;
                symlinks = true;
            } else if placing == Placing::Copy {
                disk.copy(&from, &to)?;
                copied += 1;
            } else if link_or_copy(disk, &from, &to)? {
                copied += 1;
            }
        }
        let same = copied == 0 && !symlinks;
        Ok((copied, if same { cache.tree_stamp(package.tree()) } else { None }))
    }

    fn place_listing(&self, package: &PlannedPackage, cache: &Cache) -> Result<(), StoreError> {
        let path = self.project.listing_path(package);
        if read_listing_text(&path, package.tree()).is_ok() {
            return Ok(());
        }
        let folder = path.parent().expect("a listing lies in a folder");
        cache.disk().make_folders(folder)?;
        let text = read_listing_text(&cache.tree_listing_path(package.tree()), package.tree())?;
        cache.disk().write_loosely(&path, &text)
    }

    fn remove_unneeded(&self, plan: &InstallPlan, disk: &Disk) -> Result<usize, StoreError> {
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
                        disk.remove(&version.path())?;
                        removed += usize::from(root == "packages");
                    }
                }
                disk.remove_if_empty(&name.path());
            }
        }
        Ok(removed)
    }
}

/// In place of a stamp, of a package that is open for changes.
const OPEN: &str = "open";

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

/// Links a file to the cache's copy; where links cannot be, copies it. Returns whether it copied.
fn link_or_copy(disk: &Disk, from: &Path, to: &Path) -> Result<bool, StoreError> {
    match disk.hard_link(from, to) {
        Ok(()) => Ok(false),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Err(StoreError { doing: "link", path: from.to_owned(), cause: error })
        }
        // Another file system, a file system without links, or too many links to one file.
        Err(_) => disk.copy(from, to).map(|()| true),
    }
}
