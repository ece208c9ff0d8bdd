//! What is said of a release after it was published reaches everybody who has it, and of what is newer only that is said which
//! was resolved. The accidents this prevents: a release that its author withdrew a month ago is still installed every day,
//! and nobody knew; an update that the audit promises and `lock --fresh` does not take.

use serde_json::Value;

use crate::{project, publish, sandbox, small_world};

#[test]
fn that_a_locked_release_was_withdrawn_is_told_wherever_one_looks() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let quiet = sandbox.run("console", "list").expect(0).stdout;
    assert!(!quiet.contains("REMARKS"), "{quiet}");
    sandbox.run("", "withdraw gust 2.1.0 --from station --why leaks").expect(0);
    let says = "gust 2.1.0 was withdrawn 2026-09-21: leaks";
    let told = |words: &str, status: i32| sandbox.run("console", words).expect(status).stdout;
    assert!(told("list", 0).contains("withdrawn 2026-09-21\n"), "{}", told("list", 0));
    assert!(told("explain gust", 0).contains(&format!("note: {says}\n")), "{}", told("explain gust", 0));
    let audit = told("audit notices", 1);
    assert!(audit.contains(&format!("Withdrawn or deprecated since\n  {says}\n")), "{audit}");
    assert!(audit.contains("next: yostel update --preview, to see"), "{audit}");
    // What fits is not searched for; as soon as something is, it is told, and stays locked.
    project(&sandbox, "gust = \"^2\"", "");
    let locked = told("lock", 0);
    assert!(locked.contains(&format!("note: {says}; it stays locked until it is updated\n")), "{locked}");
    std::fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    assert!(told("install", 0).contains(&format!("note: {says}\n")));
    let json: Value = serde_json::from_str(&told("--format json list", 0)).unwrap();
    assert_eq!(json["packages"][0]["notice"]["withdrawn"]["why"], "leaks");
    let preview = told("lock --fresh --preview", 0);
    assert!(preview.contains(&format!("note: {says}, and would not be locked any more\n")), "{preview}");
    let moved = told("lock --fresh", 0);
    assert!(moved.contains(&format!("note: {says}, and is not locked any more\n")), "{moved}");
    assert!(moved.contains("moved  gust  2.1.0 -> 2.0.0"), "{moved}");
    assert!(!told("audit notices", 0).contains("leaks"));
    // Once it is not locked any more, it cannot be had back, and nobody is told otherwise.
    let instead = told("explain gust --instead 2.1.0", 0);
    assert!(instead.contains("gust 2.1.0 is not possible"), "{instead}");
    let why =
        "asked for: gust =2.1.0, which no release meets that may be chosen: 2.1.0 was withdrawn 2026-09-21: leaks\n";
    assert!(instead.contains(why), "{instead}");
    assert!(
        instead.contains(
            "next: write gust = { version = \"2.1.0\", why = \"…\" } below [admit], if it must be this one\n"
        )
    );
    let manifest = sandbox.read("console/yostel.toml");
    let admitted = format!("{manifest}[admit]\ngust = {{ version = \"2.1.0\", why = \"mended here\" }}\n");
    sandbox.write("console/yostel.toml", admitted);
    assert!(told("explain gust --instead 2.1.0", 0).contains("gust 2.1.0 is possible; it alone would move"));
    assert!(told("add gust ^2.1.0", 0).contains("1 of 3 releases in station: 2.1.0"));
    sandbox.write("console/yostel.toml", manifest);
    // Where a source cannot be asked, what is locked can be looked at all the same.
    std::fs::rename(sandbox.path("station"), sandbox.path("away")).unwrap();
    assert!(told("list", 0).contains("gust"));
}

#[test]
fn a_deprecated_package_is_told_with_what_took_its_place() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let manifest = "[project]\nname = \"unit\"\nversion = \"2.1.0\"\n";
    sandbox.write("made/unit-2.1.0/yostel.toml", manifest);
    let publish = "publish --to ../../station --replaced-by scale --deprecated";
    let mut command = sandbox.command("made/unit-2.1.0", publish);
    sandbox.finish(command.arg("no longer maintained.")).expect(0);
    // The newest release speaks for the package.
    let told = sandbox.run("console", "audit notices").expect(1).stdout;
    assert!(told.contains("unit 1.1.0 is deprecated: no longer maintained; scale took its place\n"), "{told}");
    let told = sandbox.run("console", "list").expect(0).stdout;
    assert!(told.contains("deprecated, use scale"), "{told}");
    let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(told.contains("note: unit 1.1.0 is deprecated: no longer maintained; scale took its place\n"), "{told}");
    // What is published already is deprecated by publishing it again, once.
    let again = |words: &str| {
        let mut command =
            sandbox.command("made/unit-2.0.0", &format!("publish --to ../../station{words} --deprecated"));
        sandbox.finish(command.arg("old")).expect(0).stdout
    };
    let before = sandbox.read("station/releases/unit.json");
    let preview = again(" --preview");
    assert!(preview.contains("published already") && preview.contains("  It would be deprecated.\n"), "{preview}");
    assert_eq!(sandbox.read("station/releases/unit.json"), before);
    assert!(again("").contains("  It is deprecated now.\n"));
    let after = sandbox.read("station/releases/unit.json");
    assert!(after.contains("\"old\"") && after != before, "{after}");
    let json: Value = serde_json::from_str(&again(" --format json")).unwrap();
    assert_eq!(
        (&json["packages"][0]["new"], &json["packages"][0]["deprecated"]),
        (&false.into(), &"old".into()),
        "{json}"
    );
    assert_eq!(sandbox.read("station/releases/unit.json"), after, "it is said once");
}

