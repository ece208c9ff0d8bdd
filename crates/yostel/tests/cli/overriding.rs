//! `[agreed]`, `[force]` and `[swap]`: one word for every package, whoever asks. The accidents this prevents: a broken
//! release deep in the graph that comes back with the next update; a force that nobody remembers the reason of.

use std::fs;

use yostel_testkit::Sandbox;

use crate::{publish, sandbox};

/// A project that needs `cabin`, which needs `rope ^3` and `old-logger ^1`.
fn world() -> Sandbox {
    let sandbox = sandbox();
    for version in ["3.2.7", "3.3.0"] {
        publish(&sandbox, &format!("rope {version}"), "", &[("share/rope", version)]);
    }
    publish(&sandbox, "old-logger 1.0.0", "", &[("share/log", "old")]);
    publish(&sandbox, "plain-logger 2.0.0", "", &[("share/log", "plain")]);
    publish(&sandbox, "plain-logger 3.0.0", "", &[("share/log", "plainer")]);
    publish(&sandbox, "cabin 1.0.0", "rope = '^3.2'\nold-logger = '^1'", &[]);
    publish(&sandbox, "grip 1.0.0", "rope = '^3.3'", &[]);
    manifest(&sandbox, "cabin = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox
}

pub(crate) fn manifest(sandbox: &Sandbox, needs: &str, rest: &str) {
    let head = "[project]\nname = \"console\"\nversion = \"0.4.0\"\n\n[sources.station]\nfolder = \"../station\"\n";
    sandbox.write("console/yostel.toml", format!("{head}\n[needs.run]\n{needs}\n\n{rest}"));
}

fn locked(sandbox: &Sandbox, package: &str) -> String {
    let text = sandbox.run("console", "list --format json").expect(0).stdout;
    let list: serde_json::Value = serde_json::from_str(&text).unwrap();
    let packages = list["packages"].as_array().unwrap();
    let one = packages.iter().find(|one| one["package"] == package);
    one.map_or_else(|| "none".into(), |one| one["version"].as_str().unwrap().to_owned())
}

const FORCE: &str = "[force]\nrope = { version = \"3.2.7\", why = \"3.3 drops frames\", until = 2027-03-01 }\n";

#[test]
fn a_forced_version_counts_for_everyone_and_taking_it_back_leaves_no_trace() {
    let sandbox = world();
    let before = sandbox.read("console/yostel.lock");
    assert_eq!(locked(&sandbox, "rope"), "3.3.0");
    manifest(&sandbox, "cabin = \"^1\"", FORCE);
    sandbox.run("console", "install").expect(6).says(&["rope is locked at 3.3.0, but [force] wants =3.2.7"]);
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("rope") && told.contains("3.3.0 -> 3.2.7"), "{told}");
    assert!(!told.contains("forced:"), "cabin admits it, so nobody is overridden: {told}");
    assert!(sandbox.read("console/yostel.lock").contains("\"\nforced = true\n"));
    sandbox.run("console", "install").expect(0);
    // Somebody who asks for more is told, and gets it all the same.
    manifest(&sandbox, "cabin = \"^1\"\ngrip = \"^1\"\nrope = \"^3.3\"", FORCE);
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("forced: grip 1.0.0 needs rope ^3.3 and gets rope 3.2.7"), "{told}");
    assert!(told.contains("forced: console needs rope ^3.3 and gets rope 3.2.7"), "{told}");
    sandbox.run("console", "install").expect(0);
    // Taken back, the version that nobody chose is not kept.
    manifest(&sandbox, "cabin = \"^1\"", "");
    sandbox.run("console", "install").expect(6).says(&["because it was forced, and [force] does not name it"]);
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}

