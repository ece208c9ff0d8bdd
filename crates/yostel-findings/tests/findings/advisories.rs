//! Which releases an advisory affects, against the evaluation as the schema's page writes it down.
//! The accident this prevents: an advisory that everybody has read, and that the audit passes over.

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_documents::{Affected, AffectedRange, RangeEvent, RangeKind, Severity};
use yostel_findings::{Ancestry, AtCommit, Rating, is_affected, is_commit_affected, severity_of};
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
    let range = (kind, prop::collection::vec(event, 0..6)).prop_map(|(kind, events)| AffectedRange {
        kind,
        repo: None,
        events,
    });
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

/// A history: of each commit, by its place, the parents, which are all before it.
fn any_history() -> impl Strategy<Value = Vec<Vec<usize>>> {
    let parents = prop::collection::vec(prop::collection::vec(any::<prop::sample::Index>(), 0..3), 2..9);
    parents.prop_map(|all| {
        let of = |(at, parents): (usize, Vec<prop::sample::Index>)| match at {
            0 => Vec::new(),
            _ => parents.iter().map(|parent| parent.index(at)).collect(),
        };
        all.into_iter().enumerate().map(of).collect()
    })
}

/// Whether a commit can be walked to from another, from parents to children.
fn leads_to(history: &[Vec<usize>], from: usize, to: usize) -> bool {
    from == to || history[to].iter().any(|parent| leads_to(history, from, *parent))
}

fn commit(at: usize) -> String {
    format!("{at:040x}")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20_000))]

    /// By marks that are handed down the history: whoever introduced the matter gives its mark to all that come later, and
    /// an end takes away all marks that reach it, from itself and from all that come later.
    #[test]
    fn a_range_of_commits_follows_the_history(
        history in any_history(),
        kinds in prop::collection::vec((0..3_u8, any::<prop::sample::Index>()), 0..5),
        from_the_start in any::<bool>(),
    ) {
        let count = history.len();
        let mut events: Vec<RangeEvent> = kinds
            .iter()
            .map(|(kind, at)| (kind, commit(at.index(count))))
            .map(|(kind, at)| match kind {
                0 => RangeEvent::Introduced(at),
                1 => RangeEvent::Fixed(at),
                _ => RangeEvent::LastAffected(at),
            })
            .collect();
        events.extend(from_the_start.then(|| RangeEvent::Introduced("0".into())));
        let starts: Vec<Option<usize>> = events
            .iter()
            .filter_map(|event| match event {
                RangeEvent::Introduced(at) if at == "0" => Some(None),
                RangeEvent::Introduced(at) => Some(Some((0..count).find(|place| commit(*place) == *at).unwrap())),
                _ => None,
            })
            .collect();
        let is_affected = |at: usize| starts.iter().any(|start| {
            let reaches = start.is_none_or(|start| leads_to(&history, start, at));
            let ended = (0..count).any(|end| {
                let is_end = |event: &RangeEvent| match event {
                    RangeEvent::Fixed(fixed) => *fixed == commit(end) && leads_to(&history, end, at)
                        && !start.is_some_and(|start| leads_to(&history, end, start)),
                    RangeEvent::LastAffected(last) => *last == commit(end) && end != at && leads_to(&history, end, at)
                        && !start.is_some_and(|start| end != start && leads_to(&history, end, start)),
                    _ => false,
                };
                events.iter().any(is_end)
            });
            reaches && !ended
        });
        let mut ancestry = Ancestry::default();
        for at in 0..count {
            let before = (0..count).filter(|other| *other != at && leads_to(&history, *other, at)).map(commit);
            ancestry.insert(commit(at), before.collect::<BTreeSet<String>>());
        }
        let repo = Some("https://example.org/a.git".to_owned());
        let ranges = vec![AffectedRange { kind: RangeKind::Git, repo, events: events.clone() }];
        let affected = Affected { package: None, severity: Vec::new(), ranges, versions: vec!["v1".into()] };
        for at in 0..count {
            let commit = commit(at);
            let here = |repository, tag| AtCommit { repository, commit: &commit, tag, ancestry: &ancestry };
            let said = is_commit_affected(&affected, &here("example.org/a", None));
            prop_assert_eq!(said, is_affected(at), "{} of {:?} by {:?}", at, &history, &events);
            prop_assert!(is_commit_affected(&affected, &here("example.org/a", Some("v1"))));
            prop_assert!(!is_commit_affected(&affected, &here("example.org/b", None)));
        }
    }
}

#[test]
fn a_version_that_the_package_could_not_have_is_passed_over() {
    let events = vec![RangeEvent::Introduced("0".into()), RangeEvent::Fixed("when it is done".into())];
    let affected = Affected {
        package: None,
        severity: Vec::new(),
        ranges: vec![AffectedRange { kind: RangeKind::Ecosystem, repo: None, events }],
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
