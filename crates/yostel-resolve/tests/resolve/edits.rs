//! The edits that end a collision, against trying every edit.

use proptest::prelude::*;
use yostel_documents::Requirement;
use yostel_resolve::{EditSet, Outcome, Resolver, WishEdit};
use yostel_testkit::any::any_world;
use yostel_testkit::{World, brute_force};
use yostel_versions::Accept;

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
        WishEdit::Change { wish, accept } => format!("{} {}>{accept}", wish.package, wish.accept),
        WishEdit::Drop { wish } => format!("drop {}", wish.package),
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

/// Smallest number of wishes to touch, by trying every subset, each of its wishes freed or dropped.
fn fewest_touched(world: &World) -> Option<usize> {
    let wishes = &world.wishes;
    (0u32..1 << wishes.len())
        .filter(|set| {
            (0u32..1 << wishes.len()).filter(|drops| drops & !set == 0).any(|drops| {
                let mut trial = world.clone();
                trial.wishes = Vec::new();
                for (i, wish) in wishes.iter().enumerate() {
                    let (touched, dropped) = (set >> i & 1 == 1, drops >> i & 1 == 1);
                    if dropped {
                        continue;
                    }
                    let releases = trial.documents.get(&wish.package).map_or(&[][..], |d| &d.releases);
                    let any: Vec<String> = releases.iter().map(|r| format!("={}", r.version)).collect();
                    let accept = if touched { Accept::parse(&any.join(" || ")).unwrap() } else { wish.accept.clone() };
                    trial.wishes.push(Requirement { accept, ..wish.clone() });
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
            after.wishes = edit_set.wishes.clone();
            prop_assert_eq!(brute_force(&after, &after.problem(&[])), Some(edit_set.resolution.clone()));
            for i in 0..edit_set.edits.len() {
                // With one edit taken back there is no set: none of them is needless.
                let mut less = after.clone();
                let wish = edit_set.edits[i].wish();
                less.wishes.retain(|other| other.package != wish.package);
                less.wishes.push(wish.clone());
                prop_assert_eq!(brute_force(&less, &less.problem(&[])), None, "{}", text);
            }
        }
    }
}
