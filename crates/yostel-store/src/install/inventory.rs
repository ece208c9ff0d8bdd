//! The inventory of an install: what is there, the same bytes on every machine.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use yostel_documents::{PackageName, Seal, TreeDigest};

/// What is installed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inventory {
    /// Seal of the lockfile that was installed.
    pub lock: Seal,
    /// The packages, by name.
    pub packages: Vec<InstalledPackage>,
    /// Targets of the links, by their path below `.yostel`.
    pub links: BTreeMap<String, String>,
}

/// One installed package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InstalledPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Digest of its tree.
    pub tree: TreeDigest,
    /// Its folder below `.yostel`.
    pub folder: String,
}

#[derive(Serialize, Deserialize)]
struct RawInventory {
    format: u32,
    lock: String,
    install: String,
    packages: Vec<RawPackage>,
    links: BTreeMap<String, String>,
}

#[derive(Serialize, Deserialize)]
struct RawPackage {
    name: String,
    version: String,
    tree: String,
    folder: String,
}

impl Inventory {
    /// Returns the one digest of the whole install: equal digests mean equal trees and links, on any machine.
    pub fn digest(&self) -> Seal {
        let mut text = String::from("yostel-install 1\n");
        for package in &self.packages {
            text.push_str(&format!("p {} {}\n", package.tree.to_hex(), package.folder));
        }
        for (path, target) in &self.links {
            text.push_str(&format!("l {path} -> {target}\n"));
        }
        Seal::of(text.as_bytes())
    }

    /// Writes the canonical JSON.
    pub fn write(&self) -> String {
        let raw = RawInventory {
            format: 1,
            lock: self.lock.to_string(),
            install: self.digest().to_string(),
            packages: self
                .packages
                .iter()
                .map(|package| RawPackage {
                    name: package.name.clone(),
                    version: package.version.clone(),
                    tree: package.tree.to_string(),
                    folder: package.folder.clone(),
                })
                .collect(),
            links: self.links.clone(),
        };
        let mut text = serde_json::to_string_pretty(&raw).expect("maps with text keys always serialise");
        text.push('\n');
        text
    }

    /// Reads an inventory; nothing when it is not one, or not whole.
    pub fn parse(text: &str) -> Option<Self> {
        let raw: RawInventory = serde_json::from_str(text).ok().filter(|raw: &RawInventory| raw.format == 1)?;
        let mut packages = Vec::new();
        for package in raw.packages {
            let tree = TreeDigest::parse(&package.tree).ok()?;
            // What is removed later is taken from here: only what an install makes counts.
            let name = PackageName::parse(&package.name).ok()?;
            let short = format!("{}-{}", package.version, tree.to_short());
            if package.folder != format!("packages/{}/{short}", name.to_path()) || short.contains('/') {
                return None;
            }
            packages.push(InstalledPackage {
                name: package.name,
                version: package.version,
                tree,
                folder: package.folder,
            });
        }
        let inventory = Self { lock: Seal::parse(&raw.lock).ok()?, packages, links: raw.links };
        (inventory.digest().to_string() == raw.install).then_some(inventory)
    }
}
