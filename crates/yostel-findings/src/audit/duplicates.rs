//! Things that are there twice: one content under two names, one package at several versions, two packages in one role.
//!
//! Manifests are left out of the content where the source tells its digest, since the same files published under
//! another name differ at least there.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{AskedBy, Lockfile, PackageDocument, PackageName, TreeDigest, Word};
use yostel_resolve::RequirementEdit;
use yostel_versions::Version;

use super::similar::{Alike, Listings, alike, bytes_of_others, repeated_bytes};

/// Something that is there twice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Duplicate {
    /// Packages whose files are the same.
    Content {
        /// The digest they share.
        digest: TreeDigest,
        /// The packages, sorted.
        packages: Vec<(PackageName, Version)>,
        /// How many bytes could be spared; nothing when their files are not in the cache.
        bytes: Option<u64>,
    },
    /// Packages most of whose files are the same.
    Alike {
        /// The packages; the others are compared with the first.
        packages: Vec<(PackageName, Version)>,
        /// How many of a hundred files are equal, for the one that is least alike.
        percent: usize,
        /// How many bytes could be spared.
        bytes: Option<u64>,
    },
    /// Packages whose names differ in `-`, `.` and `_` only.
    Names {
        /// The packages, sorted.
        packages: Vec<(PackageName, Version)>,
    },
    /// A package that is locked at several versions.
    Versions {
        /// The package.
        package: PackageName,
        /// The versions, rising, each with who asks for it.
        versions: Vec<(Version, BTreeSet<AskedBy>)>,
        /// How many bytes those beside the newest take; nothing when the files of one are not in the cache.
        bytes: Option<u64>,
    },
    /// Packages that fill the same role.
    Role {
        /// The role.
        role: Word,
        /// The packages, sorted.
        packages: Vec<(PackageName, Version)>,
    },
}

impl Duplicate {
    /// Lists the packages, where they are several.
    pub fn packages(&self) -> &[(PackageName, Version)] {
        match self {
            Self::Content { packages, .. }
            | Self::Alike { packages, .. }
            | Self::Names { packages }
            | Self::Role { packages, .. } => packages,
            Self::Versions { .. } => &[],
        }
    }
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

/// Lists duplicates: contents first, then what is nearly the same, packages at several versions, names, roles. Roles are known
/// only of packages with a document; what is nearly the same, and how many bytes that takes, only of those with a listing.
pub fn duplicates(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    listings: &Listings,
) -> Vec<Duplicate> {
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
        let numbers: Vec<&Version> = all.iter().map(|locked| &locked.version).collect();
        let bytes = || bytes_of_others(package, &numbers, listings);
        (all.len() > 1).then(|| Duplicate::Versions { package: package.clone(), versions: versions(), bytes: bytes() })
    });
    let versions: Vec<Duplicate> = versions.collect();
    let alike = alike(listings).into_iter().map(|Alike { packages, percent }| {
        let bytes = repeated_bytes(&packages, listings);
        Duplicate::Alike { packages, percent, bytes }
    });
    let mut by_name: BTreeMap<String, Vec<(PackageName, Version)>> = BTreeMap::new();
    for (name, locked) in lockfile.chosen.iter() {
        let bare = name.as_str().replace(['-', '.', '_'], "");
        by_name.entry(bare).or_default().push((name.clone(), locked.version.clone()));
    }
    let names = by_name.into_values().filter(several).map(|packages| Duplicate::Names { packages });
    contents
        .map(|(digest, packages)| {
            let bytes = repeated_bytes(&packages, listings);
            Duplicate::Content { digest, packages, bytes }
        })
        .chain(alike)
        .chain(versions)
        .chain(names)
        .chain(roles.map(|(role, packages)| Duplicate::Role { role, packages }))
        .collect()
}
