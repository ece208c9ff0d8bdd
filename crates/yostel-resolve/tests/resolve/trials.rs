//! Many problems tried by one resolver against a resolver made for each.
//! The accident this prevents: something that one trial found out and that is taken for true in the next.

use proptest::prelude::*;
use yostel_documents::{Asker, PackageName, Requirement, run_purpose};
use yostel_resolve::{Outcome, Problem, ResolveError, Resolver, Step};
use yostel_testkit::World;
use yostel_testkit::any::{any_coexist, any_keep, any_overrides, any_world};
use yostel_versions::ConstraintText;

/// What a trial, or a resolver of its own, comes to; why there is no set is not asked.
fn told(world: &World, resolver: &mut Resolver) -> String {
    let mut arrived = Vec::new();
    loop {
        match resolver.step(arrived) {
            Ok(Step::Need(wanted)) => arrived = world.answer(&wanted),
            Ok(Step::Going(yostel_resolve::Phase::Explaining)) => return "no set".to_owned(),
            Ok(Step::Going(_)) => arrived = Vec::new(),
            Ok(Step::Done(Outcome::Resolved(resolution))) => {
                let chosen = resolution.chosen.iter();
                return chosen.map(|(name, choice)| format!("{name} {} ", choice.release.version)).collect();
            }
            Ok(Step::Done(other)) => panic!("{other:?}"),
            Err(ResolveError::WrongAnswer(violations)) => panic!("{violations:?}"),
            Err(error) => return error.to_string(),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3_000))]

    #[test]
    fn each_trial_comes_to_what_it_would_come_to_alone(
        text in any_world(),
        keep in any_keep(),
        overrides in any_overrides(),
        coexist in any_coexist(),
        serve in any::<bool>(),
        attempt in prop::sample::select(vec![200, 1, 0]),
        wishes in prop::collection::vec((any::<prop::sample::Index>(), any::<prop::sample::Index>(), 0_usize..4), 1..9),
    ) {
        let world = World::parse(&text);
        let mut base = world.problem(&keep);
        base.rules.overrides = overrides;
        base.rules.coexist = coexist;
        if serve {
            base.rules.platforms = ["linux/amd64".to_owned(), "linux/arm64".to_owned()].into();
        }
        let mut resolver = Resolver::for_trials(base.keep.clone(), base.rules.clone());
        resolver.begin_attempts_with(attempt);
        let packages: Vec<&PackageName> = world.documents.keys().collect();
        for (package, release, left_out) in wishes {
            let package = packages[package.index(packages.len())];
            let releases = &world.documents[package].releases;
            let version = &releases[release.index(releases.len())].version;
            let mut requirements = base.requirements.clone();
            if left_out < requirements.len() {
                requirements.remove(left_out);
            }
            requirements.push(Requirement {
                asker: Asker::Project(PackageName::parse("console").unwrap()),
                purpose: run_purpose(),
                package: package.clone(),
                accept: ConstraintText::parse(&format!("={version}")).unwrap(),
            });
            resolver.try_with(requirements.clone());
            let tried = told(&world, &mut resolver);
            let alone = told(&world, &mut Resolver::new(Problem { requirements, ..base.clone() }));
            prop_assert_eq!(tried, alone, "{} {} in {}", package, version, text);
        }
    }
}

#[test]
fn all_trials_together_do_no_more_work_than_they_may() {
    let world = World::parse("console: a *, b *\na 1.0.0: b ^1\na 2.0.0: b ^2\nb 1.0.0\nb 2.0.0");
    let base = world.problem(&["a 1.0.0", "b 1.0.0"]);
    let mut resolver = Resolver::for_trials(base.keep.clone(), base.rules.clone());
    resolver.allow(5_000);
    let mut rounds = 0;
    while !resolver.is_worn_out() && rounds < 10_000 {
        // In turn: of one that was just answered nothing is left to do.
        let requirements = if rounds % 2 == 0 { &base.requirements[..] } else { &base.requirements[1..] };
        resolver.try_with(requirements.to_vec());
        let mut arrived = Vec::new();
        loop {
            match resolver.step(std::mem::take(&mut arrived)).unwrap() {
                Step::Need(wanted) => arrived = world.answer(&wanted),
                Step::Going(_) => {}
                Step::Done(Outcome::Resolved(_)) => break,
                // What it may do is done in the middle of a trial.
                Step::Done(other) => {
                    assert!(resolver.is_worn_out() && matches!(other, Outcome::Stopped(_)));
                    break;
                }
            }
        }
        rounds += 1;
    }
    assert!(resolver.is_worn_out() && rounds > 10, "{rounds}");
}
