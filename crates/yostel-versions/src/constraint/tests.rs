//! Interval algebra against plain membership over a universe of versions.
//! The accident this prevents: a constraint that accepts a version its text does not, or the reverse.

use proptest::prelude::*;

use super::set::Side;
use super::*;

fn bind(text: &str) -> Constraint {
    ConstraintText::parse(text).unwrap().bind(&Numbering::default()).unwrap()
}

fn bind_words(text: &str) -> Constraint {
    ConstraintText::parse(text).unwrap().bind(&Numbering::new(Order::words(), None).unwrap()).unwrap()
}

fn v(text: &str) -> Version {
    Version::parse(text, &Order::Semver).unwrap()
}

#[test]
fn each_sign_means_what_the_page_says() {
    let cases = [
        ("=1.4.2", "1.4.2", "1.4.1 1.4.3 1.4.2-rc.1"),
        ("!=1.4.2", "1.4.1 1.4.3", "1.4.2 1.4.2-rc.1"),
        (">1.4.2", "1.4.3 2.0.0", "1.4.2 1.4.1 2.0.0-rc.1"),
        (">=2.1, <3", "2.1.0 2.9.9", "2.0.9 3.0.0 3.0.0-rc.1 2.5.0-rc.1"),
        ("<=1.4.2", "1.4.2 0.0.1", "1.4.3"),
        ("^1.2", "1.2.0 1.9.0", "1.1.9 2.0.0 2.0.0-rc.1"),
        ("^0.2.3", "0.2.3 0.2.9", "0.3.0 0.2.2 1.0.0"),
        ("^0.0.3", "0.0.3", "0.0.4"),
        ("1.4.*", "1.4.0 1.4.99", "1.5.0 1.3.9 1.4.0-rc.1"),
        ("*", "0.0.1 9.0.0", "1.0.0-rc.1"),
        ("^1 || ^3", "1.5.0 3.0.0", "2.0.0 4.0.0"),
        (">=2.0.0-rc.2", "2.0.0-rc.2 2.0.0-rc.10 2.0.0 3.0.0", "2.0.0-rc.1 3.0.0-rc.1"),
        ("^2.0.0-rc.2", "2.0.0-rc.2 2.4.0", "2.4.0-rc.1 3.0.0-rc.1 3.0.0"),
    ];
    for (text, accepted, refused) in cases {
        let constraint = bind(text);
        for version in accepted.split_whitespace() {
            assert!(constraint.accepts(&v(version)), "{text} should accept {version}");
        }
        for version in refused.split_whitespace() {
            assert!(!constraint.accepts(&v(version)), "{text} should refuse {version}");
        }
    }
}

#[test]
fn between_two_cuts_at_one_place_there_is_nothing() {
    let cut = Cut::At(v("1.0.0"), Side::Before);
    assert!(VersionSet::between(cut.clone(), cut.clone()).is_empty());
    assert_eq!(VersionSet::between(cut.clone(), cut), VersionSet::empty());
}

#[test]
fn a_caret_follows_the_numbering_of_the_package() {
    let accept = ConstraintText::parse("^1.2.3").unwrap();
    let at = |breaks_at| accept.bind(&Numbering::new(Order::Semver, breaks_at).unwrap()).unwrap();
    assert!(!at(Some(2)).accepts(&v("1.3.0")) && at(Some(2)).accepts(&v("1.2.9")));
    assert!(at(Some(0)).accepts(&v("9.0.0")));
    let words = bind_words("^1.2");
    let w = |t| Version::parse(t, &Order::words()).unwrap();
    assert!(
        words.accepts(&w("1.2-sp1"))
            && words.accepts(&w("1.10"))
            && !words.accepts(&w("2"))
            && !words.accepts(&w("1.2-rc1"))
    );
    assert!(bind_words(">=1.2-rc1").accepts(&w("1.2-rc2")) && !bind_words(">=1.2-rc1").accepts(&w("1.3-rc2")));
}

