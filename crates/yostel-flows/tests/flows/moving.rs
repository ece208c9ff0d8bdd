//! Moving versions, judged by trying it in many worlds.

use std::fs;
use std::sync::atomic::{AtomicUsize, Ordering};

use proptest::prelude::*;
use yostel_documents::{Lockfile, PackageName};
use yostel_findings::CheckVerdict;
use yostel_flows::{
    Blamed, Context, CulpritRequest, Keep, LockRequest, Side, Sides, Silent, UpdateRequest, Write, culprit_by,
    load_project, lock, update,
};
use yostel_testkit::holds_in;
use yostel_versions::Version;

use crate::World;

/// A world of packages that each have two releases, of which some need others to have moved too; a project that needs them
/// all, locked to the older ones (good) and to the newer ones (bad).
struct Moved {
    world: World,
    names: Vec<PackageName>,
}

impl Moved {
    fn new(count: usize, needs: &[(usize, usize)]) -> Self {
        let mut text = format!("console: {}\n", (0..count).map(|i| format!("p{i} *")).collect::<Vec<_>>().join(", "));
        for i in 0..count {
            let of = needs.iter().map(|(a, b)| (a % count, b % count)).filter(|(a, b)| *a == i && a != b);
            let mut of: Vec<String> = of.map(|(_, b)| format!("p{b} ^2")).collect();
            of.sort();
            of.dedup();
            text.push_str(&format!("p{i} 1.0.0\np{i} 2.0.0: {}\n", of.join(", ")));
        }
        let content = yostel_testkit::World::parse(&text);
        let needs: Vec<String> = (0..count).map(|i| format!("p{i} = '*'")).collect();
        let world = World::new(&[], &needs.join("\n"));
        content.write_to(&world.path("station"));
        for (file, take) in [("good", yostel_documents::Take::Oldest), ("bad", yostel_documents::Take::Newest)] {
            let request = LockRequest { keep: Keep::Nothing, take: Some(take), ..LockRequest::default() };
            let settings = world.settings();
            let project = load_project(&world.path("console"), &settings).unwrap();
            lock(&project, request, &Context::new(&settings, &Silent)).unwrap();
            fs::copy(world.path("console/yostel.lock"), world.path(file)).unwrap();
        }
        let names = (0..count).map(|i| PackageName::parse(&format!("p{i}")).unwrap()).collect();
        Self { world, names }
    }

    /// Finds what makes a check fail; returns the packages, and how often the check was run.
    fn blamed(&self, at_once: usize, fails: impl Fn(&dyn Fn(usize) -> bool) -> bool + Sync) -> (Vec<usize>, usize) {
        let settings = self.world.settings();
        let project = load_project(&self.world.path("console"), &settings).unwrap();
        let runs = AtomicUsize::new(0);
        let check = |lockfile: &Lockfile, _| {
            runs.fetch_add(1, Ordering::Relaxed);
            let is_new = |i: usize| lockfile.chosen[&self.names[i]].version != first_version(lockfile, &self.names[i]);
            Ok(if fails(&is_new) { CheckVerdict::Fails } else { CheckVerdict::Passes })
        };
        let sides = ["good", "bad"].map(|file| Side::File(self.world.path(file)));
        let request = CulpritRequest { sides, at_once, question: None, resume: false };
        let report = culprit_by(&project, request, &check, &Context::new(&settings, &Silent)).unwrap();
        assert!(report.runs <= runs.load(Ordering::Relaxed));
        let Blamed::Moves { packages, .. } = report.blame else { panic!("{:?}", report.blame) };
        let at = |name: &PackageName| self.names.iter().position(|other| other == name).unwrap();
        let mut found: Vec<usize> = packages.iter().map(at).collect();
        found.sort_unstable();
        (found, report.runs)
    }
}

fn first_version(lockfile: &Lockfile, name: &PackageName) -> Version {
    lockfile.chosen[name].numbering.parse_version("1.0.0").unwrap()
}

#[test]
fn a_planted_culprit_is_found_in_few_runs() {
    let needs = || prop::collection::vec((0usize..40, 0usize..40), 0..6);
    holds_in(
        300,
        || (2usize..40, needs(), 0usize..40),
        |(count, needs, culprit)| {
            // Needs lead to later ones only, so nothing has to move together both ways.
            let needs: Vec<(usize, usize)> = needs.into_iter().filter(|(a, b)| a % count < b % count).collect();
            let (moved, culprit) = (Moved::new(count, &needs), culprit % count);
            let (found, runs) = moved.blamed(1, |is_new| is_new(culprit));
            prop_assert_eq!(found, vec![culprit]);
            let most = 2.0 * (count as f64).log2() + 4.0;
            prop_assert!(runs as f64 <= most, "{} runs among {}", runs, count);
            Ok(())
        },
    );
}

#[test]
fn two_moves_that_only_fail_together_are_both_found() {
    let moved = Moved::new(25, &[]);
    for (a, b) in [(0, 24), (3, 4), (11, 12), (7, 19)] {
        let (found, runs) = moved.blamed(1, |is_new| is_new(a) && is_new(b));
        assert_eq!(found, [a, b]);
        assert!(runs <= 20, "{runs}");
    }
}

#[test]
fn moves_that_cannot_be_parted_stay_together() {
    // Each of the two needs the other to have moved.
    let moved = Moved::new(9, &[(4, 5), (5, 4)]);
    let (found, _) = moved.blamed(1, |is_new| is_new(5));
    assert_eq!(found.len(), 1);
    assert!([4, 5].contains(&found[0]), "{found:?}");
}

/// What a lockfile holds, in the order of names.
fn versions(lockfile: &Lockfile) -> Vec<(PackageName, Version)> {
    lockfile.chosen.iter().map(|(name, locked)| (name.clone(), locked.version.clone())).collect()
}

