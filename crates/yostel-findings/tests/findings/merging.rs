//! Two lockfiles made one. The accident this prevents: a side whose choice is lost without a word.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use yostel_documents::{Chosen, LockedPackage, Lockfile, PackageName};
use yostel_findings::merge;
use yostel_testkit::World;
use yostel_versions::{Order, Version};

use crate::locks::lock;

/// Versions by package, few of each.
type Versions = BTreeMap<PackageName, BTreeSet<u8>>;

fn versions() -> impl Strategy<Value = Versions> {
    let name = prop::sample::select(vec!["a", "b", "c"]).prop_map(|name| PackageName::parse(name).unwrap());
    prop::collection::btree_map(name, prop::collection::btree_set(1u8..5, 1..3), 0..4)
}

fn locked(version: u8) -> LockedPackage {
    let world = World::parse("console: a *\na 1.0.0\n");
    let one = lock(&world, &[]);
    let version = Version::parse(&format!("{version}.0.0"), &Order::Semver).unwrap();
    LockedPackage { version, ..one.chosen.values().next().unwrap().clone() }
}

fn lockfile(versions: &Versions) -> Lockfile {
    let world = World::parse("console: a *\na 1.0.0\n");
    let mut chosen: Chosen<LockedPackage> = Chosen::default();
    for (name, versions) in versions {
        versions.iter().for_each(|version| chosen.insert(name.clone(), locked(*version)));
    }
    Lockfile { chosen, ..lock(&world, &[]) }
}

fn read(lockfile: &Lockfile) -> Versions {
    let mut versions = Versions::new();
    for (name, locked) in lockfile.chosen.iter() {
        let major = locked.version.as_str().split('.').next().unwrap().parse().unwrap();
        versions.entry(name.clone()).or_default().insert(major);
    }
    versions
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn no_choice_of_either_side_is_lost(base in versions(), ours in versions(), theirs in versions(), apart in any::<bool>()) {
        let all: BTreeSet<PackageName> = ["a", "b", "c"].map(|name| PackageName::parse(name).unwrap()).into();
        let coexist = if apart { all } else { BTreeSet::new() };
        let (b, o, t) = (lockfile(&base), lockfile(&ours), lockfile(&theirs));
        let merged = merge(Some(&b), &o, &t, &coexist);
        let kept = read(&merged.lockfile);
        // Which side is which has no part in what is kept.
        prop_assert_eq!(&kept, &read(&merge(Some(&b), &t, &o, &coexist).lockfile));
        if apart {
            prop_assert_eq!(read(&merge(Some(&b), &o, &o, &coexist).lockfile), ours.clone(), "two that are the same");
        }
        let none = BTreeSet::new();
        for name in ours.keys().chain(theirs.keys()) {
            let of = |side: &Versions| side.get(name).unwrap_or(&none).clone();
            let (base, ours, theirs, kept) = (of(&base), of(&ours), of(&theirs), of(&kept));
            let both = merged.both.iter().any(|both| both.package == *name);
            let chosen_anew: BTreeSet<u8> = ours.union(&theirs).copied().filter(|v| !base.contains(v)).collect();
            match apart {
                true => prop_assert!(!both && chosen_anew.is_subset(&kept), "{:?} of {:?}", chosen_anew, kept),
                // One of them, the newest; told when both sides have one that the other has not.
                false => {
                    prop_assert!(kept.len() <= 1 && kept.last() >= chosen_anew.last(), "{:?} of {:?}", chosen_anew, kept);
                    let one_each = |here: &BTreeSet<u8>, other: &BTreeSet<u8>| chosen_anew.iter().any(|v| here.contains(v) && !other.contains(v));
                    prop_assert!(!(one_each(&ours, &theirs) && one_each(&theirs, &ours)) || both);
                }
            }
            prop_assert!(kept.is_subset(&ours.union(&theirs).copied().collect()));
            prop_assert!(!apart || ours.intersection(&theirs).all(|v| kept.contains(v)));
        }
    }
}
