//! From a lockfile to a plan: which artifact a machine gets.

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_documents::{ArchiveDigest, Artifact, Declared, Lockfile, PackageName, TreeDigest, Word, run_purpose};
use yostel_flows::{ContentError, FlowError, Keep, Patches, Selection, Write, plan_of};
use yostel_resolve::{Outcome, Resolution};

use crate::{RELEASES, World};

fn artifact(platform: &str) -> Artifact {
    let bytes = platform.as_bytes();
    Artifact { platform: platform.into(), digest: ArchiveDigest::of(bytes), size: 1, tree: TreeDigest::of(bytes) }
}

fn lockfile_with(platforms: &[&str]) -> (Lockfile, Declared) {
    let world = World::new(&RELEASES, "gust = '^2'");
    let mut lockfile = world.lock(Keep::Locked, Write::Nothing).0.unwrap().lockfile.unwrap();
    let gust = lockfile.chosen.get_mut(&PackageName::parse("gust").unwrap()).unwrap();
    gust.artifacts = platforms.iter().map(|platform| artifact(platform)).collect();
    (lockfile, world.project().declared().unwrap())
}

#[test]
fn a_machine_gets_its_own_artifact_before_the_one_for_any() {
    let (lockfile, declared) = lockfile_with(&["any", "linux/arm64"]);
    let gust = PackageName::parse("gust").unwrap();
    let platform_for = |machine: &str| {
        plan_of(&lockfile, &declared, &Selection::all_for(machine), &Patches::default()).unwrap().packages[&gust]
            .artifact
            .platform
            .clone()
    };
    assert_eq!(platform_for("linux/arm64"), "linux/arm64");
    assert_eq!(platform_for("linux/amd64"), "any");
}

#[test]
fn a_machine_for_which_there_is_nothing_hears_what_there_is() {
    let (lockfile, declared) = lockfile_with(&["linux/arm64", "windows/amd64"]);
    let Err(FlowError::Content(ContentError::NoArtifact { package, wanted, offered, .. })) =
        plan_of(&lockfile, &declared, &Selection::all_for("linux/amd64"), &Patches::default())
    else {
        panic!()
    };
    assert_eq!((package.as_str(), wanted.as_str()), ("gust", "linux/amd64"));
    assert_eq!(offered, ["linux/arm64", "windows/amd64"]);
}

#[test]
fn each_asker_is_linked_to_what_it_declared() {
    let (lockfile, declared) = lockfile_with(&["any"]);
    let plan = plan_of(&lockfile, &declared, &Selection::all_for("linux/amd64"), &Patches::default()).unwrap();
    let links: Vec<String> = plan.links.iter().map(|link| link.path()).collect();
    assert_eq!(links, ["reach/projects/console/run/gust", "reach/releases/gust/2.1.0/run/unit"]);
    let folder = plan.packages[&PackageName::parse("unit").unwrap()].folder();
    assert!(folder.starts_with("unit/1.0.0-") && folder.len() == "unit/1.0.0-".len() + 12);
}

/// A world in which each package needs some of those after it, and the project needs some of all, each for a purpose.
fn any_needs() -> impl Strategy<Value = String> {
    let needs = || prop::collection::btree_set(0usize..8, 0..4);
    (needs(), prop::collection::vec(needs(), 8)).prop_map(|(requirements, packages)| {
        let list = |needs: &BTreeSet<usize>| needs.iter().map(|n| format!("p{n} *")).collect::<Vec<_>>().join(", ");
        let mut text = format!("console: {}\n", list(&requirements));
        for (number, needs) in packages.iter().enumerate() {
            text.push_str(&format!("p{number} 1.0.0: {}\n", list(needs)));
        }
        text
    })
}

proptest! {
    #[test]
    fn what_is_installed_for_a_purpose_is_what_that_purpose_reaches(
        text in any_needs(),
        purposes in prop::collection::vec(prop_oneof![Just("run"), Just("test"), Just("bench")], 8),
        wanted in prop::sample::subsequence(vec!["run", "test", "bench"], 1..=3),
    ) {
        let mut world = yostel_testkit::World::parse(&text);
        for (requirement, purpose) in world.requirements.iter_mut().zip(&purposes) {
            requirement.purpose = Word::parse(purpose).unwrap();
        }
        let Ok(Outcome::Resolved(resolution)) = world.resolve(&[]) else { panic!("every set is right here") };
        let declared: Declared = world.requirements.clone().into();
        let lockfile = resolution.to_lockfile(&declared);
        let wanted: BTreeSet<Word> = wanted.iter().map(|purpose| Word::parse(purpose).unwrap()).collect();
        let selection = Selection { platform: "linux/amd64".into(), purposes: wanted.clone(), ..Selection::default() };
        let plan = plan_of(&lockfile, &declared, &selection, &Patches::default()).unwrap();
        let reached = reached(&world, &resolution, &wanted);
        prop_assert_eq!(plan.packages.keys().cloned().collect::<BTreeSet<_>>(), reached.clone());
        // Every link is of somebody who is there, to something that is there.
        for link in &plan.links {
            prop_assert!(reached.contains(&link.package));
            let by_project = link.who.is_project() && wanted.contains(&Word::parse(&link.purpose).unwrap());
            prop_assert!(by_project || reached.iter().any(|name| link.who.to_string() == format!("{name} 1.0.0")), "{:?}", link);
        }
        let everything = plan_of(&lockfile, &declared, &Selection::all_for("linux/amd64"), &Patches::default()).unwrap();
        prop_assert_eq!(everything.packages.len(), lockfile.chosen.len());
    }
}

/// Walks from the needs for these purposes along what the chosen releases need to run.
fn reached(world: &yostel_testkit::World, resolution: &Resolution, wanted: &BTreeSet<Word>) -> BTreeSet<PackageName> {
    let requirements = world.requirements.iter().filter(|requirement| wanted.contains(&requirement.purpose));
    let mut open: Vec<PackageName> = requirements.map(|requirement| requirement.package.clone()).collect();
    let mut reached = BTreeSet::new();
    while let Some(name) = open.pop() {
        let needs = resolution.chosen[&name].release.needs.get(&run_purpose()).into_iter().flatten();
        open.extend(needs.map(|(needed, _)| needed.clone()).filter(|needed| !reached.contains(needed)));
        reached.insert(name);
    }
    reached
}
