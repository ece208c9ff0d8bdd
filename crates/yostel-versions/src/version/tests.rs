//! The specification's own lists, and orders that real version strings need.
//! The accident this prevents: a candidate taken for newer than its release, or a date that overflows.

use proptest::prelude::*;

use super::*;

/// Valid strings that the specification's authors publish with its grammar.
const VALID: &str = "0.0.4 1.2.3 10.20.30 1.1.2-prerelease+meta 1.1.2+meta 1.1.2+meta-valid 1.0.0-alpha 1.0.0-beta \
    1.0.0-alpha.beta 1.0.0-alpha.beta.1 1.0.0-alpha.1 1.0.0-alpha0.valid 1.0.0-alpha.0valid \
    1.0.0-alpha-a.b-c-somethinglong+build.1-aef.1-its-okay 1.0.0-rc.1+build.1 2.0.0-rc.1+build.123 1.2.3-beta \
    10.2.3-DEV-SNAPSHOT 1.2.3-SNAPSHOT-123 1.0.0 2.0.0 1.1.7 2.0.0+build.1848 2.0.1-alpha.1227 1.0.0-alpha+beta \
    1.2.3----RC-SNAPSHOT.12.9.1--.12+788 1.2.3----R-S.12.9.1--.12+meta 1.2.3----RC-SNAPSHOT.12.9.1--.12 \
    1.0.0+0.build.1-rc.10000aaa-kk-0.1 99999999999999999999999.999999999999999999.99999999999999999 1.0.0-0A.is.legal";

/// Invalid ones from the same place.
const INVALID: &str = "1 1.2 1.2.3-0123 1.2.3-0123.0123 1.1.2+.123 +invalid -invalid -invalid+invalid \
    -invalid.01 alpha alpha.beta alpha.beta.1 alpha.1 alpha+beta alpha_beta alpha. alpha.. beta 1.0.0-alpha_beta \
    -alpha. 1.0.0-alpha.. 1.0.0-alpha..1 1.0.0-alpha...1 1.0.0-alpha....1 1.0.0-alpha.....1 1.0.0-alpha......1 \
    1.0.0-alpha.......1 01.1.1 1.01.1 1.1.01 1.2.3.DEV 1.2-SNAPSHOT 1.2.31.2.3----RC-SNAPSHOT.12.09.1--..12+788 \
    1.2-RC-SNAPSHOT -1.0.3-gamma+b7718 +justmeta 9.8.7+meta+meta 9.8.7-whatever+meta+meta \
    99999999999999999999999.999999999999999999.99999999999999999----RC-SNAPSHOT.12.09.1--------------------------------..12";

fn semver(text: &str) -> Version {
    Version::parse(text, &Order::Semver).unwrap()
}

fn words(text: &str) -> Version {
    Version::parse(text, &Order::words()).unwrap()
}

#[test]
fn semver_takes_what_the_specification_takes_and_nothing_else() {
    for text in VALID.split_whitespace() {
        assert_eq!(semver(text).as_str(), text);
    }
    for text in INVALID.split_whitespace().chain([""]) {
        assert!(Version::parse(text, &Order::Semver).is_err(), "{text}");
    }
}

#[test]
fn semver_orders_as_section_11_says() {
    let rising = "1.0.0-0 1.0.0-alpha 1.0.0-alpha.1 1.0.0-alpha.beta 1.0.0-beta 1.0.0-beta.2 1.0.0-beta.11 1.0.0-rc.1 \
        1.0.0 1.0.1 1.1.0 2.0.0 2.1.0 2.1.1 18446744073709551616.0.0";
    let rising: Vec<Version> = rising.split_whitespace().map(semver).collect();
    for (i, a) in rising.iter().enumerate() {
        for (j, b) in rising.iter().enumerate() {
            assert_eq!(a.cmp(b), i.cmp(&j), "{a} {b}");
        }
    }
    assert_eq!(semver("1.0.0+a"), semver("1.0.0+b"));
}

#[test]
fn words_order_candidates_finals_service_packs_and_dates() {
    let rising = "0.9 1.0-dev 1.0-alpha 1.0-alpha2 1.0-beta1 1.0.RC1 1.0-rc2 1.0 1.0-sp1 1.0-sp2 1.0-sp-2.1 1.0.0.1 1.0.1-rc1 \
        1.0.1 1.2 1.10 20240131 20240201.2 20240201.10 99999999999999999999999";
    let rising: Vec<Version> = rising.split_whitespace().map(words).collect();
    for (i, a) in rising.iter().enumerate() {
        for (j, b) in rising.iter().enumerate() {
            assert_eq!(a.cmp(b), i.cmp(&j), "{a} {b}");
        }
    }
    for same in ["1.0", "1", "1.0.0.0", "01.00", "1_0"] {
        assert_eq!(words(same), words("1.0"), "{same}");
    }
    for bad in ["", "v1", "1..2", "1.", "1 2", "1.2é", "-1", "1.0-dev-rc", "1.0-final", "1.0-b1", "1.0-jdk"] {
        assert!(Version::parse(bad, &Order::words()).is_err(), "{bad}");
    }
}

fn listing(before: &[&str], after: &[&str]) -> Result<Words, NumberingError> {
    let list = |words: &[&str]| words.iter().map(ToString::to_string).collect();
    Words::new(list(before), list(after))
}

