//! Making a project's `.yostel` as planned.
//!
//! Order of writes: packages one by one (each made aside and renamed to a name that says its content) → links, in one
//! step → inventory → removal of what is no longer needed → the record in the cache. Until the links switch, everything
//! that was installed before is there and used; from then on, the new is.

use std::collections::{BTreeMap, BTreeSet};
use std::io;

use yostel_documents::{EntryKind, Listing};
use yostel_files::{FileError, Folder, Nearby};

use super::inventory::{InstalledPackage, Inventory};
use super::launch::LAUNCH;
use super::links;
use super::plan::{InstallPlan, PlannedPackage};
use super::project::{HeldProject, Placing, content_of, listing_path, text_digest};
use crate::alter::installed_mode;
use crate::cache::{Cache, MOST_RECORD, ProjectRecord, read_listing_text};
use crate::pack::fixed_time;
use crate::stamp::stamp;
use crate::verify::{TreeDifference, compare_tree};
use yostel_files::for_each_in_parallel;

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
    /// Why the cache could not note what was installed: the next install then looks at every file again.
    pub unrecorded: Option<String>,
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
    /// Makes the project as planned. Every tree must be in the cache and sound.
    ///
    /// # Errors
    /// When something cannot be written; what was installed before is then still there and used.
    pub fn apply(&self, plan: &InstallPlan, cache: &Cache, progress: impl Fn() + Sync) -> Result<Installed, FileError> {
        // The project is held, so what is aside was left by a process that was killed; so were packages that it put in
        // place and did not come to write down.
        let unfinished = self.state.read_text(UNFINISHED, MOST_RECORD).ok().and_then(|text| Inventory::parse(&text));
        self.state.remove("aside")?;
        let aside = self.state.make_folder("aside")?;
        let inventory = plan.inventory();
        let text = inventory.write();
        let old: Vec<InstalledPackage> =
            [self.project.inventory(), unfinished].into_iter().flatten().flat_map(|one| one.packages).collect();
        let both = Inventory { packages: [&old[..], &inventory.packages[..]].concat(), ..inventory.clone() };
        self.state.write_atomically(UNFINISHED, both.write().as_bytes())?;
        let record = cache.project_record(&self.project.root);
        let before = Old {
            // Of what came from another cache, nothing is known; links to files are what it may be.
            another_way: record.as_ref().map(|record| record.placing).unwrap_or_default() != self.project.placing,
            stamps: record.map(|record| record.stamps).unwrap_or_default(),
        };
        let packages: Vec<&PlannedPackage> = plan.packages.values().collect();
        let outcomes = for_each_in_parallel(&packages, |package| {
            let outcome = self.place(package, &aside, cache, &before);
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
        links::switch(&self.state, &aside, &inventory.links)?;
        if installed.copied > 0 {
            // Their record vouches for them by size and time, which a machine that loses power may keep without the content.
            self.state.sync_all()?;
        }
        self.state.write_atomically(INVENTORY, text.as_bytes())?;
        installed.removed = self.remove_unneeded(plan, &old)?;
        // They are made again when somebody runs something.
        self.state.remove(LAUNCH)?;
        self.state.remove(UNFINISHED)?;
        self.state.remove("aside")?;
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
        // All is installed; a cache that may only be read is no reason to say otherwise.
        installed.unrecorded =
            cache.write_project_record(&record).err().map(|error| format!("{error}: {}", error.cause));
        Ok(installed)
    }

    fn place(&self, package: &PlannedPackage, aside: &Folder, cache: &Cache, old: &Old) -> Result<Placed, FileError> {
        let place = format!("packages/{}", package.folder());
        let mut state = Before::Absent;
        // What is being changed stays as it is.
        if self.project.is_open(&self.state, package) {
            self.place_listing(package, cache)?;
            return Ok(Placed { state: Before::Same, stamp: OPEN.to_owned(), copied: 0 });
        }
        // A link that leads nowhere, like that to a copy which somebody removed, is nothing.
        if !old.another_way
            && let Some(content) = content_of(&self.project, &self.state, package, cache)
        {
            let now = stamp(&content)?;
            let differences = if old.stamps.get(&place) == Some(&now) {
                Vec::new()
            } else {
                compare_tree(Some(&content), &cache.listing(package.tree())?)?
            };
            if differences.is_empty() {
                self.place_listing(package, cache)?;
                return Ok(Placed { state: Before::Same, stamp: now, copied: 0 });
            }
            state = Before::Changed(differences);
        }
        let made = text_digest(&package.folder());
        let (copied, stamp_there) = match self.project.placing {
            Placing::LinkTrees => {
                let files = cache.tree(package.tree())?;
                let path = files.path().canonicalize().map_err(FileError::when("open the folder", files.path()))?;
                aside.symlink(&path, &made)?;
                (0, cache.tree_stamp(package.tree()))
            }
            placing => {
                let into = aside.make_folder(&made)?;
                self.place_files(package, &cache.listing(package.tree())?, &into, cache, placing)?
            }
        };
        let (parent, _) = place.rsplit_once('/').expect("a package is in a folder");
        self.state.make_folders(parent)?;
        aside.put_in_place(&made, &self.state, &place)?;
        self.place_listing(package, cache)?;
        let stamp = match stamp_there {
            Some(stamp) => stamp,
            None => stamp(
                &content_of(&self.project, &self.state, package, cache)
                    .ok_or_else(|| FileError::unfit("read the folder", self.state.path_of(&place), "it is gone"))?,
            )?,
        };
        Ok(Placed { state, stamp, copied })
    }

    /// Puts a package's files into a new folder. Returns how many were copied, and the folder's stamp when it is known
    /// without a look: what is linked file by file looks like the cache's tree.
    fn place_files(
        &self,
        package: &PlannedPackage,
        listing: &Listing,
        made: &Folder,
        cache: &Cache,
        placing: Placing,
    ) -> Result<(u64, Option<String>), FileError> {
        let (mut from, mut into) = (Nearby::new(cache.tree(package.tree())?), Nearby::new(made.clone()));
        let (mut copied, mut symlinks) = (0, false);
        for (path, entry) in &listing.entries {
            let (there, name) = from.of(path)?;
            let (here, _) = into.made_for(path)?;
            if entry.kind == EntryKind::Link {
                here.symlink(there.read_link(name)?, name)?;
                symlinks = true;
            } else if placing == Placing::Copy || !hard_link(there, here, name)? {
                there.copy(name, here, name, installed_mode(entry.kind))?.set_time(fixed_time())?;
                copied += 1;
            }
        }
        let same = copied == 0 && !symlinks;
        Ok((copied, if same { cache.tree_stamp(package.tree()) } else { None }))
    }

    fn place_listing(&self, package: &PlannedPackage, cache: &Cache) -> Result<(), FileError> {
        let path = listing_path(package);
        if read_listing_text(&self.state, &path, package.tree()).is_ok() {
            return Ok(());
        }
        let (parent, name) = path.rsplit_once('/').expect("a listing is in a folder");
        let folder = self.state.make_folders(parent)?;
        folder.write_loosely(name, &cache.listing_text(package.tree())?)
    }

    /// Removes what earlier installs wrote down and this one does not need; returns how many packages went.
    fn remove_unneeded(&self, plan: &InstallPlan, old: &[InstalledPackage]) -> Result<usize, FileError> {
        let planned: BTreeSet<String> = plan.packages.values().map(PlannedPackage::folder).collect();
        let mut removed = 0;
        for folder in old.iter().filter_map(|package| package.folder.strip_prefix("packages/")) {
            if planned.contains(folder) {
                continue;
            }
            for root in ["packages", "listings"] {
                let place = format!("{root}/{folder}");
                if self.state.exists(&place) {
                    self.state.remove(&place)?;
                    removed += usize::from(root == "packages");
                }
                self.state.remove_empty_above(&place);
            }
        }
        Ok(removed)
    }
}

const INVENTORY: &str = "inventory.json";

/// What a running install may put in place, written down before it does: should it be killed, the next one knows.
const UNFINISHED: &str = "unfinished.json";

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

/// Links a file to the cache's copy; returns whether that was possible.
fn hard_link(there: &Folder, here: &Folder, name: &str) -> Result<bool, FileError> {
    match there.hard_link(name, here, name) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Err(FileError { doing: "link", path: there.path_of(name), cause: error })
        }
        // Another file system, a file system without links, or too many links to one file.
        Err(_) => Ok(false),
    }
}
