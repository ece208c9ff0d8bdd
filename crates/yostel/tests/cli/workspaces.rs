//! Workspaces: many projects, one truth about versions. The accidents this prevents: a library that is tested with other
//! versions than the product that ships it; code that uses what its manifest does not declare; forty manifests that each
//! state a version.

use std::fs;
use std::os::unix::fs::symlink;

use yostel_testkit::Sandbox;

use crate::{publish, sandbox};

/// A workspace of three: the console needs the library, which needs the scale that the console needs newer.
fn world() -> Sandbox {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.1.0"] {
        let script = format!("#!/bin/sh\necho scale {version}\n");
        publish(&sandbox, &format!("scale {version}"), "", &[("bin/scale", &script)]);
    }
    publish(&sandbox, "rig 0.9.0", "", &[("bin/rig", "#!/bin/sh\necho rig\n")]);
    let top = "[project]\nname = \"all\"\n\n[workspace]\nprojects = [\"console\", \"libs/*\"]\n\n";
    sandbox.write("work/yostel.toml", format!("{top}[sources.station]\nfolder = \"../station\"\n"));
    project(&sandbox, "console", "console", "0.4.0", "scale = \">=1.1, <2\"\nrope-lib = \"^1.2\"\n");
    project(&sandbox, "libs/rope", "rope-lib", "1.2.0", "scale = \"^1\"\n\n[needs.test]\nrig = \"^0.9\"\n");
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "");
    sandbox
}

fn project(sandbox: &Sandbox, folder: &str, name: &str, version: &str, needs: &str) {
    let head = format!("[project]\nname = \"{name}\"\nversion = \"{version}\"\n");
    sandbox.write(&format!("work/{folder}/yostel.toml"), format!("{head}\n[needs.run]\n{needs}"));
}

/// A workspace that is locked and installed.
fn installed() -> Sandbox {
    let sandbox = world();
    sandbox.run("work/libs/bell", "lock").expect(0);
    sandbox.run("work/console", "install").expect(0);
    sandbox
}

#[test]
fn all_projects_share_one_lockfile_and_one_install_and_each_sees_what_it_declared() {
    let sandbox = installed();
    assert!(sandbox.path("work/yostel.lock").exists() && !sandbox.path("work/libs/bell/yostel.lock").exists());
    assert!(!sandbox.path("work/console/.yostel").exists());
    let lockfile = sandbox.read("work/yostel.lock");
    assert!(lockfile.contains("from = { project = \"libs/rope\" }"), "{lockfile}");
    let seen = |who: &str, purpose: &str| -> Vec<String> {
        let Ok(entries) = fs::read_dir(sandbox.path(&format!("work/.yostel/reach/{who}/{purpose}"))) else {
            return Vec::new();
        };
        let mut names: Vec<String> = entries.map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    };
    assert_eq!(seen("projects/console", "run"), ["rope-lib", "scale"]);
    assert_eq!(seen("projects/rope-lib", "run"), ["scale"]);
    assert_eq!(seen("projects/rope-lib", "test"), ["rig"]);
    // What a project did not declare, it does not find.
    assert_eq!(seen("projects/bell-lib", "run"), [""; 0]);
    assert_eq!(seen("projects/console", "test"), [""; 0]);
    // The library is there as it is in the workspace, so an edit is seen at once.
    sandbox.write("work/libs/rope/note.txt", "new");
    assert_eq!(sandbox.read("work/.yostel/reach/projects/console/run/rope-lib/note.txt"), "new");
    sandbox.run("work", "verify").expect(0);
    sandbox.run("work", "install --offline").expect(0);
}

#[test]
fn a_library_is_tested_with_the_versions_that_the_product_ships() {
    let sandbox = installed();
    // Alone, it would be tested with the scale that it was written against.
    let script = "test \"$(scale)\" = 'scale 1.0.0' || { echo \"the scale says: $(scale)\"; exit 1; }\n";
    sandbox.write("work/libs/rope/test.sh", script);
    let run = sandbox.run("work/libs/rope", "run -- sh test.sh").expect(1);
    assert_eq!(run.stdout, "the scale says: scale 1.1.0\n");
    // The product's environment holds the same one.
    assert_eq!(sandbox.run("work/console", "run -- scale").expect(0).stdout, "scale 1.1.0\n");
    // The library's tests find their rig; the product does not.
    sandbox.run("work/libs/rope", "run -- rig").expect(0);
    sandbox.run("work/console", "run -- rig").expect(2).says(&["`rig` cannot be run"]);
    sandbox.run("work/libs/bell", "run -- scale").expect(2);
    sandbox.run("work", "run -- scale").expect(2).says(&["yostel --project NAME run"]);
}