#[test]
fn of_what_is_newer_only_that_is_told_which_was_resolved() {
    let sandbox = sandbox();
    for (label, needs) in [
        ("unit 1.0.0", ""),
        ("unit 2.0.0", ""),
        ("gust 1.0.0", "unit = '^1'"),
        // Accepted by everyone who asks, and yet not to be had: its needs collide with the project's own.
        ("gust 1.1.0", "unit = '^2'"),
        ("rig 1.0.0", ""),
    ] {
        publish(&sandbox, label, needs, &[]);
    }
    project(&sandbox, "gust = \"^1\"\nunit = \"^1\"\nrig = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    publish(&sandbox, "rig 1.1.0", "", &[]);
    project(&sandbox, "gust = \"^1\"\nunit = \"^1\"\nrig = \">=1\"", "");
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("rig stays at 1.0.0; with yostel update it would be 1.1.0\n"), "{told}");
    assert!(!told.contains("gust stays"), "{told}");
    let told = sandbox.run("console", "audit outdated").expect(1).stdout;
    let row = |package: &str| told.lines().find(|line| line.trim_start().starts_with(package)).unwrap().to_owned();
    assert!(row("gust").contains(" - ") && row("gust").ends_with("what others need"), "{told}");
    assert!(row("rig").contains("1.0.0   1.1.0"), "{told}");
    assert!(told.contains("next: yostel update, which takes 1 update\n"), "{told}");
    let moved = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(moved.contains("rig  1.0.0 -> 1.1.0") && !moved.contains("gust"), "{moved}");
    // A rule keeps it out as well.
    let sandbox = small_world();
    project(&sandbox, "gust = \">=2, <3\"", "");
    sandbox.run("console", "lock --as-of 2020-01-01").expect(3);
    sandbox.run("console", "lock --fresh --take oldest").expect(0);
    let manifest = sandbox.read("console/yostel.toml") + "\n[policy]\ntake = \"oldest\"\n";
    sandbox.write("console/yostel.toml", manifest);
    let told = sandbox.run("console", "audit outdated").expect(1).stdout;
    assert!(!told.contains("yostel lock --fresh, which"), "{told}");
}

#[test]
fn what_is_probably_not_meant_is_told_when_it_is_locked() {
    let sandbox = small_world();
    let manifest = |needs: &str, rest: &str| {
        let head = "[project]\nname = \"console\"\nversion = \"0.4.0\"\n";
        let sources = "[sources.station]\nfolder = \"../station\"\n";
        sandbox.write("console/yostel.toml", format!("{head}{rest}\n{sources}\n{needs}\n"));
        std::fs::remove_file(sandbox.path("console/yostel.lock")).ok();
        sandbox.run("console", "lock").expect(0).stdout
    };
    let needs = "[needs.run]\ngust = \"^2\"\n";
    assert!(!manifest(needs, "").contains("note:"), "nothing is told where all is well");
    for (rest, says) in [
        (
            "[force]\nuint = { version = \"1.0.0\", why = \"x\" }",
            "[force] names uint, which nothing needs; unit is needed",
        ),
        ("[agreed]\nrig = \"^1\"", "[agreed] names rig, which nothing needs\n"),
        (
            "[admit]\ngsut = { version = \"2.0.0\", why = \"x\" }",
            "[admit] names gsut, which nothing needs; gust is needed",
        ),
        ("[swap]\nguts = { use = \"unit\", why = \"x\" }", "[swap] names guts, which nothing needs; gust is needed"),
    ] {
        let told = manifest(needs, rest);
        assert!(told.contains(&format!("note: {says}")), "{told}");
    }
    for met in [
        "[force]\nunit = { version = \"1.0.0\", why = \"x\" }",
        "[swap]\nrig = { use = \"gust\", accept = \"^2\", why = \"x\" }\n[needs.test]\nrig = \"^1\"",
    ] {
        let told = manifest(needs, met);
        assert!(!told.contains("note:"), "{told}");
    }
    // A need that counts nowhere, and one purpose spelt in two ways.
    let nowhere = "[needs.run]\ngust = \"^2\"\nrig = { accept = \"^0.9\", only-on = [\"windows/*\"] }\n";
    let told = manifest(nowhere, "platforms = [\"linux/amd64\"]");
    assert!(
        told.contains("note: console needs rig ^0.9 on windows/* counts on none of the listed platforms"),
        "{told}"
    );
    let told = manifest(&format!("{needs}[needs.tset]\nrig = \"^0.9\"\n"), "");
    assert!(told.contains("note: [needs.tset] has one need; [needs.test] is nearly the same name"), "{told}");
}

#[test]
fn a_lockfile_that_this_machine_cannot_install_is_told_at_once() {
    let sandbox = sandbox();
    sandbox.write("made/probe/yostel.toml", "[project]\nname = \"probe\"\nversion = \"1.0.0\"\n");
    sandbox.run("made/probe", "publish --to ../../station --platform plan9/mips").expect(0);
    project(&sandbox, "probe = \"^1\"", "");
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(
        told.contains("note: probe 1.0.0 offers nothing for ") && told.contains("so this machine cannot install it")
    );
    assert!(!told.contains("next: yostel install"), "{told}");
}