#[test]
fn a_package_lists_its_own_words_and_adding_some_at_the_ends_changes_no_order() {
    let seasons = listing(&["winter", "spring"], &["summer", "autumn"]).unwrap();
    let read = |text: &str, words: &Words| Version::parse(text, &Order::Words(words.clone()));
    let rising = ["3-winter", "3-spring", "3-spring-2", "3", "3-summer", "3-Autumn", "3.1"];
    for pair in rising.windows(2) {
        assert!(read(pair[0], &seasons).unwrap() < read(pair[1], &seasons).unwrap(), "{pair:?}");
    }
    assert!(
        read("3-spring", &seasons).unwrap().is_pre_release() && !read("3-summer", &seasons).unwrap().is_pre_release()
    );
    let refused = read("3-Harvest", &seasons).unwrap_err();
    let lines = refused.unlisted.map(|unlisted| unlisted.words.with(&unlisted.word)).unwrap();
    assert_eq!(
        lines,
        ["before = [\"harvest\", \"winter\", \"spring\"]", "after = [\"summer\", \"autumn\", \"harvest\"]"]
    );
    let more = listing(&["harvest", "winter", "spring"], &["summer", "autumn", "late"]).unwrap();
    assert!(more.extend(&seasons) && !seasons.extend(&more));
    for (one, other) in rising.iter().flat_map(|one| rising.iter().map(move |other| (one, other))) {
        let (old, new) = (read(one, &seasons).unwrap(), read(other, &more).unwrap());
        assert_eq!(old.cmp(&new), old.cmp(&read(other, &seasons).unwrap()), "{one} {other}");
    }
    assert!(!listing(&["winter", "harvest", "spring"], &["summer", "autumn"]).unwrap().extend(&seasons), "in between");
    let none = listing(&[], &[]).unwrap();
    assert_eq!(read("1.2", &none).unwrap().to_lowest_pre_release(), read("1.2", &none).unwrap());
    assert!(matches!(listing(&["rc"], &["rc"]), Err(NumberingError::WordTwice(_))));
    for bad in ["", "RC", "rc1", "é", "seventeenletterss"] {
        assert!(matches!(listing(&[bad], &[]), Err(NumberingError::NotAWord(_))), "{bad}");
    }
    assert!(matches!(
        Words::new(
            (0..33u8).map(|i| format!("a{}", char::from(b'a' + i % 26)).repeat(1 + usize::from(i / 26))).collect(),
            Vec::new()
        ),
        Err(NumberingError::TooManyWords(_))
    ));
}

#[test]
fn lines_follow_the_declared_position() {
    let default = Numbering::default();
    assert!(default.is_same_line(&semver("1.2.3"), &semver("1.9.0")));
    assert!(!default.is_same_line(&semver("0.2.3"), &semver("0.3.0")));
    assert!(!default.is_same_line(&semver("0.2.3"), &semver("1.2.3")));
    assert!(!default.is_same_line(&semver("0.0.3"), &semver("0.0.4")));
    let second = Numbering::new(Order::words(), Some(2)).unwrap();
    assert!(second.is_same_line(&words("1.2"), &words("1.2.7")));
    assert!(!second.is_same_line(&words("1.2"), &words("1.3")));
    let never = Numbering::new(Order::Semver, Some(0)).unwrap();
    assert!(never.is_same_line(&semver("1.0.0"), &semver("9.0.0")));
    assert!(Numbering::new(Order::Semver, Some(4)).is_err());
}

#[test]
fn refusals_offer_what_would_work() {
    for (bad, good) in
        [("1.4", "1.4.0"), ("v2.0.0", "2.0.0"), ("01.2.3", "1.2.3"), ("1", "1.0.0"), ("1.2-rc.1", "1.2.0-rc.1")]
    {
        assert_eq!(Version::parse(bad, &Order::Semver).unwrap_err().suggestion.as_deref(), Some(good));
    }
    assert_eq!(Version::parse("abc", &Order::Semver).unwrap_err().suggestion, None);
}

/// Any version, but for a word after `dev`, which is refused.
fn any_version() -> impl Strategy<Value = Version> {
    prop_oneof![
        "[0-3]\\.[0-3]\\.[0-3](-(0|1|alpha|rc)(\\.(0|2|b))?)?".prop_map(|t| semver(&t)),
        "[0-3](\\.[0-3]){0,3}([-.](rc|alpha|sp)[0-2]?){0,2}(-dev[0-2]?)?".prop_map(|t| words(&t)),
    ]
}

#[test]
fn a_line_of_nothing_but_zeros_has_three_positions() {
    let numbering = Numbering::default();
    let line = |text: &str| numbering.line_name(&numbering.parse_version(text).unwrap());
    assert_eq!(["0.0.0", "0.0.3", "0.9.1", "2.1.0"].map(line), ["0.0.0.x", "0.0.3.x", "0.9.x", "2.x"]);
}

proptest! {
    #[test]
    fn any_text_is_a_version_or_an_error(text in "\\PC{0,20}") {
        for order in [Order::Semver, Order::words()] {
            let _ = Version::parse(&text, &order);
        }
    }

    #[test]
    fn the_order_is_total(a in any_version(), b in any_version(), c in any_version()) {
        prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
        if a <= b && b <= c {
            prop_assert!(a <= c);
        }
    }

    #[test]
    fn a_core_stands_just_above_its_pre_releases(v in any_version()) {
        let core = v.to_core();
        prop_assert!(!core.is_pre_release());
        prop_assert_eq!(v.is_pre_release(), v < core);
        prop_assert!(core.to_lowest_pre_release() <= v);
        if let Some(next) = v.successor() {
            prop_assert!(v < next);
        }
        prop_assert!(v < v.raised_at(2));
    }
}
