//! The edits that end a collision, against trying every edit.

use proptest::prelude::*;
use yostel_documents::Requirement;
use yostel_resolve::{EditRules, EditSet, Outcome, RequirementEdit, Resolver};
use yostel_testkit::any::any_world;
use yostel_testkit::{World, brute_force};
use yostel_versions::ConstraintText;

/// Steps a resolver to its end and returns the edit sets for its collision.
pub(crate) fn edit_sets_of(world: &World, keep: &[&str]) -> Vec<EditSet> {
    edit_sets_by(world, keep, &EditRules::any(50)).unwrap_or_default()
}

/// The same, by rules; nothing when there is no collision.
fn edit_sets_by(world: &World, keep: &[&str], rules: &EditRules) -> Option<Vec<EditSet>> {
    let mut resolver = Resolver::with_edits(world.problem(keep));
    match world.drive(&mut resolver, |answers| answers) {
        Ok(Outcome::Collision(_)) => Some(resolver.edit_sets(rules)),
        _ => None,
    }
}

pub(crate) fn told(edit_set: &EditSet) -> String {
    let edits = edit_set.edits.iter().map(|edit| match edit {
        RequirementEdit::Change { requirement, accept } => {
            format!("{} {}>{accept}", requirement.package, requirement.accept)
        }
        RequirementEdit::Drop { requirement } => format!("drop {}", requirement.package),
    });
    format!("{} ({} move)", edits.collect::<Vec<_>>().join(", "), edit_set.moved)
}

#[test]
fn edit_sets_come_smallest_first_and_change_before_they_drop() {
    let world = World::parse(
        "console: gust ^2, cable ^3, clock *
         gust 1.0.0
         gust 2.0.0: unit ^1
         cable 2.0.0: unit ^3
         cable 3.0.0: unit ^2
         clock 1.0.0
         unit 1.0.0
         unit 2.0.0
         unit 3.0.0",
    );
    let edit_sets: Vec<String> = edit_sets_of(&world, &["gust 2.0.0", "unit 1.0.0"]).iter().map(told).collect();
    assert_eq!(edit_sets, ["gust ^2>^1.0.0 (2 move)", "drop cable (0 move)"]);
}

/// Smallest number of needs to touch, by trying every subset of those that may be, each of its needs freed or dropped.
fn fewest_touched(world: &World, may: &dyn Fn(&Requirement) -> bool) -> Option<usize> {
    let requirements = &world.requirements;
    let held: u32 = (0..requirements.len()).filter(|i| !may(&requirements[*i])).map(|i| 1 << i).sum();
    (0u32..1 << requirements.len())
        .filter(|set| set & held == 0)
        .filter(|set| {
            (0u32..1 << requirements.len()).filter(|drops| drops & !set == 0).any(|drops| {
                let mut trial = world.clone();
                trial.requirements = Vec::new();
                for (i, requirement) in requirements.iter().enumerate() {
                    let (touched, dropped) = (set >> i & 1 == 1, drops >> i & 1 == 1);
                    if dropped {
                        continue;
                    }
                    let releases = trial.documents.get(&requirement.package).map_or(&[][..], |d| &d.releases);
                    let any: Vec<String> = releases.iter().map(|r| format!("={}", r.version)).collect();
                    let accept = if touched {
                        ConstraintText::parse(&any.join(" || ")).unwrap()
                    } else {
                        requirement.accept.clone()
                    };
                    trial.requirements.push(Requirement { accept, ..requirement.clone() });
                }
                brute_force(&trial, &trial.problem(&[])).is_some()
            })
        })
        .map(u32::count_ones)
        .min()
        .map(|n| n as usize)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn the_smallest_edit_sets_are_those_of_trying_every_edit(text in any_world()) {
        let world = World::parse(&text);
        let edit_sets = edit_sets_of(&world, &[]);
        if let Some(first) = edit_sets.first() {
            prop_assert_eq!(Some(first.edits.len()), fewest_touched(&world, &|_| true), "{}", text);
        }
        for edit_set in &edit_sets {
            let mut after = world.clone();
            after.requirements = edit_set.requirements.clone();
            prop_assert_eq!(brute_force(&after, &after.problem(&[])), Some(edit_set.resolution.clone()));
            for i in 0..edit_set.edits.len() {
                // With one edit taken back there is no set: none of them is needless.
                let mut less = after.clone();
                let requirement = edit_set.edits[i].requirement();
                less.requirements.retain(|other| other.package != requirement.package);
                less.requirements.push(requirement.clone());
                prop_assert_eq!(brute_force(&less, &less.problem(&[])), None, "{}", text);
            }
        }
    }

    /// What is kept is never touched, and what is wished only after everything else; both against trying every edit.
    #[test]
    fn kept_needs_stay_and_wished_ones_give_way_last(text in any_world(), at in any::<prop::sample::Index>()) {
        let world = World::parse(&text);
        prop_assume!(!world.requirements.is_empty());
        let chosen = at.get(&world.requirements).clone();
        let kept = EditRules { kept: [chosen.package.clone()].into(), ..EditRules::any(50) };
        let wished = EditRules { wished: [chosen.clone()].into(), ..EditRules::any(50) };
        let Some(without) = edit_sets_by(&world, &[], &kept) else { return Ok(()) };
        let fewest = fewest_touched(&world, &|requirement| requirement.package != chosen.package);
        prop_assert_eq!(without.first().map(|edit_set| edit_set.edits.len()), fewest, "{}", text);
        let touches = |edit_set: &EditSet| edit_set.edits.iter().any(|edit| edit.requirement().package == chosen.package);
        prop_assert!(!without.iter().any(touches));
        let last = edit_sets_by(&world, &[], &wished).unwrap();
        let first_that_touches = last.iter().position(|edit_set| wished.touches_wish(edit_set)).unwrap_or(last.len());
        prop_assert!(last[first_that_touches..].iter().all(|edit_set| wished.touches_wish(edit_set)), "{}", text);
        let fewest = fewest_touched(&world, &|requirement| *requirement != chosen);
        let before = &last[..first_that_touches];
        prop_assert_eq!(before.first().map(|edit_set| edit_set.edits.len()), fewest, "{}", text);
    }
}
