//! `sources`, and what `init` finds nearby. The accident this prevents: packages that come from where nobody meant, or from a
//! source that the manifest does not name any more.

use crate::{sandbox, small_world};

#[test]
fn init_tells_of_registries_nearby_and_what_it_suggests_names_one() {
    let sandbox = small_world();
    std::fs::create_dir_all(sandbox.path("tower/top")).unwrap();
    let told = sandbox.run("tower/top", "init").expect(0).stdout;
    assert!(told.contains("note: there is a registry in ../../station\n"), "{told}");
    assert!(told.contains("next: yostel sources add station ../../station, then yostel add NAME\n"), "{told}");
    sandbox.run("tower/top", "sources add station ../../station").expect(0);
    let told = sandbox.run("tower/top", "add gust").expect(0).stdout;
    assert!(told.contains("in station"), "{told}");
    // Where there is none, the way to one is told all the same.
    let empty = crate::sandbox();
    std::fs::create_dir_all(empty.path("a/b/c")).unwrap();
    let told = empty.run("a/b/c", "init").expect(0).stdout;
    assert!(told.ends_with("next: yostel sources add NAME FOLDER, with a registry's folder\n"), "{told}");
    assert!(!told.contains("note:"), "{told}");
}

#[test]
fn sources_are_named_listed_moved_and_taken_out_in_place() {
    let sandbox = small_world();
    let manifest = "# ours\n".to_owned() + &sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", &manifest);
    sandbox.run("console", "lock").expect(0);
    let listed = sandbox.run("console", "sources").expect(0).stdout;
    assert!(listed.contains("SOURCE") && listed.contains("station  ../station"), "{listed}");
    // Typed in a folder below, it is written as seen from the manifest.
    std::fs::create_dir(sandbox.path("console/src")).unwrap();
    let told =
        sandbox.run("console/src", "sources add spare ../../none --reserve spare/* --reserve bolt").expect(0).stdout;
    assert!(told.contains("Named source spare in") && told.contains(": ../none\n"), "{told}");
    assert!(
        told.contains(
            "note: there is no such folder\nnext: yostel registry create ../../none\n  or: yostel sources add"
        ),
        "{told}"
    );
    assert!(sandbox.read("console/yostel.toml").contains("folder = \"../none\"\nreserves = [\"spare/*\", \"bolt\"]\n"));
    let listed = sandbox.run("console", "--format json sources").expect(0).stdout;
    let listed: serde_json::Value = serde_json::from_str(&listed).unwrap();
    let spare = &listed["sources"][0];
    assert_eq!(spare["name"], "spare");
    assert_eq!(
        (&spare["source-doubt"], &spare["packages"], &spare["locked"]),
        (&"no-folder".into(), &serde_json::Value::Null, &0.into())
    );
    assert_eq!(listed["sources"][1]["locked"], 3);
    // Said again, nothing changes; the names that it reserves stay.
    let before = sandbox.read("console/yostel.toml");
    let told = sandbox.run("console", "sources add spare ../none").expect(0).stdout;
    assert!(told.contains("is ../none, as it was.\n"), "{told}");
    assert_eq!(sandbox.read("console/yostel.toml"), before);
    let told = sandbox.run("console", "sources add spare ../station").expect(0).stdout;
    assert!(told.contains("is ../station now; it was ../none.\n"), "{told}");
    assert_eq!(sandbox.read("console/yostel.toml"), before.replace("../none", "../station"));
    sandbox.run("console", "sources remove spare").expect(0);
    assert_eq!(sandbox.read("console/yostel.toml"), manifest);
    sandbox
        .run("console", "sources remove spare")
        .expect(2)
        .says(&["has no source named spare", "next: yostel sources,"]);
}

#[test]
fn what_is_no_name_of_a_source_or_package_leaves_the_manifest_alone() {
    let sandbox = small_world();
    let before = sandbox.picture("console");
    sandbox.run("console", "sources add Two ../station").expect(2).says(&["`two` would do"]);
    sandbox.run("console", "sources add two ../station --reserve */x").expect(2).says(&["error: "]);
    sandbox.run("console", "sources add two").expect(2).says(&["error: "]);
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn a_lockfile_does_not_fit_when_the_manifest_does_not_name_its_source_any_more() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "sources remove station").expect(0).stdout;
    assert!(told.contains("note: 3 locked packages come from it: they need another source, or must go\n"), "{told}");
    sandbox.run("console", "lock").expect(2).says(&["no source"]);
    sandbox.run("console", "sources add valley ../station").expect(0);
    sandbox.run("console", "verify --lock").expect(2).says(&["is locked to source station", "next: yostel lock,"]);
    sandbox.run("console", "install").expect(2).says(&["is locked to source station"]);
    sandbox.run("console", "lock").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains("from = \"valley\"\n"));
    assert!(!sandbox.read("console/yostel.lock").contains("station"));
    sandbox.run("console", "verify --lock").expect(0);
    sandbox.run("console", "install").expect(0);
}

#[test]
fn a_workspace_has_its_sources_in_the_root_whoever_names_them() {
    let sandbox = sandbox();
    sandbox.run(".", "registry create reg").expect(0);
    sandbox.write("w/yostel.toml", "[project]\nname = \"w\"\n\n[workspace]\nprojects = [\"one\"]\n");
    sandbox.write("w/one/yostel.toml", "[project]\nname = \"one\"\n");
    sandbox.run("w/one", "sources add reg ../../reg").expect(0);
    assert!(sandbox.read("w/yostel.toml").contains("[sources.reg]\nfolder = \"../reg\"\n"));
    assert!(!sandbox.read("w/one/yostel.toml").contains("sources"));
}