#[test]
fn another_package_stands_in_and_only_that_one_is_installed() {
    let sandbox = world();
    let before = sandbox.read("console/yostel.lock");
    let swap = "[swap]\nold-logger = { use = \"plain-logger\", accept = \"^2\", why = \"abandoned\" }\n";
    manifest(&sandbox, "cabin = \"^1\"", swap);
    sandbox
        .run("console", "install")
        .expect(6)
        .says(&["old-logger is locked, but [swap] has plain-logger stand in for it"]);
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("swapped: cabin 1.0.0 needs old-logger ^1 and gets plain-logger 2.0.0"), "{told}");
    assert_eq!((locked(&sandbox, "old-logger"), locked(&sandbox, "plain-logger")), ("none".into(), "2.0.0".into()));
    sandbox.run("console", "install").expect(0);
    let link = sandbox.path("console/.yostel/reach/releases/cabin/1.0.0/run/plain-logger/share/log");
    assert_eq!(std::fs::read_to_string(link).unwrap(), "plain");
    // A need of the project itself is swapped too, and a collision names its line and the rule.
    manifest(&sandbox, "cabin = \"^1\"\nplain-logger = \"^3\"", swap);
    sandbox.run("console", "lock").expect(3).says(&[
        "plain-logger ^3",
        "cabin 1.0.0 needs old-logger ^1, which [swap] (yostel.toml:13) makes plain-logger ^2, which leaves 2.0.0",
    ]);
    manifest(&sandbox, "cabin = \"^1\"", "");
    sandbox
        .run("console", "install")
        .expect(6)
        .says(&["plain-logger is locked in place of old-logger, which [swap] does not say"]);
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}

#[test]
fn what_is_agreed_binds_what_nobody_declared_and_deviating_needs_a_reason() {
    let sandbox = world();
    manifest(&sandbox, "cabin = \"^1\"", "[agreed]\nrope = \"<3.3\"\n");
    sandbox.run("console", "install").expect(6).says(&["rope is locked at 3.3.0, but [agreed] asks for <3.3"]);
    sandbox.run("console", "lock").expect(0);
    assert_eq!(locked(&sandbox, "rope"), "3.2.7");
    manifest(&sandbox, "cabin = \"^1\"\nrope = \"agreed\"", "[agreed]\nrope = \"<3.3\"\n");
    sandbox.run("console", "lock").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains("who = \"console\", purpose = \"run\", accept = \"<3.3\""));
    manifest(&sandbox, "grip = \"^1\"", "[agreed]\nrope = \"<3.3\"\n");
    sandbox.run("console", "lock").expect(3).says(&[
        "grip 1.0.0 needs rope ^3.3, which [agreed] (yostel.toml:12) makes rope ^3.3, <3.3, which no release meets",
    ]);
    let offered = sandbox.run("console", "settle").expect(0).stdout;
    assert!(offered.contains("  1 agree on ^3.3.0, in place of <3.3, for rope\n"), "{offered}");
    manifest(&sandbox, "grip = \"^1\"\nrope = \"^3.3\"", "[agreed]\nrope = \"<3.3\"\n");
    sandbox.run("console", "lock").expect(2).says(&[
        "[agreed] has rope at <3.3",
        "write rope = \"agreed\"",
        "say why: { accept",
    ]);
    let deviation = "grip = \"^1\"\nrope = { accept = \"^3.3\", why = \"grip wants frames\" }";
    manifest(&sandbox, deviation, "[agreed]\nrope = \"<3.3\"\n");
    sandbox.run("console", "lock").expect(0);
    assert_eq!(locked(&sandbox, "rope"), "3.3.0");
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(
        told.contains("deviation") && told.contains("grip wants frames") && told.contains("yostel.toml:10"),
        "{told}"
    );
}

