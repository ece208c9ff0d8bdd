//! The edits that end a collision, against trying every edit.

use proptest::prelude::*;
use yostel_documents::Requirement;
use yostel_resolve::{EditSet, Outcome, RequirementEdit, Resolver};
use yostel_testkit::any::any_world;
use yostel_testkit::{World, brute_force};
use yostel_versions::ConstraintText;

/// Steps a resolver to its end and returns the edit sets for its collision.
pub(crate) fn edit_sets_of(world: &World, keep: &[&str]) -> Vec<EditSet> {
    let mut resolver = Resolver::with_edits(world.problem(keep));
    match world.drive(&mut resolver, |answers| answers) {
        Ok(Outcome::Collision(_)) => resolver.edit_sets(50),
        _ => Vec::new(),
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

/// Smallest number of needs to touch, by trying every subset, each of its needs freed or dropped.
fn fewest_touched(world: &World) -> Option<usize> {
    let requirements = &world.requirements;
    (0u32..1 << requirements.len())
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
            prop_assert_eq!(Some(first.edits.len()), fewest_touched(&world), "{}", text);
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
}