#[test]
fn needs_between_projects_are_checked_and_follow_what_lies_there() {
    let sandbox = installed();
    project(&sandbox, "libs/rope", "rope-lib", "2.0.0", "scale = \"^1\"\n");
    let run = sandbox.run("work", "install").expect(6);
    run.says(&["rope-lib is locked as 1.2.0 (project libs/rope); the manifest now says 2.0.0 (project libs/rope)"]);
    let run = sandbox.run("work", "lock").expect(3);
    run.says(&["console/yostel.toml:7: console needs rope-lib ^1.2; it is 2.0.0 (project libs/rope)"]);
    project(&sandbox, "libs/rope", "rope-lib", "1.3.0", "scale = \"^1\"\n");
    let told = sandbox.run("work", "lock").expect(0).stdout;
    assert!(told.contains("1.2.0 -> 1.3.0"), "{told}");
    sandbox.run("work", "install").expect(0);
    // What only its tests needed is gone.
    assert!(!sandbox.read("work/yostel.lock").contains("name = \"rig\""));
}

#[test]
fn commands_know_the_project_they_are_run_in_or_told_of() {
    let sandbox = installed();
    let told = sandbox.run("work/libs/bell", "add scale ^1").expect(0).stdout;
    assert!(told.contains("Added scale ^1 to [needs.run] in yostel.toml"), "{told}");
    assert!(sandbox.read("work/libs/bell/yostel.toml").contains("scale = \"^1\""));
    sandbox.run("work", "--project console remove rope-lib").expect(0);
    assert!(!sandbox.read("work/console/yostel.toml").contains("rope-lib"));
    sandbox.run("work", "lock").expect(0);
    let list = |words: &str| sandbox.run("work", words).expect(0).stdout;
    assert!(list("list").contains("2 packages, 2 of them asked for by one of 4 projects"), "{}", list("list"));
    assert!(!list("--project bell-lib list").contains("rig"), "{}", list("--project bell-lib list"));
    assert!(list("--project bell-lib tree").starts_with("bell-lib 2.0.0\n└─ scale 1.1.0"));
    let tree = list("tree");
    assert!(tree.contains("console 0.4.0\n") && tree.contains("rope-lib 1.2.0\n"), "{tree}");
    let run = sandbox.run("work", "--project bel-lib list").expect(2);
    run.says(&["there is no project bel-lib here", "bell-lib exists, if that is the one"]);
    // An install of one project's part holds that part.
    sandbox.run("work", "install --needed-by bell-lib").expect(0);
    assert!(
        !sandbox.path("work/.yostel/reach/projects/rope-lib").exists()
            && sandbox.path("work/.yostel/reach/projects/bell-lib").exists()
    );
    sandbox.run("work", "verify").expect(0);
    sandbox.run("work", "install --needed-by bell").expect(2).says(&["there is no project bell here"]);
}

#[test]
fn what_ships_with_a_project_holds_its_libraries_needs_and_no_test() {
    let sandbox = installed();
    sandbox.run("work", "install --needed-by console --for run").expect(0);
    let packages = |name: &str| sandbox.path(&format!("work/.yostel/packages/{name}")).exists();
    assert!(packages("scale") && !packages("rig"));
    assert!(sandbox.path("work/.yostel/reach/projects/rope-lib/run/scale").exists());
    assert!(!sandbox.path("work/.yostel/reach/projects/rope-lib/test").exists());
}

#[test]
fn each_runs_in_the_order_of_needs_and_sums_up() {
    let sandbox = installed();
    let run = sandbox.finish(&mut sandbox.shell("work", "yostel run --each -- sh -c 'basename $PWD'")).expect(0);
    let lines: Vec<&str> = run.stdout.lines().collect();
    // The console needs the rope library, so that comes first.
    assert_eq!(lines[..3], ["bell", "rope", "console"], "{}", run.stdout);
    assert!(run.stdout.contains("3 projects: 3 fine."), "{}", run.stdout);
    let failing = "yostel run --each -- sh -c 'test $(basename $PWD) != rope || exit 4'";
    let run = sandbox.finish(&mut sandbox.shell("work", failing)).expect(4);
    assert!(run.stdout.contains("failed, status 4") && run.stdout.contains("not run"), "{}", run.stdout);
    let going_on = failing.replace("--each", "--each --go-on --format json");
    let run = sandbox.finish(&mut sandbox.shell("work", &going_on)).expect(4);
    let document: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    let statuses: Vec<i64> =
        document["projects"].as_array().unwrap().iter().map(|one| one["status"].as_i64().unwrap()).collect();
    assert_eq!(statuses, [0, 4, 0]);
}

