//! Any small world, for property tests.

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_documents::{Overrides, PackageName};
use yostel_versions::ConstraintText;

/// A small world as text: up to four packages of up to three releases, needs among them.
pub fn any_world() -> impl Strategy<Value = String> {
    let names = ["a", "b", "c", "d"];
    let accept = prop_oneof![
        Just("*"),
        Just("^1"),
        Just("^2"),
        Just(">=1.1"),
        Just("<2"),
        Just("=1.0.0"),
        Just("!=1.1.0"),
        Just("^1 || ^2"),
        Just("^9"),
        Just("^1 on linux/amd64"),
        Just("* on !linux/amd64"),
        Just("^2 on darwin/*"),
    ];
    let need = (0usize..4, accept).prop_map(move |(i, accept)| format!("{} {accept}", names[i]));
    let needs = prop::collection::vec(need, 0..3).prop_map(|mut needs| {
        needs.sort();
        needs.dedup_by_key(|n| n.split(' ').next().unwrap().to_owned());
        needs.join(", ")
    });
    let mark = prop_oneof![17 => Just(""), 2 => Just(" withdrawn"), 1 => Just(" @2"), 1 => Just(" for=linux/amd64"), 2 => Just(" role=one"), 1 => Just(" role=other role=one")];
    let release = (0usize..4, 0usize..4, needs.clone(), mark);
    (needs, prop::collection::vec(release, 1..10)).prop_map(move |(requirements, releases)| {
        let versions = ["1.0.0", "1.1.0", "2.0.0", "2.0.0-rc.1"];
        let mut text = format!("console: {requirements}\n");
        let mut seen = BTreeSet::new();
        for (package, version, needs, mark) in releases {
            if seen.insert((package, version)) {
                text.push_str(&format!("{} {}{mark}: {needs}\n", names[package], versions[version]));
            }
        }
        text
    })
}

/// What a project may say about packages wherever they turn up.
pub fn any_overrides() -> impl Strategy<Value = Overrides> {
    prop::sample::subsequence(vec![0usize, 1, 2, 3], 0..=2).prop_map(|rules| {
        let name = |text: &str| PackageName::parse(text).unwrap();
        let accept = |text: &str| ConstraintText::parse(text).unwrap();
        let mut overrides = Overrides::default();
        for rule in rules {
            match rule {
                0 => drop(overrides.forced.insert(name("a"), accept("=1.1.0"))),
                1 => drop(overrides.agreed.insert(name("b"), accept("^1"))),
                2 => drop(overrides.swapped.insert(name("c"), (name("a"), Some(accept(">=1.1"))))),
                _ => drop(overrides.swapped.insert(name("d"), (name("b"), None))),
            }
        }
        overrides
    })
}

/// Packages that may be there at several versions: often none.
pub fn any_coexist() -> impl Strategy<Value = BTreeSet<PackageName>> {
    let some = prop::sample::subsequence(vec!["a", "b", "c", "d"], 0..=4);
    let names = |names: Vec<&str>| names.into_iter().map(|name| PackageName::parse(name).unwrap()).collect();
    prop_oneof![1 => Just(BTreeSet::new()), 1 => some.prop_map(names)]
}

/// Versions to keep, for [`any_world`].
pub fn any_keep() -> impl Strategy<Value = Vec<&'static str>> {
    prop::sample::subsequence(vec!["a 1.0.0", "b 1.1.0", "c 2.0.0", "d 1.0.0"], 0..=4)
}
