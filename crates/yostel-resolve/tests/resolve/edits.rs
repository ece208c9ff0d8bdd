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

/// How far a need is touched: as it is, any release, any version, not there.
const TOUCHES: usize = 4;

/// Needs dropped, packages of which a pre-release is accepted, edits.
type Rank = (usize, usize, usize);

fn rank(edit_set: &EditSet) -> Rank {
    let drops = edit_set.edits.iter().filter(|edit| matches!(edit, RequirementEdit::Drop { .. })).count();
    (drops, edit_set.pre_releases.len(), edit_set.edits.len())
}

/// The best set of needs to touch, of those with up to three edits more than the fewest: by trying every way to touch those
/// that may be.
fn best_rank(world: &World, may: &dyn Fn(&Requirement) -> bool) -> Option<Rank> {
    let requirements = &world.requirements;
    let any = ["*", "* || =2.0.0-rc.1"].map(|text| ConstraintText::parse(text).unwrap());
    let mut ranks: Vec<Rank> = Vec::new();
    for way in 0..TOUCHES.pow(u32::try_from(requirements.len()).unwrap()) {
        let touches: Vec<usize> =
            (0..requirements.len()).map(|i| way / TOUCHES.pow(u32::try_from(i).unwrap()) % TOUCHES).collect();
        if requirements.iter().zip(&touches).any(|(requirement, touch)| *touch > 0 && !may(requirement)) {
            continue;
        }
        let mut trial = world.clone();
        let touched = requirements.iter().zip(&touches).filter_map(|(requirement, touch)| match touch {
            0 => Some(requirement.clone()),
            3 => None,
            open => {
                let accept = any[*open - 1].where_counts(&requirement.accept);
                Some(Requirement { accept, ..requirement.clone() })
            }
        });
        trial.requirements = touched.collect();
        if brute_force(&trial, &trial.problem(&[])).is_some() {
            let count = |how: usize| touches.iter().filter(|touch| **touch == how).count();
            ranks.push((count(3), count(2), requirements.len() - count(0)));
        }
    }
    let fewest = ranks.iter().map(|(.., edits)| *edits).min()?;
    ranks.into_iter().filter(|(.., edits)| *edits <= fewest + 3).min()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn the_smallest_edit_sets_are_those_of_trying_every_edit(text in any_world()) {
        let world = World::parse(&text);
        let edit_sets = edit_sets_of(&world, &[]);
        if let Some(first) = edit_sets.first() {
            prop_assert_eq!(Some(rank(first)), best_rank(&world, &|_| true), "{}", text);
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
        let best = best_rank(&world, &|requirement| requirement.package != chosen.package);
        prop_assert_eq!(without.first().map(rank), best, "{}", text);
        let touches = |edit_set: &EditSet| edit_set.edits.iter().any(|edit| edit.requirement().package == chosen.package);
        prop_assert!(!without.iter().any(touches));
        let last = edit_sets_by(&world, &[], &wished).unwrap();
        let first_that_touches = last.iter().position(|edit_set| wished.touch_a_wish(&edit_set.edits)).unwrap_or(last.len());
        prop_assert!(last[first_that_touches..].iter().all(|edit_set| wished.touch_a_wish(&edit_set.edits)), "{}", text);
        let best = best_rank(&world, &|requirement| *requirement != chosen);
        let before = &last[..first_that_touches];
        prop_assert_eq!(before.first().map(rank), best, "{}", text);
    }
}
