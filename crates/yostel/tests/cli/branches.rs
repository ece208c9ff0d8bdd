//! Git, with real branches: manifests and lockfiles that both moved are merged without manual work.
//! The accidents this prevents: an afternoon in a lockfile full of marks; a rebase that stops at every commit; and a merge that
//! is consistent and throws away what one side chose.

use yostel_testkit::Sandbox;

use crate::{publish, sandbox};

/// Runs a line of shell in the project that must work.
#[track_caller]
fn shell(sandbox: &Sandbox, line: &str) -> String {
    sandbox.finish(&mut sandbox.shell("console", line)).expect(0).stdout
}

/// A project in git that needs six packages at their first versions, of each of which there are newer ones.
fn in_git() -> Sandbox {
    let sandbox = sandbox();
    for name in ["bell", "gust", "horn", "lamp", "mast", "rope"] {
        for version in ["1.0.0", "1.1.0", "1.2.0"] {
            let needs = if name == "rope" { "" } else { "rope = '^1'" };
            publish(&sandbox, &format!("{name} {version}"), needs, &[("a", version)]);
        }
    }
    publish(&sandbox, "gust 2.0.0", "rope = '^1'", &[("a", "a")]);
    publish(&sandbox, "sail 1.0.0", "gust = '^2'", &[("a", "a")]);
    let needs = ["bell", "gust", "horn", "lamp", "mast", "rope"].map(|name| format!("{name} = \"^1\"\n")).concat();
    let manifest = format!(
        "[project]\nname = \"console\"\nversion = \"0.4.0\"\n\n[needs.run]\n{needs}\n[sources.station]\nfolder = \"../station\"\n"
    );
    sandbox.write("console/yostel.toml", manifest);
    sandbox.run("console", "lock --take oldest").expect(0);
    let identity = "git config user.name t && git config user.email t@t.example";
    shell(&sandbox, &format!("git init -q -b main && {identity}"));
    let told = shell(&sandbox, "yostel init --git");
    assert!(told.contains(".gitattributes has `yostel.lock merge=yostel diff=yostel` now; commit it"), "{told}");
    assert!(shell(&sandbox, "yostel init --git").contains("already"), "once is enough");
    shell(&sandbox, "git add . && git commit -qm base");
    sandbox
}

fn locked(sandbox: &Sandbox) -> String {
    let list = sandbox.run("console", "--format json list").expect(0).stdout;
    let list: serde_json::Value = serde_json::from_str(&list).unwrap();
    let one = |package: &serde_json::Value| {
        format!("{} {}", package["package"].as_str().unwrap(), package["version"].as_str().unwrap())
    };
    list["packages"].as_array().unwrap().iter().map(one).collect::<Vec<_>>().join(", ")
}

/// Checks that nothing is left to do: what is locked fits, and locking again changes nothing.
#[track_caller]
fn nothing_left(sandbox: &Sandbox) {
    sandbox.run("console", "verify --lock").expect(0);
    let before = sandbox.read("console/yostel.lock");
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), before, "locking again changes nothing");
    assert_eq!(shell(sandbox, "git status --porcelain --untracked-files=no"), "");
}

const THEIRS: &str =
    "yostel update bell 1.2.0 && yostel add mast ^1.1 && yostel lock --quiet && git commit -qam theirs";
const OURS: &str = "yostel update gust 1.1.0 && yostel add rope ^1.1 && yostel lock --quiet && git commit -qam ours";

#[test]
fn branches_that_both_moved_the_lock_are_merged_rebased_and_picked_without_manual_work() {
    let sandbox = in_git();
    shell(&sandbox, &format!("git checkout -qb side && {THEIRS} && git checkout -q main && {OURS}"));
    for (how, line) in [
        ("merge", "git checkout -qB work main && git merge -q --no-edit side"),
        ("the other way round", "git checkout -qB work side && git merge -q --no-edit main"),
        ("rebase", "git checkout -qB work side && git rebase -q main"),
        ("pick", "git checkout -qB work main && git cherry-pick side"),
    ] {
        shell(&sandbox, line);
        assert_eq!(
            locked(&sandbox),
            "bell 1.2.0, gust 1.1.0, horn 1.0.0, lamp 1.0.0, mast 1.2.0, rope 1.2.0",
            "{how}: what either moved stays moved, and nothing else moves"
        );
        nothing_left(&sandbox);
    }
}