/// A world of six packages with three releases each, of which some need others: package, release, other, constraint.
fn six_packages(needs: &[(usize, usize, usize, usize)]) -> String {
    let mut text = "console: p0 *, p1 *, p2 *\n".to_owned();
    for package in 0..6 {
        for (at, version) in ["1.0.0", "1.1.0", "2.0.0"].into_iter().enumerate() {
            let of = needs.iter().filter(|(a, v, b, _)| (*a, *v) == (package, at) && a != b);
            let mut of: Vec<(usize, &str)> =
                of.map(|(_, _, b, accept)| (*b, ["*", "^1", "^2", ">=1.1"][*accept])).collect();
            of.sort_unstable();
            of.dedup_by_key(|(b, _)| *b);
            let of: Vec<String> = of.iter().map(|(b, accept)| format!("p{b} {accept}")).collect();
            text.push_str(&format!("p{package} {version}: {}\n", of.join(", ")));
        }
    }

    text
}

#[test]
fn two_branches_that_updated_are_merged_the_same_whichever_is_ours() {
    let needs = || prop::collection::vec((0usize..6, 0usize..3, 0usize..6, 0usize..4), 0..10);
    let some = || prop::sample::subsequence(vec![0usize, 1, 2, 3, 4, 5], 0..=3);
    holds_in(
        2_000,
        || (needs(), some(), some()),
        |(needs, ours, theirs)| {
            let text = six_packages(&needs);
            let world = World::new(&[], "p0 = '*'\np1 = '*'\np2 = '*'");
            yostel_testkit::World::parse(&text).write_to(&world.path("station"));
            let settings = world.settings();
            let context = Context::new(&settings, &Silent);
            let project = || load_project(&world.path("console"), &settings).unwrap();
            let take = Some(yostel_documents::Take::Oldest);
            if lock(&project(), LockRequest { keep: Keep::Nothing, take, ..LockRequest::default() }, &context).is_err()
            {
                return Ok(());
            }
            let file = world.path("console/yostel.lock");
            let base = fs::read(&file).unwrap();
            let is_there = |lockfile: &Lockfile, i: &usize| {
                lockfile.chosen.contains_key(&PackageName::parse(&format!("p{i}")).unwrap())
            };
            let of_base = Lockfile::parse(std::str::from_utf8(&base).unwrap()).unwrap();
            let mut sides = Vec::new();
            for (name, side) in [("base", &[][..]), ("ours", &ours), ("theirs", &theirs)] {
                fs::write(&file, &base).unwrap();
                let packages = side.iter().filter(|i| is_there(&of_base, i));
                let packages: Vec<_> =
                    packages.map(|i| (PackageName::parse(&format!("p{i}")).unwrap(), None)).collect();
                if !packages.is_empty() {
                    update(
                        &project(),
                        &UpdateRequest { packages, ..UpdateRequest::of_everything(Write::File) },
                        &context,
                    )
                    .unwrap();
                }
                fs::copy(&file, world.path(name)).unwrap();
                sides.push(Lockfile::parse(&fs::read_to_string(&file).unwrap()).unwrap());
            }
            let merged = |sides: [&str; 3]| {
                let sides = sides.map(|side| world.path(side));
                let request =
                    LockRequest { merge: Some(Sides::Files(sides)), write: Write::Nothing, ..LockRequest::default() };
                versions(&lock(&project(), request, &context).unwrap().lockfile.unwrap())
            };
            let one = merged(["base", "ours", "theirs"]);
            prop_assert_eq!(&one, &merged(["base", "theirs", "ours"]), "{}", text);
            prop_assert_eq!(merged(["base", "ours", "ours"]), versions(&sides[1]));
            // Where either side alone moved something, that is the merge; and what both have stays, if all of that goes together.
            if sides[1] == sides[0] {
                prop_assert_eq!(&one, &versions(&sides[2]));
            }
            let picked = |name: &PackageName| -> Option<&Version> {
                let at = |side: usize| sides[side].chosen.get(name).map(|locked| &locked.version);
                match (at(0), at(1), at(2)) {
                    (base, ours, theirs) if ours == base => theirs,
                    (base, ours, theirs) if theirs == base => ours,
                    (_, ours, theirs) => ours.max(theirs),
                }
            };
            let all_as_picked = one.iter().all(|(name, version)| picked(name) == Some(version));
            let both = sides[1].chosen.iter().filter(|(name, locked)| {
                sides[2].chosen.get(name).is_some_and(|other| other.version == locked.version)
            });
            for (name, locked) in both {
                let there = one.iter().find(|(other, _)| other == name).map(|(_, version)| version);
                prop_assert!(
                    there.is_none_or(|version| *version == locked.version) || !all_as_picked,
                    "{name} in {text}"
                );
            }
            Ok(())
        },
    );
}

#[test]
fn several_tries_at_once_come_to_the_same() {
    let needs = || prop::collection::vec((0usize..24, 0usize..24), 0..4);
    let culprits = || prop::collection::btree_set(0usize..24, 1..=2);
    holds_in(
        60,
        || (2usize..24, needs(), culprits(), 2usize..6),
        |(count, needs, culprits, at_once)| {
            let needs: Vec<(usize, usize)> = needs.into_iter().filter(|(a, b)| a % count < b % count).collect();
            let moved = Moved::new(count, &needs);
            let fails = |is_new: &dyn Fn(usize) -> bool| culprits.iter().all(|culprit| is_new(culprit % count));
            prop_assert_eq!(moved.blamed(at_once, fails).0, moved.blamed(1, fails).0);
            Ok(())
        },
    );
}
