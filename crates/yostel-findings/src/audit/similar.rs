//! Packages that are nearly the same: most of their files are equal, wherever they are in it. Found without comparing all
//! with all: two that are so alike share one of their rarest files (prefix filtering, Chaudhuri, Ganti and Kaushik 2006).

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{ContentDigest, Listing, PackageName};
use yostel_versions::Version;

/// How many of a hundred files must be equal, of the package that has more.
const LEAST_PERCENT: usize = 80;

/// How few files say nothing: a licence and a note are in many packages.
const LEAST_FILES: usize = 4;

/// The file that says which package it is, and differs therefore.
const MANIFEST: &str = "yostel.toml";

/// Packages with a listing, by name and version.
pub type Listings = BTreeMap<(PackageName, Version), Listing>;

/// Packages that are nearly the same as the first of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Alike {
    /// The packages, the one that the others are compared with first.
    pub packages: Vec<(PackageName, Version)>,
    /// How many of a hundred files are equal, for the one that is least alike; of two that are compared, the one with more
    /// files counts. Rounded down.
    pub percent: usize,
}

/// A file by its content, the second of two equal ones apart from the first.
type Token = (ContentDigest, usize);

/// Lists groups of packages that are nearly, but not in all files, the same.
pub(super) fn alike(listings: &Listings) -> Vec<Alike> {
    let mut frequency: BTreeMap<Token, usize> = BTreeMap::new();
    let sets: Vec<(&(PackageName, Version), BTreeSet<Token>)> =
        listings.iter().map(|(key, listing)| (key, tokens(listing))).collect();
    for token in sets.iter().flat_map(|(_, set)| set) {
        *frequency.entry(*token).or_default() += 1;
    }
    let mut groups: Vec<(usize, Alike)> = Vec::new();
    // From a file to the groups of whose first package it is among the rarest.
    let mut by_file: BTreeMap<Token, Vec<usize>> = BTreeMap::new();
    let mut seen: BTreeSet<Vec<(&str, ContentDigest)>> = BTreeSet::new();
    for (at, (key, set)) in sets.iter().enumerate() {
        // What is the same in all files is told as that.
        let listing = &listings[*key].entries;
        let own = listing.iter().filter(|(path, _)| *path != MANIFEST);
        if set.len() < LEAST_FILES || !seen.insert(own.map(|(path, entry)| (path.as_str(), entry.digest)).collect()) {
            continue;
        }
        let mut rarest: Vec<Token> = set.iter().copied().collect();
        rarest.sort_by_key(|token| (frequency[token], *token));
        rarest.truncate(set.len() - least(set.len()) + 1);
        let near: BTreeSet<usize> = rarest.iter().filter_map(|token| by_file.get(token)).flatten().copied().collect();
        let best = near.into_iter().filter_map(|group| {
            let (first, alike) = &groups[group];
            let (other, larger) = (&sets[*first].1, set.len().max(sets[*first].1.len()));
            let equal = set.intersection(other).count();
            let is_own = alike.packages.iter().any(|(name, _)| *name == key.0);
            (!is_own && equal >= least(larger)).then(|| (equal * 100 / larger, group))
        });
        // Of several that are as alike, the first.
        match best.max_by_key(|(percent, group)| (*percent, std::cmp::Reverse(*group))) {
            Some((percent, group)) => {
                let alike = &mut groups[group].1;
                alike.percent = alike.percent.min(percent);
                alike.packages.push((*key).clone());
            }
            None => {
                rarest.iter().for_each(|token| by_file.entry(*token).or_default().push(groups.len()));
                groups.push((at, Alike { packages: vec![(*key).clone()], percent: 100 }));
            }
        }
    }
    groups.into_iter().map(|(_, alike)| alike).filter(|alike| alike.packages.len() > 1).collect()
}

/// Returns how many of so many files must be equal.
fn least(files: usize) -> usize {
    (files * LEAST_PERCENT).div_ceil(100)
}

fn tokens(listing: &Listing) -> BTreeSet<Token> {
    let mut counted: BTreeMap<ContentDigest, usize> = BTreeMap::new();
    let files = listing.entries.iter().filter(|(path, _)| *path != MANIFEST);
    files
        .map(|(_, entry)| {
            let count = counted.entry(entry.digest).or_default();
            *count += 1;
            (entry.digest, *count)
        })
        .collect()
}

/// Returns how many bytes could be spared if each content were there once: nothing when the files of one are not known.
pub(super) fn repeated_bytes(packages: &[(PackageName, Version)], listings: &Listings) -> Option<u64> {
    let mut once: BTreeSet<ContentDigest> = BTreeSet::new();
    let mut repeated = 0_u64;
    for package in packages {
        let files = listings.get(package)?.entries.iter().filter(|(path, _)| *path != MANIFEST);
        let again: Vec<_> = files.map(|(_, entry)| entry).collect();
        repeated += again.iter().filter(|entry| once.contains(&entry.digest)).map(|entry| entry.size).sum::<u64>();
        once.extend(again.iter().map(|entry| entry.digest));
    }
    Some(repeated)
}

/// Returns how many bytes the versions of a package beside the newest take: files that they share take no room twice.
pub(super) fn bytes_of_others(package: &PackageName, versions: &[&Version], listings: &Listings) -> Option<u64> {
    let (newest, others) = versions.split_last()?;
    let listing = |version: &Version| listings.get(&(package.clone(), version.clone()));
    let mut there: BTreeSet<(&str, ContentDigest)> = BTreeSet::new();
    there.extend(listing(newest)?.entries.iter().map(|(path, entry)| (path.as_str(), entry.digest)));
    let mut bytes = 0;
    for version in others {
        for (path, entry) in &listing(version)?.entries {
            if there.insert((path, entry.digest)) {
                bytes += entry.size;
            }
        }
    }
    Some(bytes)
}
