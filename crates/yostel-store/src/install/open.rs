//! Packages that are open for changes: a writable copy in the project's folder `altered`, to which the installed package
//! is a link for as long as it is open. Nothing of the cache is written through it.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::json;
use yostel_core::{PackageName, TreeDigest};

use super::apply::HeldProject;
use super::plan::{InstallPlan, PlannedPackage};
use super::project::Project;
use crate::alter::{WrittenFor, write_file};
use crate::cache::Cache;
use crate::changes::{FileChange, changes_between, read_file};
use crate::error::StoreError;
use crate::verify::list_tree;

/// The folder of a project with the copies that are open.
const FOLDER: &str = "altered";

/// A copy that is open for changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenPackage {
    /// The package.
    pub package: String,
    /// The version it was opened at.
    pub version: String,
    /// The tree of its release, which changes are told against.
    pub base: TreeDigest,
}

/// Returns where a package's copy lies, below the project's folder.
pub fn altered_folder(package: &PackageName) -> String {
    format!("{FOLDER}/{}", package.to_path_element())
}

/// The target of the link that an open package is, from its place below `.yostel/packages`.
fn link_target(package: &PackageName) -> String {
    format!("../../../{}", altered_folder(package))
}

impl Project {
    /// Returns the folder with a package's copy, whether or not it is there.
    pub fn copy_of(&self, package: &PackageName) -> PathBuf {
        self.root.join(altered_folder(package))
    }

    fn note_of(&self, package: &PackageName) -> PathBuf {
        self.root.join(format!("{}.json", altered_folder(package)))
    }

    /// Returns what a copy was made of; nothing when there is none.
    pub fn opened(&self, package: &PackageName) -> Option<OpenPackage> {
        let text = fs::read_to_string(self.note_of(package)).ok()?;
        let note: serde_json::Value = serde_json::from_str(&text).ok()?;
        let base = TreeDigest::parse(note["base"].as_str()?).ok()?;
        let open = OpenPackage { package: package.to_string(), version: note["version"].as_str()?.to_owned(), base };
        self.copy_of(package).is_dir().then_some(open)
    }

    /// Tells whether an installed package is a link to its open copy.
    pub(super) fn is_open(&self, package: &PlannedPackage) -> bool {
        let folder = self.state.join("packages").join(package.folder());
        fs::read_link(folder).is_ok_and(|target| target == Path::new(&link_target(&package.name)))
            && self.opened(&package.name).is_some()
    }

    /// Lists the packages of a plan that are open.
    pub fn open_packages(&self, plan: &InstallPlan) -> Vec<PackageName> {
        let open = plan.packages.values().filter(|package| self.is_open(package));
        open.map(|package| package.name.clone()).collect()
    }

    /// Lists what was changed in an open copy since its release.
    ///
    /// # Errors
    /// When a file cannot be read, or no package can hold it.
    pub fn changes_in_copy(
        &self,
        package: &PackageName,
        open: &OpenPackage,
        cache: &Cache,
    ) -> Result<Vec<FileChange>, StoreError> {
        let copy = self.copy_of(package);
        let (old, new) = (cache.listing(open.base)?, list_tree(&copy)?);
        changes_between((&cache.tree_files(open.base), &old), (&copy, &new))
    }
}

impl HeldProject {
    /// Opens an installed package for changes: makes a writable copy of it, unless there is one, and puts a link to that in
    /// its place. Its tree, and that of its release, must be in the cache and sound.
    ///
    /// # Errors
    /// When something cannot be written; the package is then as it was.
    pub fn open(&self, package: &PlannedPackage, cache: &Cache) -> Result<(), StoreError> {
        let disk = cache.disk();
        let (copy, place) = (self.project.copy_of(&package.name), self.place_of(package));
        let parent = copy.parent().expect("a copy lies in a folder");
        disk.make_folders(parent)?;
        let aside = self.project.state.join("aside");
        disk.remove(&aside)?;
        disk.make_folders(&aside)?;
        if self.project.opened(&package.name).is_none() {
            let made = aside.join("copy");
            disk.make_folder(&made)?;
            let (listing, from) = (cache.listing(package.tree())?, cache.tree_files(package.tree()));
            for (path, entry) in &listing.entries {
                let to = made.join(path);
                disk.make_folders(to.parent().unwrap_or(&made))?;
                write_file(disk, &to, &read_file(&from.join(path), entry.kind)?, WrittenFor::Work)?;
            }
            let note = json!({
                "package": package.name.as_str(), "version": package.version.as_str(),
                "base": package.artifact.tree.to_string(),
            });
            disk.write_atomically(&self.project.note_of(&package.name), format!("{note}\n").as_bytes())?;
            // A copy without a note is nobody's: a process was killed here.
            disk.remove(&copy)?;
            disk.rename(&made, &copy).map_err(StoreError::when("write", &copy))?;
        }
        if !self.project.is_open(package) {
            let link = aside.join("link");
            disk.symlink(link_target(&package.name), &link)?;
            if place.symlink_metadata().is_ok() {
                disk.rename(&place, &aside.join("old")).map_err(StoreError::when("replace", &place))?;
            }
            disk.rename(&link, &place).map_err(StoreError::when("write", &place))?;
        }
        disk.remove(&aside)
    }

    /// Ends the changes to a package: its copy goes, and the link to it. What is locked comes back with the next install.
    ///
    /// # Errors
    /// When something cannot be removed.
    pub fn close(&self, package: &PackageName, cache: &Cache) -> Result<(), StoreError> {
        let disk = cache.disk();
        let folder = self.project.state.join("packages").join(package.to_path_element());
        for place in fs::read_dir(&folder).into_iter().flatten().flatten() {
            if fs::read_link(place.path()).is_ok_and(|target| target == Path::new(&link_target(package))) {
                disk.remove(&place.path())?;
            }
        }
        disk.remove_if_empty(&folder);
        disk.remove(&self.project.note_of(package))?;
        disk.remove(&self.project.copy_of(package))?;
        disk.remove_if_empty(&self.project.root.join(FOLDER));
        Ok(())
    }

    fn place_of(&self, package: &PlannedPackage) -> PathBuf {
        self.project.state.join("packages").join(package.folder())
    }
}