#[test]
fn agreed_versions_bind_all_projects_and_gathering_them_moves_nothing() {
    let sandbox = world();
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "scale = \"^1\" # weights\n");
    project(&sandbox, "console", "console", "0.4.0", "scale = \">=1.0, <1.1\"\n");
    sandbox.run("work", "lock").expect(0);
    let told = sandbox.run("work", "agree").expect(0).stdout;
    assert!(told.contains("There is nothing to agree on"), "{told}");
    assert!(told.contains("scale stays as it is: console >=1.0, <1.1, bell-lib ^1 and rope-lib ^1"), "{told}");
    project(&sandbox, "console", "console", "0.4.0", "scale = \"^1\"\n");
    sandbox.run("work", "lock").expect(0);
    let packages = |text: String| text.split_once("[[chosen]]").unwrap().1.to_owned();
    let before = packages(sandbox.read("work/yostel.lock"));
    sandbox.run("work", "agree scael").expect(2).says(&["has no need named `scael`"]);
    let told = sandbox.run("work/libs", "agree scale").expect(0).stdout;
    assert!(told.contains("scale ^1, which bell-lib, console and rope-lib had"), "{told}");
    assert!(sandbox.read("work/yostel.toml").contains("[agreed]\nscale = \"^1\""));
    assert!(sandbox.read("work/libs/bell/yostel.toml").contains("scale = \"agreed\" # weights"));
    // The lockfile still fits, and what is locked stays.
    sandbox.run("work", "install").expect(0);
    sandbox.run("work", "lock").expect(0);
    assert_eq!(packages(sandbox.read("work/yostel.lock")), before);
    // A project that deviates says why, and the audit tells.
    let deviation = "scale = { accept = \"<1.1\", why = \"1.1 counts grams\" }\n";
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", deviation);
    sandbox.run("work", "lock").expect(0);
    let told = sandbox.run("work", "audit upkeep").expect(1).stdout;
    assert!(told.contains("libs/bell/yostel.toml:6") && told.contains("1.1 counts grams"), "{told}");
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "scale = \"<1.1\"\n");
    sandbox.run("work", "lock").expect(2).says(&["libs/bell/yostel.toml:6", "[agreed] has scale at ^1"]);
}

#[test]
fn only_what_is_named_is_agreed_on() {
    let sandbox = world();
    publish(&sandbox, "chime 1.0.0", "", &[]);
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "chime = \"^1\"\nscale = \"^1\"\n");
    project(&sandbox, "console", "console", "0.4.0", "chime = \"^1\"\nscale = \"^1\"\n");
    sandbox.run("work", "agree chime").expect(0);
    let root = sandbox.read("work/yostel.toml");
    assert!(root.contains("[agreed]\nchime = \"^1\"\n") && !root.contains("scale ="), "{root}");
    assert!(sandbox.read("work/console/yostel.toml").contains("chime = \"agreed\"\nscale = \"^1\"\n"));
    sandbox.run("work", "agree").expect(0);
    assert!(sandbox.read("work/yostel.toml").contains("chime = \"^1\"\nscale = \"^1\"\n"));
}

#[test]
fn an_edit_changes_the_manifest_of_the_project_whose_requirement_it_is() {
    let sandbox = installed();
    publish(&sandbox, "scale 2.0.0", "", &[]);
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "scale = \"^2\" # weights\n");
    let before = sandbox.picture("work");
    let run = sandbox.run("work", "lock").expect(3);
    run.says(&["libs/bell/yostel.toml:6: bell-lib needs scale ^2", "console/yostel.toml:6: console needs scale"]);
    assert_eq!(sandbox.picture("work"), before);
    let told = sandbox.run("work", "settle").expect(0).stdout;
    // What was written last is held as long as something else can give.
    for line in [
        "  1 allow incompatible versions of scale side by side\n",
        "  2 change scale of console from >=1.1, <2 to ^2.0.0 and change scale of rope-lib from ^1 to ^2.0.0\n",
        "  3 change scale of bell-lib from ^2 to ^1.1.0\n",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    sandbox.run("work", "settle 3").expect(0);
    assert!(sandbox.read("work/libs/bell/yostel.toml").contains("scale = \"^1.1.0\" # weights"));
    sandbox.run("work", "install").expect(0);
}

