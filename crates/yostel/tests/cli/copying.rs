//! Copies between registries. The accident this prevents: a copy that is not the same, or that lacks what was said since.

use std::collections::BTreeSet;
use std::fs;

use serde_json::Value;
use yostel_testkit::{OciFailure, OciManner, OciRequest, OciServer};

use crate::registries::{TOKEN, cleared, digest, json, with_input};
use crate::small_world;

#[test]
fn a_registry_is_copied_to_an_oci_registry_and_back_and_a_project_never_notices() {
    let sandbox = small_world();
    sandbox.run("", "withdraw unit 1.1.0 --from station --why leaks").expect(0);
    sandbox.write("station/advisories/s.json", "{\"id\":\"S\",\"modified\":\"2026-01-01T00:00:00Z\"}");
    sandbox.run("console", "lock").expect(0);
    let (lockfile, installed) = (sandbox.read("console/yostel.lock"), digest(&sandbox));
    cleared(&sandbox);
    let server = OciServer::like(OciManner { page: Some(3), ..OciManner::default() }, |_| None);
    let place = format!("oci://{}/made/station", server.host());
    sandbox.run("", &format!("registry create {place}")).expect(0);
    sandbox.run("", &format!("registry create {place}")).expect(2).says(&["is a registry already"]);
    let told = sandbox.run("", &format!("registry copy station {place}")).expect(0).stdout;
    assert!(told.contains("Copied 8 releases of 4 packages"), "{told}");
    assert!(
        sandbox
            .run("", &format!("registry copy station {place}"))
            .expect(0)
            .stdout
            .contains("has all of it: 8 releases")
    );
    sandbox.run("console", &format!("sources add station {place}")).expect(0);
    assert!(sandbox.read("console/yostel.toml").contains(&format!("oci = \"{}/made/station\"", server.host())));
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), lockfile, "the lockfile names the source, not its place");
    assert_eq!(digest(&sandbox), installed);
    let releases = sandbox.run("console", "explain unit --releases").expect(0).stdout;
    assert!(releases.contains("leaks"), "{releases}");
    // Back again, everything is as it was, and what is said meanwhile comes along.
    sandbox.run("", "registry create back --name station").expect(0);
    sandbox.run("", &format!("deprecate unit 2.0.0 --from {place} --why old --replaced-by gust")).expect(0);
    sandbox.run("", &format!("withdraw unit 1.1.0 --from {place} --why fine --take-back")).expect(0);
    sandbox.run("", &format!("registry copy {place} back")).expect(0);
    let listed = |registry: &str| json(&sandbox.run("", &format!("--format json registry list {registry}")).expect(0));
    assert_eq!(listed(&place), listed("back"));
    let said = |registry: &str| listed(registry)["packages"][2]["releases"].clone();
    assert_eq!(said("back")[2]["replaced-by"], "gust");
    assert_eq!((&said("back")[1]["withdrawn"], &said("station")[1]["withdrawn"]), (&Value::Null, &"leaks".into()));
    let told = sandbox.run("", "registry copy back station").expect(0).stdout;
    assert!(told.contains("News of 2 releases came along"), "{told}");
    assert_eq!(listed("station"), listed("back"));
    assert_eq!(
        fs::read(sandbox.path("back/advisories/s.json")).unwrap(),
        fs::read(sandbox.path("station/advisories/s.json")).unwrap()
    );
    cleared(&sandbox);
    sandbox.run("console", "sources add station ../back").expect(0);
    sandbox.run("console", "lock").expect(0);
    // What is no longer withdrawn is chosen again.
    assert!(sandbox.read("console/yostel.lock").contains("name = \"unit\"\nversion = \"1.1.0\""));
}

