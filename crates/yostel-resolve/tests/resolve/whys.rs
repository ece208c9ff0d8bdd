//! Why a package is as it is, and proofs that there is no set.
//! The accidents this prevents: a reason that is not the reason; a refusal that nobody can check.

use jiff::Timestamp;
use proptest::prelude::*;
use yostel_documents::{Lockfile, PackageName};
use yostel_resolve::{Outcome, Reason, Resolver, Rules, Why, why};
use yostel_testkit::World;

fn lock(world: &World, keep: &[&str]) -> Lockfile {
    match world.resolve(keep).unwrap() {
        Outcome::Resolved(resolution) => resolution.to_lockfile(&world.requirements.clone().into()),
        other => panic!("{other:?}"),
    }
}

fn why_of(world: &World, keep: &[&str], package: &str, day: Option<i64>) -> Why {
    let by = day.map(|day| Timestamp::from_second(day * 86_400).unwrap());
    why(
        &lock(world, keep),
        &world.documents,
        &PackageName::parse(package).unwrap(),
        &Rules { published_by: by, ..Rules::default() },
    )
    .unwrap()
}

fn told(why: &Why) -> Vec<String> {
    let reason = |reason: &Reason| match reason {
        Reason::NotAccepted(holders) => {
            holders.iter().map(|h| format!("{} {}", h.who, h.accept)).collect::<Vec<_>>().join(" and ")
        }
        Reason::Withdrawn(withdrawal) => format!("withdrawn: {}", withdrawal.why),
        Reason::TooYoung(published, _) | Reason::PublishedLater(published) => {
            format!("day {}", published.as_second() / 86_400)
        }
        Reason::Unserved(platform) => format!("nothing for {platform}"),
        Reason::NeverMet(package) => format!("never met: {package}"),
        Reason::Accepted => "admitted".to_owned(),
    };
    why.newer.iter().map(|newer| format!("{} {}", newer.version, reason(&newer.reason))).collect()
}

#[test]
fn a_release_without_something_for_a_platform_says_for_which() {
    let world = World::parse("console: a *\n a 1.0.0\n a 2.0.0 for=linux/amd64:");
    let rules = Rules { platforms: ["linux/amd64".into(), "linux/arm64".into()].into(), ..Rules::default() };
    let lockfile = lock(&world, &["a 1.0.0"]);
    let why = why(&lockfile, &world.documents, &PackageName::parse("a").unwrap(), &rules).unwrap();
    assert_eq!(told(&why), ["2.0.0 nothing for linux/arm64"]);
}

#[test]
fn each_newer_release_has_its_own_reason() {
    let world = World::parse(
        "console: a <2.9, b *
         b 1.0.0: a ^2
         a 2.0.0 @1
         a 2.1.0 @2
         a 2.2.0 @3: gone ^7
         a 2.3.0 withdrawn @4
         a 2.4.0 @50
         a 2.9.0 @5
         a 3.0.0 @6
         gone 1.0.0",
    );
    let why = why_of(&world, &["a 2.0.0"], "a", Some(10));
    assert_eq!(
        told(&why),
        [
            "3.0.0 console <2.9 and b 1.0.0 ^2",
            "2.9.0 console <2.9",
            "2.4.0 day 50",
            "2.3.0 withdrawn: broken",
            "2.2.0 never met: gone",
            "2.1.0 admitted",
        ]
    );
    assert!(told(&why_of(&world, &[], "b", None)).is_empty(), "the newest has nothing above it");
    assert_eq!(
        yostel_resolve::why(&lock(&world, &[]), &world.documents, &PackageName::parse("x").unwrap(), &Rules::default()),
        None
    );
}

#[test]
fn ways_are_shortest_and_one_for_each_direct_need() {
    let world = World::parse(
        "console: top *, side *, deep *
         top 1.0.0: middle *, base *
         middle 1.0.0: base *
         side 1.0.0: middle *
         deep 1.0.0
         base 1.0.0: base *",
    );
    let ways: Vec<String> = why_of(&world, &[], "base", None)
        .ways
        .iter()
        .map(|way| way.iter().map(|(asker, _)| asker.to_string()).collect::<Vec<_>>().join(" > "))
        .collect();
    assert_eq!(ways, ["console > top 1.0.0", "console > side 1.0.0 > middle 1.0.0"]);
    assert_eq!(why_of(&world, &[], "deep", None).ways.len(), 1);
}

/// Steps a resolver to its end.
fn finished(world: &World) -> Option<(Resolver, Outcome)> {
    let mut resolver = Resolver::new(world.problem(&[]));
    let outcome = world.drive(&mut resolver, |answers| answers).ok()?;
    Some((resolver, outcome))
}

#[test]
fn a_problem_written_out_says_the_same_to_a_judge() {
    let world = World::parse("console: a *, b *\na 1.0.0: c ^1\nb 1.0.0: c ^2\nc 1.0.0\nc 2.0.0");
    let (mut resolver, outcome) = finished(&world).unwrap();
    assert!(matches!(outcome, Outcome::Collision(_)));
    let certificate = resolver.certificate().unwrap();
    assert_eq!(certificate.formula, resolver.formula());
    let names: Vec<&str> = certificate.formula.variables.lines().map(|line| line.split('\t').nth(2).unwrap()).collect();
    assert!(names.contains(&"c 2.0.0") && names.contains(&"a 1.0.0"), "{names:?}");
    let problem = yostel_check::parse_cnf(&certificate.formula.cnf).unwrap();
    assert!(yostel_check::check_proof(&problem, &certificate.proof, &[]).is_ok());
}

/// No clause says that by itself, so a checker that propagates does not see it unless the proof says so.
#[test]
fn a_proof_says_that_what_one_need_accepts_the_other_rules_out() {
    let world = World::parse(
        "console: a *, b *\na 1.0.0: c >=1.2\nb 1.0.0: c <1.2\nc 1.0.0\nc 1.1.0\nc 1.2.0\nc 1.3.0\nc 1.4.0: d *\nd 1.0.0",
    );
    let (mut resolver, _) = finished(&world).unwrap();
    let certificate = resolver.certificate().unwrap();
    let problem = yostel_check::parse_cnf(&certificate.formula.cnf).unwrap();
    assert!(yostel_check::check_proof(&problem, "0\n", &[]).is_err(), "it has to be said");
    assert!(yostel_check::check_proof(&problem, &certificate.proof, &[]).unwrap() > 0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn every_refusal_can_be_checked_and_nothing_solvable_is_certified(text in yostel_testkit::any::any_world()) {
        let world = World::parse(&text);
        let Some((mut resolver, outcome)) = finished(&world) else { return Ok(()) };
        let problem = yostel_check::parse_cnf(&resolver.formula().cnf).unwrap();
        match (outcome, resolver.certificate()) {
            (Outcome::Collision(_), Some(certificate)) => {
                prop_assert!(yostel_check::check_proof(&problem, &certificate.proof, &[]).is_ok());
            }
            (Outcome::Resolved(_), None) => {}
            (outcome, certificate) => prop_assert!(false, "{outcome:?} with {certificate:?}"),
        }
    }
}
