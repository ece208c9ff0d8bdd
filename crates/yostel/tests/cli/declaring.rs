//! `init`, `add`, `remove`. The accident this prevents: an edit that loses a comment, or a constraint nobody meant.

use crate::{sandbox, small_world};

#[test]
fn from_nothing_to_a_locked_project_in_four_commands() {
    let sandbox = small_world();
    std::fs::create_dir(sandbox.path("tower")).unwrap();
    let init = sandbox.run("tower", "init --source station=../station").expect(0);
    assert!(init.stdout.starts_with("Wrote yostel.toml for tower.\n"), "{}", init.stdout);
    sandbox.run("tower", "add gust").expect(0);
    assert!(sandbox.read("tower/yostel.toml").contains("gust = \"^3.0.0\""));
    sandbox.run("tower", "lock").expect(0);
    sandbox.run("tower", "install").expect(0);
    sandbox.run("tower", "init").expect(2).says(&["is there already", "next: yostel add NAME"]);
}

#[test]
fn a_name_that_cannot_work_is_refused_and_of_a_folder_the_nearest_is_taken_that_would() {
    let sandbox = sandbox();
    std::fs::create_dir(sandbox.path("Control Room")).unwrap();
    let before = sandbox.picture("");
    sandbox.run("Control Room", "init Tower").expect(2).says(&["`tower` would do"]);
    assert_eq!(sandbox.picture(""), before);
    let told = sandbox.run("Control Room", "init").expect(0).stdout;
    assert!(told.starts_with("Wrote yostel.toml for control-room.\n"), "{told}");
}

#[test]
fn add_tells_what_the_constraint_accepts_and_warns_where_nothing_bounds_it() {
    let sandbox = small_world();
    let add = |words: &str| sandbox.run("console", words).expect(0).stdout;
    let told = add("add unit >=1.1");
    assert!(told.contains("Added unit >=1.1 to [needs.run] in yostel.toml."), "{told}");
    assert!(told.contains("It accepts at least 1.1.0.") && told.contains("2 of 3 releases in station: 2.0.0, 1.1.0"));
    assert!(told.contains("warning: nothing bounds it from above") && told.contains("yostel add unit '^2.0.0'"));
    let told = add("add unit ^1 --for test");
    assert!(
        told.contains("[needs.test]")
            && told.contains("note: 2.0.0 is newer, and not accepted")
            && !told.contains("warning")
    );
    let told = add("add gust ^2");
    assert!(told.contains("was in yostel.toml already"));
}

#[test]
fn edits_keep_comments_order_and_spacing() {
    let sandbox = small_world();
    let text =
        sandbox.read("console/yostel.toml").replace("gust = \"^2\"", "# careful\ngust   =   \"^2\"  # calibrated");
    sandbox.write("console/yostel.toml", &text);
    sandbox.run("console", "add gust ^3").expect(0);
    assert_eq!(sandbox.read("console/yostel.toml"), text.replace("^2", "^3"));
    sandbox.run("console", "add valley/bell ^1").expect(0);
    sandbox.run("console", "remove valley/bell").expect(0);
    sandbox.run("console", "add gust ^2").expect(0);
    assert_eq!(sandbox.read("console/yostel.toml"), text);
}

#[test]
fn what_cannot_be_added_or_removed_leaves_the_manifest_alone() {
    let sandbox = small_world();
    let before = sandbox.picture("console");
    let run = |words: &str| sandbox.run("console", words).expect(2);
    run("add gusr ^2").says(&["no source has gusr (asked: station)", "next: gust exists, if that is the one"]);
    run("add telescope").says(&["no source has telescope"]);
    run("add gust ^9").says(&[
        "no release of gust meets ^9",
        "its releases are 3.0.0, 2.1.0 and 2.0.0",
        "yostel add gust '^3.0.0'",
    ]);
    run("add gust 2.1").says(&["can be read in two ways", "yostel add gust '2.1.*'", "yostel add gust '^2.1'"]);
    run("add gust ~2.1").says(&["`~` means different things", "yostel add gust '>=2.1, <2.2'"]);
    run("add gust =2.1").says(&["leaves numbers out", "write \"=2.1.0\"", "write \"2.1.*\""]);
    run("add gust >=2,<1").says(&["no release of gust meets >=2, <1"]);
    run("remove unit").says(&["yostel.toml has no need named `unit`"]);
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn a_project_that_needs_nothing_is_told_so() {
    let sandbox = sandbox();
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\n");
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert_eq!(told, "yostel.lock is written; no package is needed yet.\n");
    let told = sandbox.run("console", "install").expect(0).stdout;
    assert!(told.starts_with("Nothing to install: the lockfile has no packages.\n"), "{told}");
    sandbox.run("", "registry create station").expect(2).says(&["is a registry already", "yostel registry list"]);
}