/// The accident this prevents: a security fix of this morning that a minimum age keeps away for a week, and the whole policy
/// is switched off for it.
#[test]
fn one_release_is_admitted_although_it_is_withdrawn_and_stays_once_it_is_locked() {
    let sandbox = world();
    sandbox.run("", "withdraw rope 3.3.0 --from station --why frames").expect(0);
    let admit = |version: &str, until: &str| {
        format!("[admit]\nrope = {{ version = \"{version}\", why = \"the tower waits for it\", until = {until} }}\n")
    };
    manifest(&sandbox, "cabin = \"^1\"", "");
    sandbox.run("console", "lock --fresh").expect(0);
    assert_eq!(locked(&sandbox, "rope"), "3.2.7");
    manifest(&sandbox, "cabin = \"^1\"", &admit("3.3.0", "2026-09-20"));
    sandbox.run("console", "lock --fresh").expect(0);
    assert_eq!(locked(&sandbox, "rope"), "3.3.0");
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(told.contains("admit") && told.contains("rope") && told.contains("overdue"), "{told}");
    assert!(!told.contains("changes nothing"), "{told}");
    // An earlier day that is asked for is the stronger.
    sandbox.run("console", "lock --fresh --as-of 2026-01-01").expect(3);
    // What is locked stays without a word, as any release does that is withdrawn later.
    manifest(&sandbox, "cabin = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    assert_eq!(locked(&sandbox, "rope"), "3.3.0");
    sandbox.run("console", "install").expect(0);
    // One that nothing stands against changes nothing.
    manifest(&sandbox, "cabin = \"^1\"", &admit("3.2.7", "2030-01-01"));
    sandbox.run("console", "lock --fresh").expect(0);
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(told.contains("changes nothing any more") && !told.contains("overdue"), "{told}");
    for (wrong, says) in [
        ("rope = { version = \"3.3.0\" }", "an admitted release lacks `why`"),
        ("rope = { why = \"x\" }", "an admitted release lacks `version`"),
        ("rope = { version = \"^3\", why = \"x\" }", "one version, without a sign"),
    ] {
        manifest(&sandbox, "cabin = \"^1\"", &format!("[admit]\n{wrong}\n"));
        sandbox.run("console", "lock").expect(2).says(&[says]);
    }
}

#[test]
fn upkeep_tells_what_is_past_its_day_changes_nothing_or_hides_something() {
    let sandbox = world();
    manifest(&sandbox, "cabin = \"^1\"", FORCE);
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(
        told.contains("force") && told.contains("keeps the newer 3.3.0") && told.contains("3.3 drops frames"),
        "{told}"
    );
    assert!(!told.contains("overdue"), "{told}");
    manifest(&sandbox, "cabin = \"^1\"\nrope = \"<3.3\"", &FORCE.replace("2027", "2026"));
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit upkeep --format json").expect(1).stdout;
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    let kinds: Vec<&str> =
        told["upkeep"][0]["debts"].as_array().unwrap().iter().map(|debt| debt["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["past", "changes-nothing"]);
    manifest(&sandbox, "cabin = \"^1\"", "[swap]\nnobody = { use = \"plain-logger\", why = \"just in case\" }\n");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(told.contains("swap") && told.contains("changes nothing any more"), "{told}");
    manifest(&sandbox, "cabin = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    // What was not looked for is not said to be well.
    let told = sandbox.run("console", "audit upkeep").expect(0).stdout;
    assert_eq!(told, "3 packages: no upkeep due.\n");
    let told = sandbox.run("console", "audit").stdout;
    assert!(told.contains("outdated"), "{told}");
}

#[test]
fn what_contradicts_itself_names_its_place_and_a_way_out() {
    let sandbox = world();
    let before = sandbox.read("console/yostel.lock");
    for (rest, says) in [
        (
            "[swap]\na = { use = \"b\", why = \"x\" }\nb = { use = \"a\", why = \"x\" }\n",
            "the swap of a leads back to itself",
        ),
        ("[swap]\na = { use = \"a\", why = \"x\" }\n", "the swap of a leads back to itself"),
        ("[swap]\na = { use = \"b\" }\n", "a swap lacks `why`"),
        ("[force]\nrope = { version = \"3.2.7\" }\n", "a forced version lacks `why`"),
        (
            "[force]\nrope = { version = \"^3\", why = \"x\" }\n",
            "`version` cannot be `^3`: it is one version, without a sign",
        ),
        ("[force]\nrope = { version = \"3.2.7\", why = \"x\", until = \"soon\" }\n", "`until` cannot be `soon`"),
        (
            "[force]\na = { version = \"1.0.0\", why = \"x\" }\n[swap]\na = { use = \"b\", why = \"x\" }\n",
            "a is forced, but [swap] has another package stand in for it",
        ),
        ("[needs.test]\nrope = \"agreed\"\n", "[agreed] has no entry for rope"),
    ] {
        manifest(&sandbox, "cabin = \"^1\"", rest);
        sandbox.run("console", "lock").expect(2).says(&[says, "next:"]);
    }
    let twice = "[offers]\nroles = [\"writer\", \"writer\"]\n";
    manifest(&sandbox, "cabin = \"^1\"", twice);
    sandbox.run("console", "lock").expect(2).says(&["`writer` is listed twice", "next:"]);
    // A forced version that is not what is agreed, or does not exist.
    let outside = "[agreed]\nrope = \"^3.3\"\n\n[force]\nrope = { version = \"3.2.7\", why = \"x\" }\n";
    manifest(&sandbox, "cabin = \"^1\"", outside);
    let run = sandbox.run("console", "lock").expect(2);
    run.says(&["rope is forced to 3.2.7, but ^3.3 is agreed", "at yostel.toml:15:1", "next:"]);
    manifest(&sandbox, "cabin = \"^1\"", "[force]\nrope = { version = \"3.9.0\", why = \"x\" }\n");
    sandbox
        .run("console", "lock")
        .expect(3)
        .says(&["[force] (yostel.toml:12) makes rope =3.9.0, which no release meets"]);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}

#[test]
fn two_packages_in_one_role_want_a_word_and_each_of_the_ways_offered_works() {
    let sandbox = world();
    for logger in ["slate", "tablet"] {
        let text = format!("[project]\nname = \"{logger}\"\nversion = \"1.2.0\"\n[offers]\nroles = [\"writer\"]\n");
        sandbox.write(&format!("made/{logger}/yostel.toml"), text);
        sandbox.run(&format!("made/{logger}"), "publish --to ../../station").expect(0);
    }
    publish(&sandbox, "desk 1.0.0", "tablet = '^1'", &[]);
    let needs = "desk = \"^1\"\nslate = \"^1\"";
    manifest(&sandbox, needs, "");
    sandbox.run("console", "lock").expect(3).says(&[
        "desk ^1 and slate ^1 cannot be met together",
        "desk 1.0.0 needs tablet ^1, which leaves 1.2.0",
        "slate and tablet both fill the role writer",
    ]);
    let edits = sandbox.run("console", "settle").expect(0).stdout;
    assert!(edits.contains("  1 allow several packages in the role writer\n"), "{edits}");
    assert!(edits.contains("  2 have tablet ^1.2.0 stand in for slate\n"), "{edits}");
    sandbox.run("console", "settle 2").expect(0);
    let swap = "slate = { use = \"tablet\", accept = \"^1.2.0\", why = \"without it, desk ^1 and slate ^1 cannot be met together\" }";
    assert!(sandbox.read("console/yostel.toml").contains(swap), "{}", sandbox.read("console/yostel.toml"));
    assert_eq!((locked(&sandbox, "slate"), locked(&sandbox, "tablet")), ("none".into(), "1.2.0".into()));
    manifest(&sandbox, needs, "[policy]\nshare-roles = [\"writer\"]\n");
    sandbox.run("console", "lock").expect(0);
    assert_eq!((locked(&sandbox, "slate"), locked(&sandbox, "tablet")), ("1.2.0".into(), "1.2.0".into()));
    assert!(sandbox.run("console", "audit duplicates").expect(1).stdout.contains("writer"));
    manifest(&sandbox, needs, "[policy]\nshare-roles = [\"Writer\"]\n");
    sandbox.run("console", "lock").expect(2).says(&["Writer"]);
}

#[test]
fn add_knows_what_is_agreed() {
    let sandbox = world();
    sandbox.run("console", "add rope --why x").expect(2).says(&["[agreed] has no entry for rope"]);
    let told = sandbox.run("console", "add rope <3.3 --agreed").expect(0).stdout;
    assert!(told.starts_with("Added rope to what is agreed, <3.3, for run in yostel.toml.\n"), "{told}");
    let manifest = sandbox.read("console/yostel.toml");
    assert!(manifest.contains("rope = \"agreed\"\n") && manifest.contains("[agreed]\nrope = \"<3.3\"\n"), "{manifest}");
    sandbox.run("console", "lock").expect(0);
    assert_eq!(locked(&sandbox, "rope"), "3.2.7");
    // For another purpose, what is agreed is taken without a word; something else wants a reason.
    sandbox.run("console", "add rope --for test").expect(0);
    assert_eq!(sandbox.read("console/yostel.toml").matches("rope = \"agreed\"").count(), 2);
    sandbox.run("console", "add rope ^3.3").expect(2).says(&[
        "[agreed] has rope at <3.3",
        "yostel add rope, to use the agreed constraint",
        "CONSTRAINT --agreed",
        "CONSTRAINT --why",
    ]);
    let mut command = sandbox.command("console", "add rope ^3.3 --why");
    sandbox.finish(command.arg("frames")).expect(0);
    assert!(sandbox.read("console/yostel.toml").contains("rope = { accept = \"^3.3\", why = \"frames\" }"));
    let told = sandbox.run("console", "add rope ^3 --agreed --format json").expect(0).stdout;
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!((told["agreed"].as_bool(), told["accept"].as_str()), (Some(true), Some("^3")));
    sandbox.run("console", "lock").expect(0);
}

/// A world in which the console and its chart want different lines of one package.
pub(crate) fn apart() -> Sandbox {
    let sandbox = sandbox();
    for version in ["1.4.0", "1.5.0", "2.0.0", "2.1.0"] {
        let script = format!("#!/bin/sh\necho tables {version}\n");
        publish(&sandbox, &format!("tables {version}"), "", &[("bin/tables", &script), ("share/version", version)]);
    }
    publish(&sandbox, "chart 1.0.0", "tables = '^1'", &[]);
    publish(&sandbox, "chart 1.1.0", "tables = '^1 || ^2'", &[]);
    manifest(&sandbox, "tables = \"^2\"\nchart = \"=1.0.0\"", "");
    sandbox
}

pub(crate) const COEXIST: &str = "[policy]\ncoexist = [\"tables\"]\n";

#[test]
fn two_lines_stand_side_by_side_only_where_that_is_permitted_and_each_gets_its_own() {
    let sandbox = apart();
    let run = sandbox.run("console", "lock").expect(3);
    run.says(&["2.x of tables are not compatible"]);
    let told = sandbox.run("console", "settle").expect(0).stdout;
    assert!(told.contains("allow incompatible versions of tables side by side"), "{told}");
    let number = told.lines().find(|line| line.contains("side by side")).unwrap().split_whitespace().next().unwrap();
    sandbox.run("console", &format!("settle {number}")).expect(0);
    assert!(sandbox.read("console/yostel.toml").contains("[policy]\ncoexist = [\"tables\"]"));
    sandbox.run("console", "install").expect(0);
    fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    manifest(&sandbox, "tables = \"^2\"\nchart = \"=1.0.0\"", COEXIST);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let read = |link: &str| sandbox.read(&format!("console/.yostel/reach/{link}/share/version"));
    assert_eq!(read("projects/console/run/tables"), "2.1.0");
    assert_eq!(read("releases/chart/1.0.0/run/tables"), "1.5.0");
    assert_eq!(sandbox.run("console", "run -- tables").expect(0).stdout, "tables 2.1.0\n");
    assert!(sandbox.run("console", "where tables").expect(0).stdout.contains("tables/2.1.0-"));
    let list = sandbox.run("console", "list").expect(0).stdout;
    assert!(list.contains("3 packages, 2 of them") && list.contains("1.5.0") && list.contains("2.1.0"), "{list}");
    let tree = sandbox.run("console", "tree").expect(0).stdout;
    assert_eq!(tree, "console 0.4.0\n├─ chart 1.0.0  =1.0.0\n│  └─ tables 1.5.0  ^1\n└─ tables 2.1.0  ^2\n");
    let told = sandbox.run("console", "explain tables").expect(0).stdout;
    assert!(told.contains("1.5.0 is installed too, for chart 1.0.0 ^1"), "{told}");
    // What leads to the other line does not lead here.
    assert!(told.contains("through console > tables 2.1.0") && !told.contains("chart 1.0.0 > tables"), "{told}");
    sandbox.run("console", "verify").expect(0);
    sandbox.run("console", "alter tables").expect(2).says(&["is locked at several versions"]);
    // The audit counts it, and says which edit would join them.
    let told = sandbox.run("console", "audit duplicates").expect(1).stdout;
    assert!(told.contains("tables is there at 1.5.0 and 2.1.0"), "{told}");
    assert!(told.contains("to join them: change chart from =1.0.0 to ^1.1.0, and take tables out"), "{told}");
    let text = sandbox.run("console", "audit duplicates --format json").expect(1).stdout;
    let document: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert_eq!(document["duplicates"][0]["join"]["edits"][0]["to"], "^1.1.0");
    // Joined as it says, there is one again; the lockfile of two is told to be what is no longer permitted.
    manifest(&sandbox, "tables = \"^2\"\nchart = \"=1.0.0\"", "");
    sandbox.run("console", "install").expect(6).says(&["tables is locked at 1.5.0 and at 2.1.0"]);
    manifest(&sandbox, "tables = \"^2\"\nchart = \"^1.1.0\"", "");
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("gone ") && told.contains("1.5.0"), "{told}");
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "audit duplicates").expect(0);
}

#[test]
fn a_need_of_some_platforms_is_met_and_installed_there_alone() {
    let sandbox = sandbox();
    for (name, needs) in [("service", "driver = { accept = '^1', only-on = ['windows/*'] }"), ("driver", "")] {
        let manifest = format!("[project]\nname = \"{name}\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}\n");
        sandbox.write(&format!("made/{name}/yostel.toml"), manifest);
    }
    // The driver is made for Windows alone; the service goes anywhere and needs it there only.
    sandbox.run("made/driver", "publish --to ../../station --platform windows/amd64").expect(0);
    sandbox.run("made/service", "publish --to ../../station").expect(0);
    assert!(sandbox.read("station/releases/service.json").contains("\"driver\": \"^1 on windows/*\""));
    let head = "[project]\nname = \"console\"\nplatforms = [\"linux/amd64\", \"windows/amd64\"]\n\n";
    let needs = |needs: &str| {
        let text = format!("{head}[sources.station]\nfolder = \"../station\"\n\n[needs.run]\n{needs}\n");
        sandbox.write("console/yostel.toml", text);
    };
    needs("driver = \"*\"");
    let run = sandbox.run("console", "lock").expect(3);
    run.says(&["no release meets that may be chosen: 1.0.0 offers nothing for linux/amd64"]);
    needs("");
    sandbox.run("console", "add driver ^1 --only-on windows/*").expect(0);
    let written = "driver = { accept = \"^1\", only-on = [\"windows/*\"] }";
    assert!(sandbox.read("console/yostel.toml").contains(written), "{}", sandbox.read("console/yostel.toml"));
    sandbox.run("console", "lock").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains("accept = \"^1 on windows/*\""));
    let installed = |platform: &str| {
        sandbox.run("console", &format!("install --platform {platform}")).expect(0);
        sandbox.run("console", "verify").expect(0);
        let link = |who: &str| sandbox.path(&format!("console/.yostel/reach/{who}/run/driver")).exists();
        (link("projects/console"), link("releases/service/1.0.0"))
    };
    assert_eq!((installed("linux/amd64"), installed("windows/amd64")), ((false, false), (true, false)));
    // The same for what a package needs.
    needs("service = \"*\"");
    sandbox.run("console", "lock").expect(0);
    assert_eq!((installed("linux/amd64"), installed("windows/amd64")), ((false, false), (false, true)));
    // What counts on no listed platform is no need; a changed condition is noticed.
    needs("service = \"*\"\ndriver = { accept = \"*\", only-on = [\"darwin/*\"] }");
    sandbox.run("console", "install --platform linux/amd64").expect(0);
    needs("service = \"*\"\ndriver = { accept = \"*\", only-on = [\"!windows/*\"] }");
    let run = sandbox.run("console", "install").expect(6);
    run.says(&["driver 1.0.0 is not locked for linux/amd64"]);
    sandbox.run("console", "lock").expect(3).says(&["offers nothing for linux/amd64"]);
    needs("driver = { accept = \"*\", only-on = [\"Windows\"] }");
    sandbox.run("console", "lock").expect(2).says(&["`only-on` cannot be `Windows`", "like \"linux/*\""]);
    needs("driver = \"^1 on linux/*\"");
    sandbox.run("console", "lock").expect(2).says(&["platforms have a key of their own"]);
}