#[test]
fn what_contradicts_itself_is_told_with_its_place_and_nothing_changes() {
    let sandbox = installed();
    let top = sandbox.read("work/yostel.toml");
    let with = |projects: &str| {
        sandbox.write("work/yostel.toml", top.replace("\"console\", \"libs/*\"", projects));
        sandbox.run("work", "lock").expect(2)
    };
    let place = "at yostel.toml:5:";
    with("\"console\", \"libs/*\", \"libs/rope\"").says(&["libs/rope is listed twice, by `libs/*` too", place]);
    with("\"console\", \"console\"").says(&["`console` is listed twice", place]);
    with("\"console\", \"gone\"").says(&["there is no project in gone", place]);
    with("\"console\", \"../other\"").says(&["it is a folder below this one", place]);
    with("\"console\", \"libs/**\"").says(&["write one entry for each level", place]);
    symlink("loop", sandbox.path("work/loop")).unwrap();
    with("\"console\", \"lo*\"").says(&["loop is a link that leads in a circle", place]);
    symlink("..", sandbox.path("work/libs/up")).unwrap();
    with("\"console\", \"libs/*\"").says(&["libs/up is a link that leads in a circle", place]);
    fs::remove_file(sandbox.path("work/libs/up")).unwrap();
    symlink("rope", sandbox.path("work/libs/same")).unwrap();
    with("\"console\", \"libs/*\"").says(&["libs/rope is listed twice", place]);
    // Left out by name, a link harms nobody.
    sandbox.write("work/yostel.toml", top.replace("\"libs/*\"", "\"libs/*\", \"!libs/same\""));
    sandbox.run("work", "install").expect(0);
    fs::remove_file(sandbox.path("work/libs/same")).unwrap();
    sandbox.write("work/yostel.toml", &top);
    project(&sandbox, "libs/bell", "rope-lib", "2.0.0", "");
    sandbox.run("work", "lock").expect(2).says(&["libs/bell and libs/rope are both named rope-lib", place]);
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "\n[workspace]\nprojects = [\"x\"]\n");
    sandbox.run("work/libs/bell", "lock").expect(2).says(&["cannot be a workspace itself", "yostel.toml:7:2"]);
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "\n[policy]\ntake = \"oldest\"\n");
    sandbox.run("work", "lock").expect(2).says(&["`policy` holds for all projects", "libs/bell/yostel.toml:7:2"]);
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "scale = { path = \"../../x\", git = \"y\" }\n");
    sandbox.run("work", "lock").expect(2).says(&["`git` and `path` contradict each other"]);
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", "");
    sandbox.run("work", "install").expect(0);
}

#[test]
fn each_project_may_pin_the_tool() {
    let sandbox = world();
    let manifest = sandbox.read("work/libs/bell/yostel.toml");
    sandbox.write("work/libs/bell/yostel.toml", manifest.replace("version =", "yostel = \"^9\"\nversion ="));
    sandbox.run("work/console", "lock").expect(2).says(&["bell-lib wants yostel ^9, this is 0.1.0"]);
}

#[test]
fn where_a_need_counts_stays_with_it_when_its_constraint_is_agreed_on() {
    let sandbox = world();
    let on = "scale = { accept = \"^1\", only-on = [\"linux/*\"] }\n";
    project(&sandbox, "console", "console", "0.4.0", "scale = \"^1\"\n");
    project(&sandbox, "libs/bell", "bell-lib", "2.0.0", on);
    sandbox.run("work", "agree").expect(0);
    assert!(sandbox.read("work/yostel.toml").contains("[agreed]\nscale = \"^1\"\n"));
    let kept = "scale = { accept = \"agreed\", only-on = [\"linux/*\"] }";
    assert!(sandbox.read("work/libs/bell/yostel.toml").contains(kept));
    sandbox.run("work", "lock").expect(0);
}

#[test]
fn a_project_is_needed_by_constraint_and_not_from_elsewhere() {
    let sandbox = installed();
    let before = sandbox.picture("work");
    let run = sandbox.run("work", "--project console add rope-lib --path libs/rope").expect(2);
    run.says(&["by project libs/rope and by path libs/rope", "yostel add rope-lib CONSTRAINT"]);
    assert_eq!(sandbox.picture("work"), before);
    // What is agreed binds the others too, so what they say otherwise is told before anything is written.
    let refused = sandbox.run("work", "--project bell-lib add scale ^1 --agreed").expect(2);
    refused.says(&["[agreed] has scale at ^1; this need differs"]);
    assert_eq!(sandbox.picture("work"), before);
    publish(&sandbox, "chime 1.0.0", "", &[]);
    let told = sandbox.run("work", "--project bell-lib add chime ^1 --agreed").expect(0).stdout;
    assert!(told.contains("in libs/bell/yostel.toml. Agreed on it in yostel.toml."), "{told}");
}

#[test]
fn a_folder_that_no_entry_names_is_a_project_of_its_own() {
    let sandbox = installed();
    sandbox.write("work/spare/yostel.toml", "[project]\nname = \"spare\"\n");
    sandbox.run("work/spare", "lock").expect(0);
    assert!(sandbox.path("work/spare/yostel.lock").exists());
    assert!(!sandbox.read("work/yostel.lock").contains("spare"));
}