#[test]
fn a_rebase_of_several_commits_stops_nowhere() {
    let sandbox = in_git();
    let step = |package: &str, version: &str| {
        format!("yostel update {package} {version} --quiet && git commit -qam '{package} {version}'")
    };
    let side = [step("bell", "1.1.0"), step("bell", "1.2.0"), step("horn", "1.1.0")].join(" && ");
    shell(
        &sandbox,
        &format!(
            "git checkout -qb side && {side} && yostel remove lamp && yostel lock -q && git commit -qam 'no lamp'"
        ),
    );
    shell(&sandbox, &format!("git checkout -q main && {} && {}", step("gust", "1.2.0"), step("mast", "1.1.0")));
    shell(&sandbox, "git checkout -q side && git rebase -q main");
    assert_eq!(locked(&sandbox), "bell 1.2.0, gust 1.2.0, horn 1.1.0, mast 1.1.0, rope 1.0.0");
    nothing_left(&sandbox);
}

#[test]
fn what_both_moved_is_told_and_a_real_collision_is_left_to_people_with_nothing_lost() {
    let sandbox = in_git();
    shell(&sandbox, "git checkout -qb side && yostel update bell 1.2.0 && git commit -qam theirs");
    shell(&sandbox, "git checkout -q main && yostel update bell 1.1.0 && git commit -qam ours");
    let merged = sandbox.finish(&mut sandbox.shell("console", "git merge -q --no-edit side")).expect(0);
    assert!(merged.stderr.contains("both sides moved bell: ours to 1.1.0, theirs to 1.2.0"), "{}", merged.stderr);
    assert!(locked(&sandbox).contains("bell 1.2.0"));
    // Theirs needs gust 2 through sail; ours holds gust at 1.
    shell(
        &sandbox,
        "git checkout -qb sails && yostel add gust '*' && yostel add sail ^1 && yostel lock -q && git commit -qam sails",
    );
    shell(&sandbox, "git checkout -q main && yostel add gust '=1.2.0' && yostel lock -q && git commit -qam calm");
    let failed = sandbox.finish(&mut sandbox.shell("console", "git merge --no-edit sails"));
    assert_ne!(failed.status, 0);
    assert!(failed.stderr.contains("console needs gust for run: ours =1.2.0, theirs *"), "{}", failed.stderr);
    let manifest = sandbox.read("console/yostel.toml");
    assert!(manifest.contains("<<<<<<< ours") && manifest.contains("sail = \"^1\""), "{manifest}");
    // Somebody decides, and the rest is done as it is told.
    let decided = manifest.lines().filter(|line| !line.starts_with(['<', '=', '>']) && !line.contains("=1.2.0"));
    sandbox.write("console/yostel.toml", decided.map(|line| format!("{line}\n")).collect::<String>());
    shell(&sandbox, "yostel lock --merge && git add . && git commit -qm merged");
    assert!(locked(&sandbox).contains("gust 2.0.0") && locked(&sandbox).contains("sail 1.0.0"));
    nothing_left(&sandbox);
}

#[test]
fn needs_that_collide_only_together_are_told_as_a_collision() {
    let sandbox = in_git();
    shell(
        &sandbox,
        "git checkout -qb side && yostel remove gust && yostel add sail ^1 && yostel lock -q && git commit -qam sail",
    );
    // Ours needs gust at 1 for another purpose.
    shell(
        &sandbox,
        "git checkout -q main && yostel add gust '^1.1' --for test && yostel lock -q && git commit -qam test",
    );
    let failed = sandbox.finish(&mut sandbox.shell("console", "git merge --no-edit side"));
    assert_ne!(failed.status, 0);
    assert!(failed.stderr.contains("cannot be met together"), "{}", failed.stderr);
    let unmerged = shell(&sandbox, "git ls-files --unmerged");
    assert!(unmerged.lines().count() == 3 && unmerged.contains("yostel.lock"), "{unmerged}");
}

#[test]
fn outside_of_git_nothing_is_written_and_other_attributes_stay() {
    let sandbox = sandbox();
    std::fs::create_dir(sandbox.path("console")).unwrap();
    let refused =
        sandbox.finish(&mut sandbox.shell("console", "GIT_CEILING_DIRECTORIES=/ yostel init --git")).expect(2);
    refused.says(&["is in no repository of git's", "next: git init"]);
    let sandbox = in_git();
    sandbox.write("console/.gitattributes", "*.bin binary\nyostel.lock diff=yostel");
    shell(&sandbox, "git config merge.yostel.driver other");
    let told = shell(&sandbox, "yostel init --git");
    assert!(told.contains("it was `other`"), "{told}");
    let after = "*.bin binary\nyostel.lock diff=yostel\nyostel.lock merge=yostel\nyostel.toml merge=yostel\n";
    assert_eq!(sandbox.read("console/.gitattributes"), after);
    shell(&sandbox, "yostel undo");
    assert_eq!(sandbox.read("console/.gitattributes"), "*.bin binary\nyostel.lock diff=yostel");
}