#[test]
fn within_one_server_a_copy_carries_no_archive_where_the_server_takes_it_over() {
    let no_mounting = |status| {
        move |asked: &OciRequest| {
            let location = vec![("Location", "/v2/b/kept/gust/blobs/uploads/none".to_owned())];
            asked.path.contains("mount=").then(|| OciFailure::Answer(status, location, Vec::new()))
        }
    };
    let guarded = OciManner { user: Some(format!("alice:{TOKEN}")), has_tokens: true, ..OciManner::default() };
    for (server, mounts) in [
        (OciServer::start(), true),
        (OciServer::like(guarded, |_| None), true),
        (OciServer::like(OciManner::default(), no_mounting(202)), false),
        (OciServer::like(OciManner::default(), no_mounting(405)), false),
    ] {
        let sandbox = small_world();
        with_input(&sandbox, "", &format!("login {} --user alice", server.host()), TOKEN).expect(0);
        let (tried, kept) = (format!("oci://{}/a/tried", server.host()), format!("oci://{}/b/kept", server.host()));
        for words in [format!("create {tried}"), format!("create {kept}"), format!("copy station {tried}")] {
            sandbox.run("", &format!("registry {words}")).expect(0);
        }
        let before = server.asked().len();
        let copied = json(&sandbox.run("", &format!("--format json registry copy {tried} {kept} gust")).expect(0));
        let [archives, mounted] = ["archives", "mounted"].map(|key| copied["packages"][0][key].as_u64().unwrap());
        let releases = copied["packages"][0]["new"].as_array().unwrap().len() as u64;
        assert_eq!((archives, mounted), if mounts { (0, releases) } else { (releases, 0) });
        let told = sandbox.run("", &format!("registry copy {tried} {kept}")).expect(0).stdout;
        assert_eq!(told.contains("archives were on the server already"), mounts, "{told}");
        let asked = server.asked().split_off(before);
        let is_fetched = |one: &&OciRequest| {
            one.method == "GET" && one.path.starts_with("v2/a/tried") && one.path.contains("/blobs/")
        };
        assert_eq!(asked.iter().any(|one| is_fetched(&one)), !mounts);
        let tries = asked.iter().filter(|one| one.path.contains("mount=")).count();
        assert!(mounts || tries == 2, "once a run: {tries}");
        let listed = |place: &str| json(&sandbox.run("", &format!("--format json registry list {place}")).expect(0));
        assert_eq!(listed(&tried)["packages"], listed("station")["packages"]);
        assert_eq!(listed(&kept)["packages"], listed(&tried)["packages"]);
        sandbox.run("console", &format!("sources add station {kept}")).expect(0);
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", "install").expect(0);
    }
}

#[test]
fn a_copy_takes_what_is_wanted_and_tells_what_differs_and_what_is_missing() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("", "registry create other").expect(0);
    let copied = json(&sandbox.run("console", "--format json registry copy station ../other --locked").expect(0));
    let names: Vec<&str> =
        copied["packages"].as_array().unwrap().iter().map(|one| one["package"].as_str().unwrap()).collect();
    assert_eq!(names, ["gust", "rig", "unit"]);
    assert_eq!(copied["packages"][0]["new"], serde_json::json!(["2.1.0"]));
    let told = sandbox.run("", "registry copy station other valley/*").expect(0).stdout;
    assert!(told.contains("Copied 1 release of 1 package"), "{told}");
    let told = sandbox.run("", "registry copy station other none-such").expect(2).stdout;
    assert!(told.contains("none-such is not in the registry"), "{told}");
    let told = sandbox.run("", "registry copy station other none/* a b c d e").expect(2).stdout;
    assert!(told.contains("note: none/* is not in the registry") && told.contains("nor are 2 more"), "{told}");
    for words in
        ["registry copy nowhere other", "registry copy station nowhere", "registry copy station https://a.example/r"]
    {
        assert_eq!(sandbox.run("", words).status, 2, "{words}");
    }
    // An advisory on packages of a registry says nothing in one of another name.
    let about = |registry: &str| {
        let affected = format!("[{{\"package\":{{\"ecosystem\":\"{registry}\",\"name\":\"unit\"}}}}]");
        format!("{{\"id\":\"S\",\"modified\":\"2026-01-01T00:00:00Z\",\"affected\":{affected}}}")
    };
    for (registry, is_lost) in [("station", true), ("elsewhere", false)] {
        sandbox.write("station/advisories/s.json", about(registry));
        let told = sandbox.run("", "registry copy station other gust").expect(0).stdout;
        let note = "1 file with advisories is about packages of station, so it counts for nothing in this registry, which is called other;";
        assert_eq!(told.contains(note), is_lost, "{told}");
    }
    sandbox.write("station/advisories/s.json", about("station"));
    sandbox.run("", "registry create same --name station").expect(0);
    assert!(!sandbox.run("", "registry copy station same").expect(0).stdout.contains("note"));
    // Another release at a version is told, and stays.
    sandbox.write("made/unit/yostel.toml", "[project]\nname = \"unit\"\nversion = \"1.0.0\"\n");
    sandbox.write("made/unit/other", "other\n");
    sandbox.run("made/unit", "publish --to ../../other --backport").expect(0);
    let before = sandbox.picture("other");
    let told = sandbox.run("", "registry copy station other unit").expect(4).stdout;
    assert!(told.contains("unit 1.0.0: published there with other content"), "{told}");
    let left: BTreeSet<String> = before.into_iter().filter(|line| line.contains("archives")).collect();
    assert!(left.is_subset(&sandbox.picture("other").into_iter().collect()));
    // An archive that is not what its record says gets no further.
    sandbox.shell("", "for f in station/archives/sha256/*; do echo x >> $f; done").status().unwrap();
    sandbox.run("", "registry create third").expect(0);
    assert_eq!(sandbox.run("", "registry copy station third").status, 4);
    assert!(fs::read_dir(sandbox.path("third/archives/sha256")).unwrap().next().is_none());
}
