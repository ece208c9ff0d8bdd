//! The judge is judged: for each rule a set that breaks it and nothing else, and one that keeps it.

use jiff::Timestamp;
use proptest::prelude::*;
use yostel_documents::{Origin, PackageName, Word};
use yostel_resolve::{Choice, Resolution, Rules, satisfies};
use yostel_testkit::any::{any_coexist, any_keep, any_overrides, any_world};
use yostel_testkit::{World, every_set, is_right};
use yostel_versions::Version;

/// Makes a set of these releases, whether it is right or not.
fn set(world: &World, releases: &[&str]) -> Resolution {
    let mut set = Resolution::default();
    for label in releases {
        let (name, version) = label.split_once(' ').unwrap();
        let name = PackageName::parse(name).unwrap();
        let document = &world.documents[&name];
        let version: Version = document.numbering.parse_version(version).unwrap();
        let choice = Choice {
            release: document.release(&version).unwrap().clone(),
            numbering: document.numbering.clone(),
            origin: Origin::Source(Word::parse("station").unwrap()),
        };
        set.chosen.insert(name, choice);
    }
    set
}

/// Says what the judge finds in a set, under these rules and with these versions kept.
fn found(text: &str, keep: &[&str], rules: impl FnOnce(&mut Rules), releases: &[&str]) -> Vec<String> {
    let world = World::parse(text);
    let mut problem = world.problem(keep);
    rules(&mut problem.rules);
    satisfies(&problem, &set(&world, releases)).iter().map(ToString::to_string).collect()
}

fn none(_: &mut Rules) {}

fn day(number: i64) -> Timestamp {
    Timestamp::from_second(number * 86_400).unwrap()
}

const CHAIN: &str = "console: gust ^2\ngust 2.0.0: unit ^1\ngust 3.0.0: unit ^1\nunit 1.0.0\nunit 2.0.0\nrig 1.0.0";

#[test]
fn every_need_is_met_and_nothing_is_there_that_nobody_needs() {
    assert!(found(CHAIN, &[], none, &["gust 2.0.0", "unit 1.0.0"]).is_empty());
    assert_eq!(found(CHAIN, &[], none, &[]), ["console needs gust ^2, which is missing"]);
    assert_eq!(found(CHAIN, &[], none, &["gust 2.0.0"]), ["gust 2.0.0 needs unit ^1, which is missing"]);
    assert_eq!(found(CHAIN, &[], none, &["gust 3.0.0", "unit 1.0.0"]), ["console needs gust ^2, not 3.0.0"]);
    assert_eq!(found(CHAIN, &[], none, &["gust 2.0.0", "unit 2.0.0"]), ["gust 2.0.0 needs unit ^1, not 2.0.0"]);
    let more = found(CHAIN, &[], none, &["gust 2.0.0", "unit 1.0.0", "rig 1.0.0"]);
    assert_eq!(more, ["nothing needs rig"]);
}

#[test]
fn withdrawn_and_too_new_releases_are_only_there_when_they_were_before() {
    let text = "console: gust ^2\ngust 2.0.0 withdrawn @5\ngust 2.1.0 @12";
    assert_eq!(found(text, &[], none, &["gust 2.0.0"]), ["gust 2.0.0 is withdrawn"]);
    assert!(found(text, &["gust 2.0.0"], none, &["gust 2.0.0"]).is_empty());
    let until = |last: i64| move |rules: &mut Rules| rules.published_by = Some(day(last));
    assert_eq!(found(text, &[], until(11), &["gust 2.1.0"]), ["gust 2.1.0 is too new"]);
    assert!(found(text, &[], until(12), &["gust 2.1.0"]).is_empty(), "that very day is early enough");
    assert!(found(text, &["gust 2.1.0"], until(11), &["gust 2.1.0"]).is_empty());
}

#[test]
fn one_version_a_package_or_one_a_line_where_that_is_permitted() {
    let text = "console: gust >=1\nrope: gust ^1\ngust 1.0.0\ngust 1.1.0\ngust 2.0.0";
    let apart = |rules: &mut Rules| {
        rules.coexist.insert(PackageName::parse("gust").unwrap());
    };
    let both = ["gust 1.1.0", "gust 2.0.0"];
    assert!(found(text, &[], none, &both).contains(&"gust 2.0.0 is not the only one of its kind".to_owned()));
    assert!(found(text, &[], apart, &both).is_empty());
    let same_line = found(text, &[], apart, &["gust 1.0.0", "gust 1.1.0", "gust 2.0.0"]);
    assert!(same_line.contains(&"gust 1.1.0 is not the only one of its kind".to_owned()), "{same_line:?}");
}

#[test]
fn one_package_a_role_unless_several_may_fill_it() {
    let text = "console: bell *, siren *\nbell 1.0.0 role=alarm\nsiren 1.0.0 role=alarm";
    let both = ["bell 1.0.0", "siren 1.0.0"];
    assert_eq!(found(text, &[], none, &both), ["bell and siren both fill the role alarm"]);
    let shared = |rules: &mut Rules| {
        rules.shared_roles.insert(Word::parse("alarm").unwrap());
    };
    assert!(found(text, &[], shared, &both).is_empty());
}

#[test]
fn every_listed_platform_is_served_by_what_came_along_too() {
    let text =
        "console: gust *\ngust 1.0.0: unit *\nunit 1.0.0 for=linux/amd64\nunit 1.1.0 for=linux/amd64+linux/arm64";
    let on = |platforms: &'static [&str]| {
        move |rules: &mut Rules| rules.platforms = platforms.iter().map(ToString::to_string).collect()
    };
    let old = ["gust 1.0.0", "unit 1.0.0"];
    assert!(found(text, &[], on(&["linux/amd64"]), &old).is_empty());
    let two = on(&["linux/amd64", "linux/arm64"]);
    assert_eq!(found(text, &[], two, &old), ["unit 1.0.0 offers nothing for linux/arm64"]);
    let kept = found(text, &["unit 1.0.0"], on(&["linux/amd64", "linux/arm64"]), &old);
    assert_eq!(kept, ["unit 1.0.0 offers nothing for linux/arm64"], "being kept excuses nothing here");
    assert!(found(text, &[], on(&["linux/amd64", "linux/arm64"]), &["gust 1.0.0", "unit 1.1.0"]).is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Of every set of every world, right or wrong, the judge says what rules written down a second time say.
    #[test]
    fn the_judge_says_of_every_set_what_the_rules_in_other_words_say(
        text in any_world(),
        keep in any_keep(),
        serve in any::<bool>(),
        by_day in prop::option::of(0i64..3),
        overrides in any_overrides(),
        coexist in any_coexist(),
    ) {
        let world = World::parse(&text);
        let mut problem = world.problem(&keep);
        problem.rules.overrides = overrides;
        problem.rules.coexist = coexist;
        problem.rules.published_by = by_day.map(|day| Timestamp::from_second(day * 86_400).unwrap());
        if serve {
            problem.rules.platforms = ["linux/amd64".to_owned(), "linux/arm64".to_owned()].into();
        }
        for set in every_set(&world) {
            let violations = satisfies(&problem, &set);
            prop_assert_eq!(violations.is_empty(), is_right(&problem, &set), "{:?} {:?}", set, violations);
        }
    }
}
