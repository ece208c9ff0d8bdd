//! Packages that are open for changes: a writable copy in the project's folder `altered`, to which the installed package
//! is a link for as long as it is open. Nothing of the cache is written through it.

use std::path::{Path, PathBuf};

use serde_json::json;
use yostel_documents::{PackageName, TreeDigest};
use yostel_files::{FileError, Folder, Kind, Nearby};

use super::plan::{InstallPlan, PlannedPackage};
use super::project::{HeldProject, Project};
use crate::alter::{WrittenFor, write_file};
use crate::cache::{Cache, MOST_NOTE};
use crate::changes::{FileChange, changes_between, read_file};
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

/// Returns where a package's copy is, below the project's folder.
pub fn altered_folder(package: &PackageName) -> String {
    format!("{FOLDER}/{}", package.to_path())
}

/// Returns where the note on a package's copy is. No name of a package holds `~`.
fn note_of(package: &PackageName) -> String {
    format!("{}~opened.json", altered_folder(package))
}

/// Returns where changes are that were dropped without being kept, below the project's folder.
pub fn dropped_patch(package: &PackageName) -> String {
    format!("{}~dropped.patch", altered_folder(package))
}

/// The target of the link that an open package is, from its place below `.yostel/packages`.
fn link_target(package: &PackageName) -> String {
    format!("{}/{}", vec![".."; package.levels() + 2].join("/"), altered_folder(package))
}

impl Project {
    /// Returns the folder with a package's copy, whether or not it is there, for messages and other programs.
    pub fn copy_of(&self, package: &PackageName) -> PathBuf {
        self.root.join(altered_folder(package))
    }

    /// Opens the folder with a package's copy.
    pub(super) fn open_copy(&self, package: &PackageName) -> Result<Folder, FileError> {
        self.root_folder()?.folder(altered_folder(package))
    }

    /// Returns what a copy was made of; nothing when there is none.
    pub fn opened(&self, package: &PackageName) -> Option<OpenPackage> {
        let root = self.root_folder().ok()?;
        let note: serde_json::Value = serde_json::from_str(&root.read_text(note_of(package), MOST_NOTE).ok()?).ok()?;
        let base = TreeDigest::parse(note["base"].as_str()?).ok()?;
        let open = OpenPackage { package: package.to_string(), version: note["version"].as_str()?.to_owned(), base };
        root.has(altered_folder(package), Kind::Folder).then_some(open)
    }

    /// Tells whether an installed package is a link to its open copy.
    pub(super) fn is_open(&self, state: &Folder, package: &PlannedPackage) -> bool {
        let link = state.read_link(Path::new("packages").join(package.folder()));
        link.is_ok_and(|target| target == *link_target(&package.name)) && self.opened(&package.name).is_some()
    }

    /// Lists the packages of a plan that are open.
    pub fn open_packages(&self, plan: &InstallPlan) -> Vec<PackageName> {
        let Ok(Some(state)) = self.state_if_there() else { return Vec::new() };
        let open = plan.packages.values().filter(|package| self.is_open(&state, package));
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
    ) -> Result<Vec<FileChange>, FileError> {
        let copy = self.open_copy(package)?;
        let (old, new) = (cache.listing(open.base)?, list_tree(&copy)?);
        changes_between((&cache.tree(open.base)?, &old), (&copy, &new))
    }
}

impl HeldProject {
    /// Opens an installed package for changes: makes a writable copy of it, unless there is one, and puts a link to that in
    /// its place. Its tree, and that of its release, must be in the cache and sound.
    ///
    /// # Errors
    /// When something cannot be written; the package is then as it was.
    pub fn open(&self, package: &PlannedPackage, cache: &Cache) -> Result<(), FileError> {
        let root = self.project.root_folder()?;
        let copy = altered_folder(&package.name);
        let (parent, _) = copy.rsplit_once('/').expect("a copy is in a folder");
        root.make_folders(parent)?;
        self.state.remove("aside")?;
        let aside = self.state.make_folder("aside")?;
        if self.project.opened(&package.name).is_none() {
            if root.exists(&copy) {
                let reason = "no yostel made it, or it has lost its note; move it somewhere else";
                return Err(FileError::unfit("open a copy in", root.path_of(&copy), reason));
            }
            let (listing, from) = (cache.listing(package.tree())?, cache.tree(package.tree())?);
            let mut made = Nearby::new(aside.make_folder("copy")?);
            for (path, entry) in &listing.entries {
                write_file(&mut made, path, &read_file(&from, path, entry.kind)?, WrittenFor::Work)?;
            }
            let note = json!({
                "package": package.name.as_str(), "version": package.version.as_str(),
                "base": package.artifact.tree.to_string(),
            });
            root.write_atomically(note_of(&package.name), format!("{note}\n").as_bytes())?;
            aside.put_in_place("copy", &root, &copy)?;
        }
        if !self.project.is_open(&self.state, package) {
            aside.symlink(link_target(&package.name), "link")?;
            let place = format!("packages/{}", package.folder());
            let (parent, _) = place.rsplit_once('/').expect("a package is in a folder");
            self.state.make_folders(parent)?;
            aside.put_in_place("link", &self.state, &place)?;
        }
        self.state.remove("aside")
    }

    /// Ends the changes to a package: its copy goes, and the link to it. What is locked comes back with the next install.
    ///
    /// # Errors
    /// When something cannot be removed.
    pub fn close(&self, package: &PackageName) -> Result<(), FileError> {
        let root = self.project.root_folder()?;
        let folder = format!("packages/{}", package.to_path());
        for entry in self.state.entries_of(&folder)? {
            let place = Path::new(&folder).join(&entry.name);
            if self.state.read_link(&place).is_ok_and(|target| target == *link_target(package)) {
                self.state.remove(&place)?;
            }
        }
        if self.state.remove_if_empty(&folder) {
            self.state.remove_empty_above(&folder);
        }
        // The copy first: a note alone is the next one's to write over, a copy alone could be anybody's.
        root.remove(altered_folder(package))?;
        root.remove(note_of(package))?;
        root.remove_empty_above(altered_folder(package));
        root.remove_if_empty(FOLDER);
        Ok(())
    }
}
