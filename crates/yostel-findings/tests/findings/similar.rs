//! Packages that are nearly the same, against comparing all with all.
//! The accident this prevents: two copies of one library, one of them with a fix, both shipped for years.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use yostel_documents::{Chosen, ContentDigest, Entry, EntryKind, Listing, Lockfile, PackageName, Seal};
use yostel_findings::{Duplicate, Listings, duplicates};
use yostel_versions::{Numbering, Version};

fn version(text: &str) -> Version {
    Numbering::default().parse_version(text).unwrap()
}

fn entry(content: u8) -> Entry {
    Entry { kind: EntryKind::File, digest: ContentDigest::of(&[content]), size: 10 }
}

fn listing(contents: &[u8]) -> Listing {
    let files = contents.iter().enumerate().map(|(at, content)| (format!("file-{at}"), entry(*content)));
    Listing { entries: files.chain([("yostel.toml".to_owned(), entry(255))]).collect() }
}

fn found(listings: &Listings) -> Vec<(Vec<String>, usize)> {
    let lockfile = Lockfile { declarations: Seal::of(b""), chosen: Chosen::default() };
    let all = duplicates(&lockfile, &BTreeMap::new(), listings);
    let alike = all.into_iter().filter_map(|duplicate| match duplicate {
        Duplicate::Alike { packages, percent, .. } => {
            Some((packages.iter().map(|(name, version)| format!("{name} {version}")).collect(), percent))
        }
        _ => None,
    });
    alike.collect()
}

/// The files of the first package, all packages by name and version, and how alike the least alike is.
type Group = (Vec<u8>, Vec<(PackageName, String)>, usize);

/// One after the other joins the first group whose first package it is most like.
fn compared_with_all(listings: &Listings, contents: &[(String, String, Vec<u8>)]) -> Vec<(Vec<String>, usize)> {
    let counts = |contents: &[u8]| {
        let mut counts: BTreeMap<u8, usize> = BTreeMap::new();
        contents.iter().for_each(|content| *counts.entry(*content).or_default() += 1);
        counts
    };
    let of = |name: &PackageName, version: &Version| {
        let same = |one: &&(String, String, Vec<u8>)| one.0 == name.as_str() && one.1 == version.as_str();
        contents.iter().rev().find(same).unwrap().2.clone()
    };
    let mut groups: Vec<Group> = Vec::new();
    let mut seen = BTreeSet::new();
    for (name, version) in listings.keys() {
        let own = of(name, version);
        if own.len() < 4 || !seen.insert(own.clone()) {
            continue;
        }
        let like = |(first, members, _): &Group| {
            let (mine, theirs) = (counts(&own), counts(first));
            let equal: usize =
                mine.iter().map(|(content, number)| *number.min(theirs.get(content).unwrap_or(&0))).sum();
            let larger = own.len().max(first.len());
            let is_other = members.iter().all(|(member, _)| member != name);
            (is_other && equal * 100 >= larger * 80).then_some(equal * 100 / larger)
        };
        let best = groups.iter().enumerate().filter_map(|(at, group)| Some((like(group)?, at)));
        let best = best.fold(None, |best: Option<(usize, usize)>, one| match best {
            Some(best) if best.0 >= one.0 => Some(best),
            _ => Some(one),
        });
        match best {
            Some((percent, at)) => {
                groups[at].1.push((name.clone(), version.to_string()));
                groups[at].2 = groups[at].2.min(percent);
            }
            None => groups.push((own, vec![(name.clone(), version.to_string())], 100)),
        }
    }
    let told = |(_, members, percent): Group| {
        (members.into_iter().map(|(name, version)| format!("{name} {version}")).collect::<Vec<_>>(), percent)
    };
    groups.into_iter().map(told).filter(|(members, _)| members.len() > 1).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(5_000))]

    #[test]
    fn what_is_nearly_the_same_is_found_as_by_comparing_all_with_all(
        packages in prop::collection::vec((0..6_u8, 0..2_u8, prop::collection::vec(0..5_u8, 0..9)), 0..9),
    ) {
        let name = |number: u8| format!("p{number}");
        let contents: Vec<(String, String, Vec<u8>)> =
            packages.into_iter().map(|(number, minor, files)| (name(number), format!("1.{minor}.0"), files)).collect();
        let listings: Listings = contents
            .iter()
            .map(|(name, text, files)| ((PackageName::parse(name).unwrap(), version(text)), listing(files)))
            .collect();
        prop_assert_eq!(found(&listings), compared_with_all(&listings, &contents), "{:?}", contents);
    }
}

#[test]
fn bytes_are_counted_once_and_not_for_what_nobody_has() {
    let key = |name: &str| (PackageName::parse(name).unwrap(), version("1.0.0"));
    let both = [(key("a"), listing(&[1, 2, 3, 4, 5])), (key("b"), listing(&[1, 2, 3, 4, 9]))];
    let listings: Listings = both.into_iter().collect();
    let lockfile = Lockfile { declarations: Seal::of(b""), chosen: Chosen::default() };
    let all = duplicates(&lockfile, &BTreeMap::new(), &listings);
    let [Duplicate::Alike { percent, bytes, .. }] = &all[..] else { panic!("{all:?}") };
    assert_eq!((*percent, *bytes), (80, Some(40)));
}
