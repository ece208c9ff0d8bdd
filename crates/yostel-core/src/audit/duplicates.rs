//! Things that are there twice: one content under two names, two packages in one role.
//!
//! Manifests are left out of the content where the source tells its digest, since the same files published under
//! another name differ at least there.

use std::collections::{BTreeMap, BTreeSet};

use crate::digest::TreeDigest;
use crate::lockfile::Lockfile;
use crate::name::{PackageName, Word};
use crate::release::PackageDocument;
use crate::version::Version;

/// Something that is there twice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Duplicate {
    /// Packages whose files are the same.
    Content {
        /// The digest they share.
        digest: TreeDigest,
        /// The packages, sorted.
        packages: Vec<(PackageName, Version)>,
    },
    /// Packages that fill the same role.
    Role {
        /// The role.
        role: Word,
        /// The packages, sorted.
        packages: Vec<(PackageName, Version)>,
    },
}

/// Lists duplicates: contents first, then roles. Roles are known only of packages with a document.
pub fn duplicates(lockfile: &Lockfile, documents: &BTreeMap<PackageName, PackageDocument>) -> Vec<Duplicate> {
    let mut by_tree: BTreeMap<TreeDigest, Vec<(PackageName, Version)>> = BTreeMap::new();
    let mut by_role: BTreeMap<Word, Vec<(PackageName, Version)>> = BTreeMap::new();
    for (name, locked) in &lockfile.chosen {
        let entry = (name.clone(), locked.version.clone());
        let release = documents.get(name).and_then(|document| document.release(&locked.version));
        let content = release.and_then(|release| release.content);
        let trees: BTreeSet<TreeDigest> =
            content.map_or_else(|| locked.artifacts.iter().map(|artifact| artifact.tree).collect(), |c| [c].into());
        for tree in trees {
            by_tree.entry(tree).or_default().push(entry.clone());
        }
        for role in release.iter().flat_map(|release| &release.offers.roles) {
            by_role.entry(role.clone()).or_default().push(entry.clone());
        }
    }
    let contents = by_tree.into_iter().filter(|(_, packages)| packages.len() > 1);
    let roles = by_role.into_iter().filter(|(_, packages)| packages.len() > 1);
    contents
        .map(|(digest, packages)| Duplicate::Content { digest, packages })
        .chain(roles.map(|(role, packages)| Duplicate::Role { role, packages }))
        .collect()
}
