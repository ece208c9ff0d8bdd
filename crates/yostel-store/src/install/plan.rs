//! What an install should lead to: packages at paths, links to them, and one digest over it all.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Artifact, Asker, AtVersion, Chosen, PackageName, Patch, Seal, TreeDigest};
use yostel_versions::Version;

use super::inventory::{InstalledPackage, Inventory};
use super::links::REACH;

/// A package to install.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedPackage {
    /// Its name.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
    /// The artifact that fits this machine.
    pub artifact: Artifact,
    /// How it is changed locally, when it is.
    pub altered: Option<PlannedAlteration>,
}

/// Local changes to make to a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedAlteration {
    /// The changes.
    pub patch: Patch,
    /// Digest of the tree that they make.
    pub tree: TreeDigest,
}

impl AtVersion for PlannedPackage {
    fn version(&self) -> &Version {
        &self.version
    }
}

impl PlannedPackage {
    /// Returns the digest of the tree to install: what the archive unpacks to, with the local changes made to it.
    pub fn tree(&self) -> TreeDigest {
        self.altered.as_ref().map_or(self.artifact.tree, |altered| altered.tree)
    }

    /// Returns its folder below `.yostel/packages`: name, then version and the start of its tree digest.
    pub fn folder(&self) -> String {
        format!("{}/{}-{}", self.name.to_path(), self.version, self.tree().to_short())
    }
}

/// A link below `.yostel/reach` to a package.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Link {
    /// Who declared the need.
    pub who: Asker,
    /// For which purpose.
    pub purpose: String,
    /// The package needed.
    pub package: PackageName,
    /// Which of it.
    pub version: Version,
}

impl Link {
    /// Returns its path below `.yostel`.
    pub fn path(&self) -> String {
        let who = match &self.who {
            Asker::Project(name) => format!("projects/{}", name.to_path()),
            Asker::Release(name, version) => format!("releases/{}/{version}", name.to_path()),
        };
        format!("{REACH}/{who}/{}/{}", self.purpose, self.package.to_path())
    }
}

/// Packages and links.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InstallPlan {
    /// The lockfile's seal.
    pub lock: Seal,
    /// System and architecture it is for.
    pub platform: String,
    /// The purposes it is for; none when it is everything.
    pub purposes: BTreeSet<String>,
    /// The projects it is for; none when it is for all.
    pub projects: BTreeSet<String>,
    /// By name and version.
    pub packages: Chosen<PlannedPackage>,
    /// Local packages, each with that, absolute or relative to the project's.
    pub local: BTreeMap<PackageName, String>,
    /// Sorted; each to one of the packages.
    pub links: Vec<Link>,
}

impl InstallPlan {
    /// Returns the target text of a link, relative to where it is.
    pub fn target(&self, link: &Link) -> Option<String> {
        let state = vec![".."; link.path().matches('/').count()].join("/");
        if let Some(folder) = self.local.get(&link.package) {
            let up = format!("{state}/..");
            return Some(match folder.as_str() {
                "." => up,
                absolute if absolute.starts_with('/') => absolute.to_owned(),
                folder => format!("{up}/{folder}"),
            });
        }
        let package = self.packages.at(&link.package, &link.version)?;
        Some(format!("{state}/packages/{}", package.folder()))
    }

    /// Returns the inventory that the finished install has.
    pub fn inventory(&self) -> Inventory {
        let packages = self.packages.values().map(|package| InstalledPackage {
            name: package.name.to_string(),
            version: package.version.to_string(),
            tree: package.tree(),
            folder: format!("packages/{}", package.folder()),
        });
        let links = self.links.iter().filter_map(|link| Some((link.path(), self.target(link)?)));
        Inventory { lock: self.lock, packages: packages.collect(), links: links.collect() }
    }
}
