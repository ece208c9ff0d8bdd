//! From a lockfile to a plan: which artifact a machine gets.

use yostel_core::{ArchiveDigest, Artifact, Lockfile, PackageName, TreeDigest};
use yostel_flows::{FlowError, Keep, Patches, Write, plan_of};

use crate::{RELEASES, World};

fn artifact(platform: &str) -> Artifact {
    let bytes = platform.as_bytes();
    Artifact { platform: platform.into(), digest: ArchiveDigest::of(bytes), size: 1, tree: TreeDigest::of(bytes) }
}

fn lockfile_with(platforms: &[&str]) -> Lockfile {
    let world = World::new(&RELEASES, "gust = '^2'");
    let mut lockfile = world.lock(Keep::Locked, Write::Nothing).0.unwrap().lockfile.unwrap();
    let gust = lockfile.chosen.get_mut(&PackageName::parse("gust").unwrap()).unwrap();
    gust.artifacts = platforms.iter().map(|platform| artifact(platform)).collect();
    lockfile
}

#[test]
fn a_machine_gets_its_own_artifact_before_the_one_for_any() {
    let lockfile = lockfile_with(&["any", "linux/arm64"]);
    let gust = PackageName::parse("gust").unwrap();
    let platform_for = |machine: &str| {
        plan_of(&lockfile, machine, &Patches::default()).unwrap().packages[&gust].artifact.platform.clone()
    };
    assert_eq!(platform_for("linux/arm64"), "linux/arm64");
    assert_eq!(platform_for("linux/amd64"), "any");
}

#[test]
fn a_machine_for_which_there_is_nothing_hears_what_there_is() {
    let lockfile = lockfile_with(&["linux/arm64", "windows/amd64"]);
    let Err(FlowError::NoArtifact { package, wanted, offered, .. }) =
        plan_of(&lockfile, "linux/amd64", &Patches::default())
    else {
        panic!()
    };
    assert_eq!((package.as_str(), wanted.as_str()), ("gust", "linux/amd64"));
    assert_eq!(offered, ["linux/arm64", "windows/amd64"]);
}

#[test]
fn each_asker_is_linked_to_what_it_declared() {
    let plan = plan_of(&lockfile_with(&["any"]), "linux/amd64", &Patches::default()).unwrap();
    let links: Vec<String> = plan.links.iter().map(|link| link.path()).collect();
    assert_eq!(links, ["console/run/gust", "gust@2.1.0/run/unit"]);
    let folder = plan.packages[&PackageName::parse("unit").unwrap()].folder();
    assert!(folder.starts_with("unit/1.0.0-") && folder.len() == "unit/1.0.0-".len() + 12);
}
