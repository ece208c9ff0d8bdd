//! Licences that a project allows, exceptions from that, and packages of which nothing new comes.
//! The accident this prevents: a licence that somebody reads after the product was shipped.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish_with_licence, sandbox};

fn publish(sandbox: &Sandbox, label: &str, licence: &str) {
    let (name, version) = label.split_once(' ').unwrap();
    let folder = format!("made/{}-{version}", name.replace('/', "+"));
    let line = if licence.is_empty() { "" } else { "licence = \"LicenseRef-any\"\n" };
    sandbox.write(
        &format!("{folder}/yostel.toml"),
        format!("[project]\nname = \"{name}\"\nversion = \"{version}\"\n{line}"),
    );
    sandbox.write(&format!("{folder}/a"), label);
    match licence {
        "" => drop(sandbox.run(&folder, "publish --to ../../station").expect(0)),
        _ => publish_with_licence(sandbox, &folder, licence),
    }
}

fn policy(sandbox: &Sandbox, more: &str) {
    project(sandbox, "gust = \"*\"\nhorn = \"*\"\nbell = \"*\"\nrope = \"*\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}{more}"));
}

fn world() -> Sandbox {
    let sandbox = sandbox();
    for (label, licence) in [
        ("gust 1.0.0", "MIT OR AGPL-3.0-only"),
        ("horn 1.0.0", "AGPL-3.0-only"),
        ("bell 1.0.0", ""),
        ("rope 1.0.0", "ask us"),
    ] {
        publish(&sandbox, label, licence);
    }
    policy(&sandbox, "");
    sandbox.run("console", "lock").expect(0);
    sandbox
}

#[test]
fn a_licence_is_allowed_or_excepted_or_told() {
    let sandbox = world();
    let told = sandbox.run("console", "audit licences").expect(0).stdout;
    assert_eq!(told, "4 packages: any licence will do, as [policy] names no allowed-licences.\n");
    assert!(!sandbox.run("console", "audit").expect(0).stdout.contains("licence"));
    let allowed = "[policy]\nallowed-licences = [\"MIT\"]\n";
    policy(&sandbox, allowed);
    let told = sandbox.run("console", "audit licences").expect(1).stdout;
    let expected =
        "Licences\n  bell 1.0.0 tells no licence\n  horn 1.0.0 is under AGPL-3.0-only, which is not allowed\n";
    assert!(told.starts_with(expected), "{told}");
    assert!(told.contains("  rope 1.0.0 says `ask us` as its licence, which is no SPDX expression: "), "{told}");
    assert!(told.ends_with("4 packages looked at, 3 licences not allowed.\nnext: take another package, add the licence to `allowed-licences` in [policy], or except it in [licence-exceptions]\n"), "{told}");
    sandbox.run("console", "audit --fail-on licences:high").expect(1);
    policy(&sandbox, "[policy]\nallowed-licences = [\"MIT\", \"AGPL-3.0-only\"]\n");
    sandbox.run("console", "audit --fail-on licences:critical").expect(0);
    // An exception is for one expression, and until its day.
    let exception = |licence: &str, until: &str| {
        policy(
            &sandbox,
            &format!("{allowed}[licence-exceptions]\nhorn = {{ licence = \"{licence}\", why = \"so\"{until} }}\n"),
        );
        let run = sandbox.run("console", "--format json audit licences").expect(1);
        let answer: Value = serde_json::from_str(&run.stdout).unwrap();
        let names =
            answer["licences"].as_array().unwrap().iter().map(|one| one["package"].as_str().unwrap().to_owned());
        (names.collect::<Vec<_>>().contains(&"horn".to_owned()), answer)
    };
    assert!(!exception("AGPL-3.0-only", "").0);
    assert!(!exception("AGPL-3.0-only", ", until = 2026-09-21").0, "the last day counts");
    assert!(exception("GPL-3.0-only", "").0, "it was for another one");
    let (is_told, answer) = exception("AGPL-3.0-only", ", until = 2026-09-20");
    assert!(is_told);
    let horn = answer["licences"].as_array().unwrap().iter().find(|one| one["package"] == "horn").unwrap();
    assert_eq!((&horn["excepted-until"], &horn["not-allowed"][0]), (&"2026-09-20".into(), &"AGPL-3.0-only".into()));
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(told.contains("licence-exceptions  horn") && told.contains("is 1 day overdue"), "{told}");
    // One that is not needed is told, and its remedy takes it out.
    exception("GPL-3.0-only", "");
    let run = sandbox.run("console", "--format json audit upkeep").expect(1);
    let answer: Value = serde_json::from_str(&run.stdout).unwrap();
    let remedy = &answer["findings"][0]["remedy"];
    assert_eq!(remedy["says"], "take horn out of [licence-exceptions], then run yostel lock");
    assert_eq!(remedy["edits"][0]["with"], "", "{remedy}");
}

#[test]
fn a_policy_that_nobody_can_follow_is_refused_with_its_place() {
    let sandbox = world();
    for (more, says) in [
        ("[policy]\nallowed-licences = [\"MIT\", \"mit\"]\n", "it is one licence of the SPDX list"),
        ("[policy]\nallowed-licences = [\"MIT OR Apache-2.0\"]\n", "it is one licence of the SPDX list"),
        ("[policy]\nquiet-after = \"long\"\n", "it is a number of days, weeks, months or years"),
        ("[policy]\nquiet-after = \"99999999 years\"\n", "it is a number of days, weeks, months or years"),
        ("[licence-exceptions]\nhorn = { licence = \"X\" }\n", "why"),
        ("[licence-exceptions]\nhorn = \"X\"\n", "licence-exceptions.horn"),
    ] {
        policy(&sandbox, more);
        let told = sandbox.run("console", "audit").expect(2).stderr;
        assert!(told.contains(says) && told.contains("yostel.toml:"), "{more}: {told}");
    }
    // What binds all projects of a workspace is said at its root.
    sandbox.write("work/yostel.toml", "[project]\nname = \"all\"\n[workspace]\nprojects = [\"one\"]\n");
    for table in ["licence-exceptions", "admit"] {
        let key = if table == "admit" { "version" } else { "licence" };
        let text = format!("[project]\nname = \"one\"\n[{table}]\nhorn = {{ {key} = \"1.0.0\", why = \"so\" }}\n");
        sandbox.write("work/one/yostel.toml", text);
        let told = sandbox.run("work", "lock").expect(2).stderr;
        assert!(told.contains(&format!("[{table}]")) && told.contains("one/yostel.toml:3"), "{told}");
    }
}

#[test]
fn a_package_of_which_nothing_new_came_for_long_is_told_when_that_is_asked_for() {
    let sandbox = world();
    let later = |more: &str, status: i32| {
        policy(&sandbox, more);
        let mut command = sandbox.command("console", "audit notices");
        // The world was made in September 2026.
        sandbox.finish(command.env("SOURCE_DATE_EPOCH", "1900000000")).expect(status).stdout
    };
    assert_eq!(later("", 0), "4 packages: nothing withdrawn or deprecated.\n");
    let told = later("[policy]\nquiet-after = \"2 years\"\n", 1);
    assert!(
        told.starts_with("Quiet\n  bell: nothing new for 3 years; its last release, 1.0.0, is of 2026-09-21\n"),
        "{told}"
    );
    assert!(told.contains("4 packages looked at, 4 quiet.\n"), "{told}");
    assert_eq!(later("[policy]\nquiet-after = \"4 years\"\n", 0), "4 packages: nothing withdrawn or deprecated.\n");
}