#[test]
fn what_people_misread_is_refused_with_the_readings() {
    let problem = |text: &str| ConstraintText::parse(text).unwrap_err().problem;
    assert_eq!(problem("1.4.2"), ConstraintProblem::BareVersion { readings: ["=1.4.2".into(), "^1.4.2".into()] });
    assert_eq!(problem("1.4"), ConstraintProblem::BareVersion { readings: ["1.4.*".into(), "^1.4".into()] });
    assert_eq!(problem("2-rc"), ConstraintProblem::BareVersion { readings: ["=2-rc".into(), "^2-rc".into()] });
    assert_eq!(problem("~1.4.2"), ConstraintProblem::Tilde { range: ">=1.4.2, <1.5".into() });
    assert_eq!(problem("~>2"), ConstraintProblem::Tilde { range: ">=2, <3".into() });
    assert_eq!(problem(">=1, "), ConstraintProblem::Missing);
    assert_eq!(problem(""), ConstraintProblem::Missing);
    assert_eq!(problem(">=1 <2"), ConstraintProblem::MissingComma);
    assert_eq!(problem(">=1 | <2"), ConstraintProblem::SingleBar);
    assert_eq!(problem(">=1.*"), ConstraintProblem::MisplacedStar);
    assert_eq!(problem("1.*.2"), ConstraintProblem::MisplacedStar);
    for text in ["1..*", "1..2.*", "1.x.*", "rc.*", "1.2-rc.*"] {
        assert_eq!(problem(text), ConstraintProblem::MisplacedStar, "{text}");
    }
    assert_eq!(problem("=>1.0"), ConstraintProblem::UnknownSign("=>".into()));
    assert_eq!(problem(">="), ConstraintProblem::MissingVersion(">="));
    assert_eq!(problem(">=é"), ConstraintProblem::UnknownSign(">=é".into()));
    assert_eq!(problem("latest"), ConstraintProblem::NotAVersion);
    assert_eq!(ConstraintText::parse(">=1, <2, 3.0").unwrap_err().span, 9..12);
}

#[test]
fn positions_left_out_are_refused_where_they_can_be_read_in_two_ways() {
    for (text, first, second) in [
        ("=1.4", "=1.4.0", "1.4.*"),
        (">1.4", ">1.4.0", ">=1.5.0"),
        ("<=1.4", "<=1.4.0", "<1.5.0"),
        ("!=1", "!=1.0.0", "<1.0.0 || >=2.0.0"),
    ] {
        match ConstraintText::parse(text).unwrap().bind(&Numbering::default()) {
            Err(BindError::Partial { readings, .. }) => assert_eq!(readings, [first, second]),
            other => panic!("{text}: {other:?}"),
        }
    }
}

#[test]
fn printing_is_canonical_and_words_say_the_same() {
    for (text, printed, words) in [
        ("^2.1", ">=2.1.0, <3.0.0", "at least 2.1.0 and below 3.0.0"),
        ("=1.0.0", "=1.0.0", "exactly 1.0.0"),
        (">1.4.2, <=1.5.0", ">=1.4.3, <1.5.1", "at least 1.4.3 and below 1.5.1"),
        ("*", "*", "every release"),
        (">=1 || ^1", ">=1.0.0", "at least 1.0.0"),
        ("^2.0.0-rc.2", ">=2.0.0-rc.2, <3.0.0", "at least 2.0.0 and below 3.0.0, or pre-releases of 2.0.0"),
        (">=2.1, <1 || =3.0.0", "=3.0.0", "exactly 3.0.0"),
        (">=2, <1", "nothing", "nothing at all"),
    ] {
        let constraint = bind(text);
        assert_eq!(constraint.to_string(), printed, "{text}");
        assert_eq!(constraint.to_words(), words, "{text}");
    }
}

fn universe() -> Vec<Version> {
    let mut all = Vec::new();
    for major in 0..3 {
        for minor in 0..3 {
            for patch in 0..3 {
                for pre in ["-0", "-0.0", "-0.1", "-a", "-a.0", "-a.1", "-b", "-b.0", "-b.1", ""] {
                    all.push(v(&format!("{major}.{minor}.{patch}{pre}")));
                }
            }
        }
    }
    all
}

/// A constraint text with, beside it, what its words mean said a second time, directly.
fn any_text() -> impl Strategy<Value = String> {
    let version = "[0-2]\\.[0-2]\\.[0-2](-(a|b|0)(\\.[01])?)?";
    let comparator =
        (prop_oneof![Just("="), Just("!="), Just(">"), Just(">="), Just("<"), Just("<="), Just("^")], version)
            .prop_map(|(sign, version)| format!("{sign}{version}"));
    let comparator = prop_oneof![8 => comparator, 1 => "[0-2](\\.[0-2])?\\.\\*", 1 => Just("*".to_owned())];
    prop::collection::vec(prop::collection::vec(comparator, 1..4).prop_map(|g| g.join(", ")), 1..4)
        .prop_map(|groups| groups.join(" || "))
}

