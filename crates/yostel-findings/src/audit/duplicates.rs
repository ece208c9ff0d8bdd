//! Things that are there twice: one content under two names, one package at several versions, two packages in one role.
//!
//! Manifests are left out of the content where the source tells its digest, since the same files published under
//! another name differ at least there.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{AskedBy, Lockfile, PackageDocument, PackageName, TreeDigest, Word};
use yostel_resolve::RequirementEdit;
use yostel_versions::Version;

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
    /// A package that is locked at several versions.
    Versions {
        /// The package.
        package: PackageName,
        /// The versions, rising, each with who asks for it.
        versions: Vec<(Version, BTreeSet<AskedBy>)>,
    },
    /// Packages that fill the same role.
    Role {
        /// The role.
        role: Word,
        /// The packages, sorted.
        packages: Vec<(PackageName, Version)>,
    },
}

/// What it takes for a package to be locked at one version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Dedupe {
    /// Nothing but to say so.
    ByPolicyOnly,
    /// These edits of what projects need; the smallest there are.
    Edits(Vec<RequirementEdit>),
    /// No edit of needs would do.
    Impossible,
}

/// Lists duplicates: contents first, then packages at several versions, then roles. Roles are known only of packages with a document.
pub fn duplicates(lockfile: &Lockfile, documents: &BTreeMap<PackageName, PackageDocument>) -> Vec<Duplicate> {
    let mut by_tree: BTreeMap<TreeDigest, Vec<(PackageName, Version)>> = BTreeMap::new();
    let mut by_role: BTreeMap<Word, Vec<(PackageName, Version)>> = BTreeMap::new();
    for (name, locked) in lockfile.chosen.iter() {
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
    let several = |packages: &Vec<(PackageName, Version)>| packages.iter().any(|(name, _)| *name != packages[0].0);
    let contents = by_tree.into_iter().filter(|(_, packages)| several(packages));
    let roles = by_role.into_iter().filter(|(_, packages)| several(packages));
    let versions = lockfile.chosen.keys().filter_map(|package| {
        let all = lockfile.chosen.all(package);
        let versions = || all.iter().map(|locked| (locked.version.clone(), locked.asked_by.clone())).collect();
        (all.len() > 1).then(|| Duplicate::Versions { package: package.clone(), versions: versions() })
    });
    let versions: Vec<Duplicate> = versions.collect();
    contents
        .map(|(digest, packages)| Duplicate::Content { digest, packages })
        .chain(versions)
        .chain(roles.map(|(role, packages)| Duplicate::Role { role, packages }))
        .collect()
}
