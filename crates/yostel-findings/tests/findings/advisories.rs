//! Which releases an advisory affects, against the evaluation as the schema's page writes it down.
//! The accident this prevents: an advisory that everybody has read, and that the audit passes over.

use proptest::prelude::*;
use yostel_documents::{Affected, AffectedRange, RangeEvent, RangeKind, Severity};
use yostel_findings::{Rating, is_affected, severity_of};
use yostel_versions::{Numbering, Version};

const VERSIONS: [&str; 8] = ["0.0.0-alpha", "0.9.0", "1.0.0-rc.1", "1.0.0", "1.0.1", "1.2.0", "2.0.0", "10.0.0"];

fn version(text: &str) -> Version {
    Numbering::default().parse_version(text).unwrap()
}

/// The evaluation of the schema's page, line by line: events sorted by version, then one after the other.
fn as_the_page_says(affected: &Affected, text: &str) -> bool {
    let v = version(text);
    if affected.versions.iter().any(|named| named == text) {
        return true;
    }
    for range in &affected.ranges {
        if range.kind == RangeKind::Other {
            continue;
        }
        let limits: Vec<&String> =
            range.events.iter().filter_map(|e| if let RangeEvent::Limit(l) = e { Some(l) } else { None }).collect();
        let before_limits = limits.is_empty() || limits.iter().any(|l| *l == "*" || v < version(l));
        if !before_limits {
            continue;
        }
        let mut sorted: Vec<&RangeEvent> = range.events.iter().collect();
        let key = |event: &RangeEvent| match event {
            RangeEvent::Introduced(at) if at == "0" => None,
            RangeEvent::Introduced(at) | RangeEvent::Fixed(at) | RangeEvent::LastAffected(at) => Some(version(at)),
            RangeEvent::Limit(at) if at == "*" => None,
            RangeEvent::Limit(at) => Some(version(at)),
        };
        sorted.sort_by_key(|event| key(event));
        let mut vulnerable = false;
        for event in sorted {
            match event {
                RangeEvent::Introduced(at) if at == "0" || v >= version(at) => vulnerable = true,
                RangeEvent::Fixed(at) if v >= version(at) => vulnerable = false,
                RangeEvent::LastAffected(at) if v > version(at) => vulnerable = false,
                _ => {}
            }
        }
        if vulnerable {
            return true;
        }
    }
    false
}

fn any_affected() -> impl Strategy<Value = Affected> {
    let at = || prop::sample::select(&VERSIONS[..]).prop_map(str::to_owned);
    let event = prop_oneof![
        2 => Just(RangeEvent::Introduced("0".into())),
        4 => at().prop_map(RangeEvent::Introduced),
        4 => at().prop_map(RangeEvent::Fixed),
        3 => at().prop_map(RangeEvent::LastAffected),
        1 => at().prop_map(RangeEvent::Limit),
        1 => Just(RangeEvent::Limit("*".into())),
    ];
    let kind = prop_oneof![3 => Just(RangeKind::Semver), 2 => Just(RangeKind::Ecosystem), 1 => Just(RangeKind::Other)];
    let range = (kind, prop::collection::vec(event, 0..6)).prop_map(|(kind, events)| AffectedRange { kind, events });
    let versions = prop_oneof![3 => Just(Vec::new()), 1 => prop::collection::vec(at(), 0..3)];
    (prop::collection::vec(range, 0..3), versions).prop_map(|(ranges, versions)| Affected {
        package: None,
        severity: Vec::new(),
        ranges,
        versions,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20_000))]

    #[test]
    fn what_is_affected_is_what_the_page_of_the_schema_says(affected in any_affected()) {
        for text in VERSIONS {
            let said = is_affected(&affected, &Numbering::default(), &version(text));
            prop_assert_eq!(said, as_the_page_says(&affected, text), "{}", text);
        }
    }
}

#[test]
fn a_version_that_the_package_could_not_have_is_passed_over() {
    let events = vec![RangeEvent::Introduced("0".into()), RangeEvent::Fixed("when it is done".into())];
    let affected = Affected {
        package: None,
        severity: Vec::new(),
        ranges: vec![AffectedRange { kind: RangeKind::Ecosystem, events }],
        versions: vec!["never".into()],
    };
    assert!(is_affected(&affected, &Numbering::default(), &version("1.0.0")), "rather too much than too little");
}

#[test]
fn the_worst_score_that_is_known_counts_and_gives_the_word() {
    let vectors = [
        ("CVSS_V2", "AV:N/AC:L/Au:N/C:C/I:C/A:C", Rating::Critical, 10.0),
        ("CVSS_V3", "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", Rating::Critical, 9.8),
        ("CVSS_V3", "CVSS:3.0/AV:P/AC:H/PR:H/UI:R/S:U/C:L/I:N/A:N", Rating::Low, 1.6),
        ("CVSS_V4", "CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N", Rating::Critical, 9.3),
    ];
    let of = |method: &str, score: &str| Severity { method: method.into(), score: score.into() };
    for (method, vector, rating, score) in vectors {
        assert_eq!(severity_of(&[of(method, vector)]), Some((rating, score)), "{vector}");
        assert_eq!(severity_of(&[of(method, vector), of("LATER", "9"), of(method, "no")]), Some((rating, score)));
    }
    let all: Vec<Severity> = vectors.iter().map(|(method, vector, ..)| of(method, vector)).collect();
    assert_eq!(severity_of(&all), Some((Rating::Critical, 10.0)));
    assert_eq!(severity_of(&[of("CVSS_V3", "CVSS:3.1/AV:Q")]), None);
    assert_eq!(severity_of(&[]), None);
}
