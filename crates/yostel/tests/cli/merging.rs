//! `lock --merge`. The accident this prevents: a merge that quietly throws away what one side chose.

use yostel_testkit::Sandbox;

use crate::{project, publish, small_world};

/// Runs a line of shell that must work.
fn shell(sandbox: &Sandbox, line: &str) -> String {
    sandbox.finish(&mut sandbox.shell("console", line)).expect(0).stdout
}

fn locked(sandbox: &Sandbox) -> String {
    let list = sandbox.run("console", "list").expect(0).stdout;
    let rows = list.lines().skip(1).filter_map(|line| {
        let mut words = line.split_whitespace();
        Some(format!("{} {}", words.next()?, words.next()?))
    });
    rows.filter(|row| !row.contains("packages")).collect::<Vec<_>>().join(", ")
}

/// A project locked to old releases, in git, of which newer ones are there now.
fn behind() -> Sandbox {
    let sandbox = small_world();
    publish(&sandbox, "hoist 1.0.0", "", &[]);
    project(&sandbox, "gust = \"=2.0.0\"\nhoist = \"^1\"\nunit = \"=1.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"\nhoist = \"^1\"\nunit = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    assert_eq!(locked(&sandbox), "gust 2.0.0, hoist 1.0.0, unit 1.0.0");
    publish(&sandbox, "hoist 1.1.0", "", &[]);
    shell(
        &sandbox,
        "git init -q -b main && git config user.name t && git config user.email t@t && git add . && git commit -qm base",
    );
    sandbox
}

#[test]
fn what_either_side_moved_stays_moved_and_nothing_else_moves() {
    let sandbox = behind();
    // Theirs moves gust; ours needs one package more. Neither moves hoist or unit, which could be newer.
    shell(&sandbox, "git checkout -qb theirs");
    sandbox.run("console", "add gust ^2.1").expect(0);
    sandbox.run("console", "lock").expect(0);
    shell(&sandbox, "git commit -qam theirs && git checkout -q main");
    sandbox.run("console", "add rig ^0.9").expect(0);
    sandbox.run("console", "lock").expect(0);
    shell(&sandbox, "git commit -qam ours");
    sandbox.run("console", "lock --merge").expect(2).says(&["git has no two sides of yostel.lock here"]);
    sandbox.finish(&mut sandbox.shell("console", "git merge -q theirs"));
    let marks = sandbox.read("console/yostel.lock");
    assert!(marks.contains("<<<<<<<"), "{marks}");
    if sandbox.read("console/yostel.toml").contains("<<<<<<<") {
        project(&sandbox, "gust = \"^2.1\"\nhoist = \"^1\"\nrig = \"^0.9\"\nunit = \"^1\"", "");
    }
    sandbox.run("console", "lock").expect(4).says(&["next: yostel lock --merge,"]);
    let told = sandbox.run("console", "lock --merge --preview").expect(0).stdout;
    assert!(told.contains("gust  2.0.0 -> 2.1.0"), "{told}");
    assert_eq!(sandbox.read("console/yostel.lock"), marks);
    sandbox.run("console", "lock --merge").expect(0);
    assert_eq!(locked(&sandbox), "gust 2.1.0, hoist 1.0.0, rig 0.9.0, unit 1.0.0");
    sandbox.run("console", "verify --lock").expect(0);
    let once = sandbox.read("console/yostel.lock");
    sandbox.run("console", "lock --merge").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), once, "as long as git has both sides, it comes to the same");
    shell(&sandbox, "git add . && git commit -qm merged");
    sandbox.run("console", "lock --merge").expect(2);
}

#[test]
fn of_what_both_sides_moved_the_newer_counts_and_that_is_told() {
    let sandbox = behind();
    publish(&sandbox, "hoist 1.2.0", "", &[]);
    let side = |accept: &str, file: &str| {
        project(&sandbox, &format!("gust = \"^2\"\nhoist = \"{accept}\"\nunit = \"^1\""), "");
        sandbox.run("console", "lock").expect(0);
        std::fs::rename(sandbox.path("console/yostel.lock"), sandbox.path(file)).unwrap();
        shell(&sandbox, "git checkout -q yostel.lock");
    };
    std::fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("base.lock")).unwrap();
    side("=1.1.0", "ours.lock");
    side("=1.2.0", "theirs.lock");
    project(&sandbox, "gust = \"^2\"\nhoist = \"^1\"\nunit = \"^1\"", "");
    let told = sandbox.run("console", "lock --merge ../base.lock ../ours.lock ../theirs.lock").expect(0).stdout;
    assert!(told.contains("note: ours moved hoist to 1.1.0, theirs to 1.2.0; the newer counts\n"), "{told}");
    assert!(told.contains("moved  hoist  1.1.0 -> 1.2.0"), "against ours: {told}");
    assert_eq!(locked(&sandbox), "gust 2.0.0, hoist 1.2.0, unit 1.0.0");
    sandbox.write("empty.lock", "");
    // The other way round it is the same lockfile; so it is where nothing is known of how they began.
    let one = sandbox.read("console/yostel.lock");
    for words in ["../base.lock ../theirs.lock ../ours.lock", "../empty.lock ../ours.lock ../theirs.lock"] {
        sandbox.run("console", &format!("lock --merge {words}")).expect(0);
        assert_eq!(sandbox.read("console/yostel.lock"), one, "{words}");
    }
    let told = sandbox.run("console", "--format json lock --merge ../base.lock ../ours.lock ../theirs.lock").expect(0);
    let told: serde_json::Value = serde_json::from_str(&told.stdout).unwrap();
    assert_eq!(told["both-moved"][0]["theirs"], "1.2.0");
}

#[test]
fn sides_that_cannot_be_read_leave_the_lockfile_alone() {
    let sandbox = behind();
    std::fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("base.lock")).unwrap();
    sandbox.write("empty.lock", "");
    sandbox.write("bad.lock", sandbox.read("base.lock").replace("2.0.0", "2.1.0"));
    let before = sandbox.picture("console");
    for (words, status, says) in [
        ("../base.lock ../base.lock", 2, "takes three lockfiles"),
        ("../base.lock", 2, "takes three lockfiles"),
        ("../base.lock ../none ../base.lock", 7, "none"),
        ("../base.lock ../base.lock ../bad.lock", 4, "its seal does not fit"),
        ("../base.lock ../empty.lock ../base.lock", 4, "no seal"),
    ] {
        sandbox.run("console", &format!("lock --merge {words}")).expect(status).says(&[says]);
    }
    sandbox.run("console", "lock --merge --fresh").expect(2);
    assert_eq!(sandbox.picture("console"), before);
}
