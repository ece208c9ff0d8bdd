//! `list`, `tree`, `audit`, `cache stats`: what is there and what to think of it.

use crate::{project, publish, small_world};

#[test]
fn list_and_tree_tell_versions_purposes_and_who_asked() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let list = sandbox.run("console", "list").expect(0).stdout;
    assert_eq!(
        list,
        "  PACKAGE  VERSION  FOR        FROM     ASKED FOR BY\n\
         \x20 gust     2.1.0    run        station  console\n\
         \x20 rig      0.9.0    test       station  console\n\
         \x20 unit     1.1.0    run, test  station  gust 2.1.0, rig 0.9.0\n\
         3 packages, 2 of them asked for by console itself.\n"
    );
    let tree = sandbox.run("console", "tree").expect(0).stdout;
    assert_eq!(
        tree,
        "console 0.4.0\n\
         ├─ gust 2.1.0  ^2\n\
         │  └─ unit 1.1.0  ^1\n\
         └─ rig 0.9.0  ^0.9 (for test)\n\
         \x20  └─ unit 1.1.0  ^1\n"
    );
    publish(&sandbox, "gust 2.2.0-rc1", "unit = '^1'", &[]);
    project(&sandbox, "gust = \"=2.2.0-rc1\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    let list = sandbox.run("console", "list").expect(0).stdout;
    assert!(list.contains("REMARKS\n  gust     2.2.0-rc1") && list.contains("  pre-release\n"), "{list}");
    assert_eq!(sandbox.run("console", "tree --depth 1").expect(0).stdout.lines().count(), 3);
    assert!(!sandbox.run("console", "list --direct").expect(0).stdout.contains("unit"));
}

#[test]
fn a_tree_goes_up_to_who_needs_a_package_or_down_the_ways_that_lead_to_it() {
    let sandbox = small_world();
    publish(&sandbox, "hoist 1.0.0", "gust = '^2'", &[]);
    project(&sandbox, "gust = \"^2\"\nhoist = \"^1\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    let told = |words: &str, status: i32| sandbox.run("console", words).expect(status).stdout;
    assert_eq!(
        told("tree --up unit", 0),
        "unit 1.1.0\n\
         ├─ gust 2.1.0  ^1\n\
         │  ├─ hoist 1.0.0  ^2\n\
         │  │  └─ console  ^1\n\
         │  └─ console  ^2\n\
         └─ rig 0.9.0  ^1\n\
         \x20  └─ console  ^0.9 (for test)\n"
    );
    assert_eq!(
        told("tree --up unit --depth 1", 0),
        "unit 1.1.0\n├─ gust 2.1.0  ^1 (and who needs it)\n└─ rig 0.9.0  ^1 (and who needs it)\n"
    );
    assert_eq!(
        told("tree --to gust", 0),
        "console 0.4.0\n├─ gust 2.1.0  ^2\n└─ hoist 1.0.0  ^1\n   └─ gust 2.1.0  ^2\n"
    );
    assert_eq!(
        told("tree --to unit --for test", 0),
        "console 0.4.0\n└─ rig 0.9.0  ^0.9 (for test)\n   └─ unit 1.1.0  ^1\n"
    );
    let json: serde_json::Value = serde_json::from_str(&told("tree --up gust --format json", 0)).unwrap();
    assert_eq!(json["up"][0]["asked-by"][0]["who"], "hoist 1.0.0");
    // A need that came since is one, and what is locked at two versions has two trees.
    publish(&sandbox, "bell 1.0.0", "unit = '^2'", &[]);
    project(&sandbox, "gust = \"^2\"\nbell = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}[policy]\ncoexist = [\"unit\"]\n"));
    sandbox.run("console", "lock").expect(0);
    sandbox.write(
        "console/yostel.toml",
        format!(
            "{}[policy]\ncoexist = [\"unit\"]\n",
            manifest.replace("[needs.test]", "unit = \"=1.1.0\"\n[needs.test]")
        ),
    );
    let up = told("tree --up unit", 0);
    assert_eq!(
        up,
        "unit 1.1.0\n├─ gust 2.1.0  ^1\n│  └─ console  ^2\n└─ console  =1.1.0\nunit 2.0.0\n└─ bell 1.0.0  ^2\n   └─ console  ^1\n"
    );
    for (words, says) in [
        ("tree --up unti", "unit exists, if that is the one"),
        ("tree --to unti", "unit exists, if that is the one"),
        ("tree --for tset", "test exists"),
        ("tree --up unit --to gust", "does not go with"),
    ] {
        let run = sandbox.run("console", words).expect(2);
        assert!(run.stderr.contains(says), "{words}: {}", run.stderr);
    }
}