/// The naive twin: each comparator judged by comparing versions, with no interval in sight.
fn naive(text: &str, version: &Version) -> bool {
    text.split("||").any(|group| {
        let comparators: Vec<&str> = group.split(',').map(str::trim).collect();
        let holds = comparators.iter().all(|c| {
            if *c == "*" {
                return true;
            }
            if let Some(prefix) = c.strip_suffix(".*") {
                return format!("{}.", version.to_core()).starts_with(&format!("{prefix}."));
            }
            let (sign, rest) = c.split_at(c.find(|ch: char| ch.is_ascii_digit()).unwrap());
            let at = v(rest);
            match sign {
                "=" => *version == at,
                "!=" => *version != at,
                ">" => *version > at,
                ">=" => *version >= at,
                "<" => *version < at,
                "<=" => *version <= at,
                _ => {
                    // A pre-release of the first version of the next line is below it but is not on the line.
                    let numbering = Numbering::default();
                    *version >= at && (version.to_core() == at.to_core() || numbering.is_same_line(&at, version))
                }
            }
        });
        let named = comparators.iter().any(|c| {
            let digits = c.trim_start_matches(|ch: char| !ch.is_ascii_digit());
            c.contains('-') && v(digits).to_core() == version.to_core()
        });
        holds && (!version.is_pre_release() || named)
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn membership_is_what_the_comparators_say(text in any_text()) {
        let constraint = bind(&text);
        for version in universe() {
            prop_assert_eq!(constraint.accepts(&version), naive(&text, &version), "{} {}", text, version);
        }
    }

    #[test]
    fn algebra_is_exact(a in any_text(), b in any_text(), c in any_text()) {
        let (a, b, c) = (bind(&a), bind(&b), bind(&c));
        for version in universe() {
            let (in_a, in_b) = (a.accepts(&version), b.accepts(&version));
            prop_assert_eq!(a.intersection(&b).accepts(&version), in_a && in_b);
            prop_assert_eq!(a.union(&b).accepts(&version), in_a || in_b);
            prop_assert_eq!(a.complement().accepts(&version), !in_a);
        }
        prop_assert_eq!(a.complement().complement(), a.clone());
        prop_assert_eq!(a.union(&b).complement(), a.complement().intersection(&b.complement()));
        prop_assert_eq!(a.union(&b).intersection(&c), a.intersection(&c).union(&b.intersection(&c)));
        prop_assert_eq!(a.union(&b), b.union(&a));
        prop_assert!(a.intersection(&b).is_subset(&a) && a.is_subset(&a.union(&b)));
        prop_assert_eq!(a.is_subset(&b) && b.is_subset(&a), a == b);
        prop_assert!(a.intersection(&a.complement()).is_empty());
    }

    #[test]
    fn a_subset_is_one_by_membership(a in any_text(), b in any_text()) {
        let (a, b) = (bind(&a), bind(&b));
        // Bounds of these texts have components up to 2, so versions up to 4 tell any two apart.
        let mut wide = universe();
        for n in ["0.0.3", "0.3.0", "1.0.3", "1.1.3", "1.2.3", "1.3.0", "2.2.3", "2.3.0", "3.0.0", "4.0.0", "0.1.3", "0.2.3", "2.0.3", "2.1.3"] {
            wide.push(v(n));
        }
        for version in universe() {
            for tail in [".0", ".0.0"] {
                if version.is_pre_release() {
                    wide.push(v(&format!("{version}{tail}")));
                }
            }
        }
        let by_members = wide.iter().all(|x| !a.accepts(x) || b.accepts(x));
        prop_assert_eq!(a.is_subset(&b), by_members);
    }

    #[test]
    fn printed_constraints_read_back_as_themselves(text in any_text()) {
        let constraint = bind(&text);
        if !constraint.is_empty() {
            prop_assert_eq!(bind(&constraint.to_string()), constraint);
        }
        let accept = ConstraintText::parse(&text).unwrap();
        prop_assert_eq!(ConstraintText::parse(accept.as_str()).unwrap(), accept);
    }

    #[test]
    fn words_algebra_agrees_with_membership(
        a in "(>|>=|<|<=|=|!=|\\^)[0-2](\\.[0-2])?(-(rc|sp)[12])?( \\|\\| (>|<=)[0-2]-rc1)?",
        b in "(>|>=|<|<=|=|!=|\\^)[0-2](\\.[0-2])?(-(rc|sp)[12])?",
    ) {
        let (a, b) = (bind_words(&a), bind_words(&b));
        for text in ["0", "0.1", "0-rc1", "1-rc1", "1-rc1.1", "1-rc2", "1", "1-sp1", "1-sp2", "1.0.1", "1.1", "1.2-rc1", "2-rc2", "2", "2.2", "3"] {
            let version = Version::parse(text, &Order::words()).unwrap();
            prop_assert_eq!(a.intersection(&b).accepts(&version), a.accepts(&version) && b.accepts(&version));
            prop_assert_eq!(a.complement().accepts(&version), !a.accepts(&version));
        }
        if !a.is_empty() {
            prop_assert_eq!(bind_words(&a.to_string()), a);
        }
    }

    #[test]
    fn any_text_is_a_constraint_or_an_error_with_its_place(text in "\\PC{0,24}|[0-9.<>=!^~*|, a-c-]{0,24}") {
        match ConstraintText::parse(&text) {
            Ok(accept) => { let _ = accept.bind(&Numbering::default()); }
            Err(error) => prop_assert!(text.get(error.span.clone()).is_some(), "{:?}", error.span),
        }
    }
}
