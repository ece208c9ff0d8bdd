//! `lock`. The accidents this prevents: something moves and nobody is told; a lock that differs for no reason.

use crate::{project, publish, small_world};

#[test]
fn a_lockfile_that_fits_is_neither_changed_nor_written() {
    let sandbox = small_world();
    let told = || -> serde_json::Value {
        serde_json::from_str(&sandbox.run("console", "--format json lock").expect(0).stdout).unwrap()
    };
    let first = told();
    assert_eq!((&first["changed"], &first["written"]), (&true.into(), &true.into()));
    let again = told();
    assert_eq!((&again["changed"], &again["written"], &again["search"]), (&false.into(), &false.into(), &().into()));
    assert_eq!(again["seal"], first["seal"]);
}

#[test]
fn locking_twice_changes_no_byte_and_order_does_not_matter() {
    let sandbox = small_world();
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("Locked 3 packages") && told.contains("added  gust  2.1.0  console needs ^2"), "{told}");
    let first = sandbox.read("console/yostel.lock");
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert_eq!(told, "3 packages locked in yostel.lock; nothing changed.\n");
    assert_eq!(sandbox.read("console/yostel.lock"), first);

    project(&sandbox, "unit = \"^1\"\ngust = \"^2\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock --fresh").expect(0);
    let one = sandbox.read("console/yostel.lock");
    project(&sandbox, "gust = \"^2\"\nunit = \"^1\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock --fresh").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), one);
}

#[test]
fn what_is_locked_stays_and_what_moves_is_told() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"", "rig = \"^0.9\"");
    let kept = sandbox.run("console", "lock").expect(0).stdout;
    assert!(
        kept.contains("no version changed")
            && kept.contains("gust stays at 2.0.0; with yostel update it would be 2.1.0"),
        "{kept}"
    );
    let before = sandbox.read("console/yostel.lock");
    let preview = sandbox.run("console", "lock --fresh --preview").expect(0).stdout;
    assert!(
        preview.contains("moved  gust  2.0.0 -> 2.1.0  console needs ^2") && preview.contains("nothing was written")
    );
    assert_eq!(sandbox.read("console/yostel.lock"), before);
    project(&sandbox, "gust = \"^3\"", "");
    let moved = sandbox.run("console", "lock").expect(0).stdout;
    for line in [
        "moved  gust  2.0.0 -> 3.0.0, not compatible  console needs ^3",
        "moved  unit  1.1.0 -> 2.0.0, not compatible  gust 3.0.0 needs ^2",
        "gone   rig   0.9.0                           nothing needs it any more",
        "careful: 2 moves are not compatible with what was locked",
        "2 locked packages moved, the fewest possible.",
    ] {
        assert!(moved.contains(line), "{line} in {moved}");
    }
}

#[test]
fn a_lock_is_stale_by_meaning_only() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    project(&sandbox, "gust = \">=2.1, <3\"", "rig = \"^0.9\"");
    sandbox.run("console", "install").expect(0);
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    let before = sandbox.picture("console");
    let told = sandbox.run("console", "install").expect(6);
    told.says(&[
        "no longer fits yostel.toml",
        "gust is locked at 2.1.0, but console needs =2.0.0",
        "next: yostel lock",
    ]);
    for command in ["alter gust", "cache save ../kit.tar", "verify --lock"] {
        sandbox.run("console", command).expect(6);
    }
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn a_collision_is_told_with_both_requirements_and_the_path_between_them() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"\n\"valley/bell\" = \"^1\"", "map = \"*\"");
    publish(&sandbox, "map 1.0.0", "unit = '*'", &[]);
    let before = sandbox.picture("console");
    let told = sandbox.run("console", "lock").expect(3);
    let told = told.says(&[
        "error: gust ^2 and valley/bell ^1 cannot be met together",
        "yostel.toml:6: console needs gust ^2, which leaves 2.1.0 or 2.0.0",
        "yostel.toml:7: console needs valley/bell ^1, which leaves 1.0.0",
        "gust 2.0.0 and 2.1.0 need unit ^1, which leaves 1.1.0 or 1.0.0",
        "valley/bell 1.0.0 needs unit >=2, which leaves 2.0.0",
        "next: yostel settle",
    ]);
    assert!(told.stderr.lines().count() <= 22, "it fits a terminal of 24 lines");
    assert!(!told.stderr.contains("map"), "what has no part in it is not named");
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn a_release_that_was_published_again_is_caught_while_locking() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let lock = sandbox.read("console/yostel.lock");
    for path in ["station/releases/gust.json", "made/gust-2.1.0/bin/gust-now"] {
        std::fs::remove_file(sandbox.path(path)).unwrap();
    }
    publish(&sandbox, "gust 2.1.0", "unit = '^1'", &[("bin/gust-now", "#!/bin/sh\necho other\n")]);
    project(&sandbox, "gust = \">=2\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(4).says(&["gust 2.1.0 was published again with different content"]);
    assert_eq!(sandbox.read("console/yostel.lock"), lock);
    let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(told.contains("content  gust  2.1.0, other content"), "{told}");
}

#[test]
fn a_project_may_pin_the_tool_and_need_nothing() {
    let sandbox = small_world();
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\nyostel = \">=0.1\"\n");
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("no package is needed yet"), "{told}");
    sandbox.run("console", "install").expect(0);
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\nyostel = \"^9\"\n");
    sandbox.run("console", "lock").expect(2).says(&["console wants yostel ^9, this is 0.1.0"]);
}