#[test]
fn the_releases_of_any_package_are_listed_with_days_marks_and_notes() {
    let sandbox = small_world();
    publish(&sandbox, "gust 2.2.0-rc1", "unit = '^1'", &[]);
    sandbox.run("", "withdraw --from station gust 2.0.0 --why rounds").expect(0);
    let day = |told: &str| -> String {
        let dated = |word: &&str| word.len() == 10 && word.as_bytes()[4] == b'-';
        told.split_whitespace().find(dated).unwrap_or_default().to_owned()
    };
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "explain gust --releases").expect(0).stdout;
    let today = day(&told);
    assert_eq!(
        told.replace(&today, "DAY"),
        "gust: 4 releases in station\n\
         \x20 3.0.0      DAY  not accepted by console (^2)\n\
         \x20 2.2.0-rc1  DAY  pre-release; not accepted by console (^2)\n\
         \x20 2.1.0      DAY  locked\n\
         \x20 2.0.0      DAY  withdrawn DAY: rounds\n\
         next: yostel explain gust --instead 3.0.0, to see what that would take\n"
    );
    // Of one that is not locked, and before there is a lockfile at all.
    std::fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    let told = sandbox.run("console", "explain valley/bell --releases").expect(0).stdout;
    assert!(
        told.starts_with("valley/bell: 1 release in station\n") && told.ends_with("next: yostel add valley/bell\n")
    );
    let told = sandbox.run("console", "--format json explain gust --releases").expect(0).stdout;
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!(told["releases"][1]["pre-release"], true);
    assert_eq!(told["releases"][3]["withdrawn"]["why"], "rounds");
    assert_eq!(told["releases"][0]["not-accepted"][0]["accept"], "^2");
    sandbox.run("console", "explain gusts --releases").expect(2).says(&["no source has gusts"]);
}

#[test]
fn audit_tells_what_is_behind_and_who_holds_it_and_ends_with_1() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit").expect(1).stdout;
    for line in [
        "Outdated, asked for by the project",
        "gust     2.0.0   2.1.0     3.0.0   no        yes      hours  console (^2)",
        "Outdated, came along",
        "unit     1.1.0   -         2.0.0   no        yes      hours  gust 2.0.0 (^1), rig 0.9.0 (^1)",
        "2 of 3 packages outdated, 2 not compatible with the newest.",
        "next: yostel update, which takes 1 update",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    assert!(sandbox.run("console", "audit duplicates").expect(0).stdout.contains("no duplicates"));
    project(&sandbox, "gust = \"^3\"", "");
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.run("console", "audit").expect(0);
}

#[test]
fn audit_finds_one_content_under_two_names_and_what_is_gone() {
    let sandbox = small_world();
    for name in ["map", "chart"] {
        publish(&sandbox, &format!("{name} 1.0.0"), "", &[("stations.txt", "lower 740\n")]);
    }
    project(&sandbox, "map = \"^1\"\nchart = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit").expect(1).stdout;
    assert!(told.contains("chart 1.0.0 and map 1.0.0 hold the very same files"), "{told}");
    std::fs::remove_file(sandbox.path("station/releases/map.json")).unwrap();
    let told = sandbox.run("console", "audit outdated").expect(1).stdout;
    assert!(told.contains("In no source any more\n  map\n"), "{told}");
}

#[test]
fn every_reading_command_answers_in_json_with_its_format_number() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let commands = [
        "list",
        "tree",
        "audit",
        "verify",
        "env",
        "where gust",
        "lock",
        "install",
        "cache stats",
        "cache verify",
        "registry list ../station",
    ];
    for command in commands {
        let run = sandbox.run("console", &format!("--format json {command}"));
        let value: serde_json::Value =
            serde_json::from_str(&run.stdout).unwrap_or_else(|e| panic!("{command}: {e}\n{}", run.stdout));
        assert_eq!(value["format"], 1, "{command}");
        let name: Vec<&str> = command.split(' ').take(if command.starts_with(['c', 'r']) { 2 } else { 1 }).collect();
        assert_eq!(value["command"], name.join(" "), "{command}");
        assert_eq!(run.status, i32::from(command == "audit"), "{command}");
    }
    let list: serde_json::Value = serde_json::from_str(&sandbox.run("console", "--format json list").stdout).unwrap();
    assert_eq!(list["packages"][0]["package"], "gust");
    let error = sandbox.run("", "--format json list").expect(2);
    let value: serde_json::Value = serde_json::from_str(&error.stdout).unwrap();
    assert_eq!((&value["errors"][0]["code"], &value["exit"]), (&"no-project".into(), &2.into()));
    assert_eq!(error.stderr, "");
}

#[test]
fn cache_stats_count_what_there_is() {
    let sandbox = small_world();
    assert!(sandbox.run("", "cache stats").expect(0).stdout.contains("archives  0"));
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let told = sandbox.run("", "cache stats").expect(0).stdout;
    assert!(told.contains("archives  3") && told.contains("in 7 files") && told.contains("projects  1"), "{told}");
}
