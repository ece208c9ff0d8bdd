//! Checks of the manifests, and updates that are tried before they are written.
//! The accidents this prevents: an update that is consistent and does not work; one that is refused for what was broken before;
//! and a project that was edited while its checks ran, and is written over.

use std::fs;
use std::os::unix::fs::symlink;
use std::time::{Duration, Instant};

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish, sandbox};

/// Two packages that are locked at their older versions, and these checks.
fn with_checks(checks: &str) -> Sandbox {
    let sandbox = sandbox();
    for name in ["bell", "lamp"] {
        for version in ["1.0.0", "1.1.0"] {
            let script = format!("#!/bin/sh\necho {version}\n");
            publish(&sandbox, &format!("{name} {version}"), "", &[(&format!("bin/{name}"), &script)]);
        }
    }
    project(&sandbox, "bell = \"^1\"", "lamp = \"^1\"");
    let manifest = sandbox.read("console/yostel.toml") + checks;
    sandbox.write("console/yostel.toml", manifest);
    sandbox.run("console", "lock --take oldest").expect(0);
    sandbox
}

fn told(sandbox: &Sandbox, words: &str, status: i32) -> Value {
    let run = sandbox.run("console", &format!("--format json {words}")).expect(status);
    serde_json::from_str(&run.stdout).unwrap()
}

#[track_caller]
fn tells(text: &str, parts: &[&str]) {
    for part in parts {
        assert!(text.contains(part), "`{part}` is not in:\n{text}");
    }
}

const OLD_BELL: &str =
    "\n[checks.old-bell]\nrun = \"test $(bell) = 1.0.0 || { echo it rings; exit 1; }\"\nfor = [\"run\"]\n";
const LAMP: &str = "\n[checks.lamp]\nrun = [\"lamp\"]\nfor = [\"test\"]\n";

#[test]
fn an_update_is_written_only_when_the_checks_pass_that_it_reaches() {
    let sandbox = with_checks(&format!("{OLD_BELL}{LAMP}"));
    let before = sandbox.picture("console");
    let refused = told(&sandbox, "update --tested", 1);
    assert_eq!((&refused["changed"], &refused["written"]), (&true.into(), &false.into()));
    let checks = refused["tested"]["checks"].as_array().unwrap();
    let verdicts: Vec<_> =
        checks.iter().map(|one| (one["check"].as_str().unwrap(), one["verdict"].as_str().unwrap())).collect();
    assert_eq!(verdicts, [("lamp", "passes"), ("old-bell", "fails")]);
    assert_eq!((&checks[1]["said"], &checks[1]["before"]), (&"it rings\n".into(), &"passes".into()));
    // Which of the two moves it is.
    let found = told(&sandbox, "update --tested --culprit", 1);
    assert_eq!(found["tested"]["culprit"]["packages"], serde_json::json!(["bell"]));
    let words = sandbox.run("console", "update --tested").expect(1).stdout;
    let parts = ["1 of 2 checks did not pass, so nothing was written", "the check: it rings"];
    tells(&words, &[parts[0], parts[1], "next: yostel update --tested --culprit"]);
    assert_eq!(sandbox.picture("console"), before, "the project is not touched");
    // What is suggested ends the matter: without that release, the rest goes through.
    let next = sandbox.run("console", "update --tested --culprit").expect(1).stdout;
    tells(&next, &["next: yostel add bell '^1, !=1.1.0', to leave that release out"]);
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.finish(&mut sandbox.shell("console", "yostel add bell '^1, !=1.1.0'")).expect(0);
    assert_eq!(told(&sandbox, "update --tested --preview", 0)["tested"]["checks"][0]["verdict"], "passes");
    sandbox.write("console/yostel.toml", manifest);
    // What none of the bell's checks sees goes through, and theirs is not run.
    let passed = told(&sandbox, "update lamp --tested", 0);
    assert_eq!((&passed["written"], &passed["tested"]["unreached"]), (&true.into(), &1.into()));
    assert!(sandbox.read("console/yostel.lock").contains("1.1.0"));
    let nothing = told(&sandbox, "update lamp --tested", 0);
    assert_eq!((&nothing["changed"], &nothing["tested"]), (&false.into(), &Value::Null));
}

#[test]
fn what_failed_before_is_told_apart_and_what_never_ends_is_ended() {
    let broken =
        "\n[checks.broken]\nrun = \"exit 3\"\n[checks.slow]\nrun = \"sleep 600 & sleep 600\"\ntime-limit = \"200ms\"\n";
    let sandbox = with_checks(broken);
    let begun = Instant::now();
    let run = sandbox.run("console", "update --tested").expect(1);
    tells(
        &run.stdout,
        &[
            "fails; fails without the update",
            "cannot tell; cannot tell without the update",
            "2 of 2 checks did not pass",
            "the update is not to blame",
        ],
    );
    assert!(!run.stdout.contains("--culprit"), "{}", run.stdout);
    assert!(begun.elapsed() < Duration::from_secs(60));
}

#[test]
fn a_check_that_edits_the_project_itself_keeps_the_update_from_being_written() {
    for (file, code) in [("yostel.toml", "manifest-changed"), ("yostel.lock", "manifest-changed")] {
        let sandbox = with_checks("");
        let edited = sandbox.path("console").join(file).display().to_string();
        let check = format!(
            "\n[checks.meddles]\nrun = \"echo >> {edited}; cp {edited} {edited}.new; sed -i 's/1.0.0/1.1.0/' {edited}\"\n"
        );
        let manifest = sandbox.read("console/yostel.toml") + &check;
        sandbox.write("console/yostel.toml", manifest);
        sandbox.run("console", "lock").expect(0);
        let refused = sandbox.run("console", "--format json update --tested");
        assert!(
            refused.stdout.contains(code) || refused.stdout.contains("lockfile-changed"),
            "{file}: {}",
            refused.stdout
        );
        assert!(!sandbox.read("console/yostel.lock").contains("\"1.1.0\"") || file == "yostel.lock");
    }
}

#[test]
fn checks_run_in_the_projects_of_a_workspace_that_moves_reach() {
    let sandbox = with_checks("");
    let member = |name: &str, need: &str, checks: &str| {
        let manifest = format!("[project]\nname = \"{name}\"\n[needs.run]\n{need} = \"^1\"\n{checks}");
        sandbox.write(&format!("console/{name}/yostel.toml"), manifest);
    };
    member("horn", "bell", "[checks.own]\nrun = \"bell\"\n");
    member("mast", "lamp", "");
    let manifest = "[project]\nname = \"console\"\n[workspace]\nprojects = [\"horn\", \"mast\"]\n\
                    [sources.station]\nfolder = \"../station\"\n[checks.here]\nrun = \"test -f yostel.toml\"\nin = [\"mast\", \"horn\"]\n";
    sandbox.write("console/yostel.toml", manifest);
    sandbox.run("console", "lock --fresh --take oldest").expect(0);
    let ran = |answer: &Value| -> Vec<String> {
        let one =
            |check: &Value| format!("{} {}", check["project"].as_str().unwrap(), check["check"].as_str().unwrap());
        answer.as_array().unwrap().iter().map(one).collect()
    };
    let tested = told(&sandbox, "update bell --tested --preview", 0);
    assert_eq!(ran(&tested["tested"]["checks"]), ["horn here", "horn own"]);
    assert_eq!(tested["tested"]["unreached"], 1);
    let tested = told(&sandbox, "update --tested --preview", 0);
    assert_eq!(ran(&tested["tested"]["checks"]), ["horn here", "horn own", "mast here"]);
    // The same, of what is installed.
    sandbox.run("console", "install").expect(0);
    assert_eq!(ran(&told(&sandbox, "run --checks", 0)["checks"]), ["horn here", "horn own", "mast here"]);
    assert_eq!(ran(&told(&sandbox, "--project horn run --checks", 0)["checks"]), ["horn here", "horn own"]);
    assert_eq!(ran(&told(&sandbox, "run --checks own", 0)["checks"]), ["horn own"]);
    sandbox.run("console", "run --checks ownn").expect(2).says(&["no check named ownn", "own exists"]);
    sandbox.write(
        "console/yostel.toml",
        manifest
            .replace("\"horn\"]\n", "\"horns/*\"]\n")
            .replace("projects = [\"horn\", \"mast\"]", "projects = [\"*\"]"),
    );
    sandbox.run("console", "run --checks").expect(2).says(&["the check here is to run in `horns/*`"]);
}

#[test]
fn the_checks_of_the_manifests_find_a_culprit_too() {
    let sandbox = with_checks(&format!("{OLD_BELL}{LAMP}"));
    fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("good.lock")).unwrap();
    sandbox.run("console", "update").expect(0);
    for words in ["culprit ../good.lock", "culprit ../good.lock --check old-bell"] {
        assert_eq!(told(&sandbox, words, 0)["packages"], serde_json::json!(["bell"]), "{words}");
    }
    assert_eq!(told(&sandbox, "culprit ../good.lock --check lamp", 2)["found"], "bad-passes");
    sandbox.run("console", "culprit ../good.lock --check none").expect(2).says(&["no check named none"]);
    sandbox.run("console", "install").expect(0);
    let failing = sandbox.run("console", "run --checks").expect(1);
    tells(&failing.stdout, &["old-bell  console  fails", "1 of 2 checks did not pass"]);
}

#[test]
fn what_is_wrong_with_a_check_is_told_with_its_place() {
    for (check, says) in [
        ("[checks.a]\n", "a check lacks `run`"),
        ("[checks.a]\nrun = \" \"\n", "there is nothing to run"),
        ("[checks.a]\nrun = []\n", "there is nothing to run"),
        ("[checks.a]\nrun = 3\n", "`run` should be a line for the shell"),
        ("[checks.a]\nrun = \"x\"\ntime-limit = \"0s\"\n", "a time is written 30s, 2m or 1h30m"),
        ("[checks.a]\nrun = \"x\"\ntime-limit = \"soon\"\n", "a time is written 30s, 2m or 1h30m"),
        ("[checks.a]\nrun = \"x\"\nwithin = \"1m\"\n", "a check has no key `within`"),
        ("[checks.a]\nrun = \"a\\u0000b\"\n", "the character NUL"),
    ] {
        let sandbox = sandbox();
        project(&sandbox, "", "");
        let manifest = sandbox.read("console/yostel.toml") + check;
        sandbox.write("console/yostel.toml", manifest);
        let run = sandbox.run("console", "lock").expect(2);
        assert!(run.stderr.contains(says) && run.stderr.contains("yostel.toml:1"), "{check}: {}", run.stderr);
    }
    let sandbox = with_checks("\n[checks.gone]\nrun = [\"none-such-program\"]\n");
    let run = sandbox.run("console", "update --tested").expect(2);
    run.says(&["the check `none-such-program` cannot be run"]);
}

#[test]
fn projects_behind_links_are_copied_and_what_mentions_a_package_follows_in_the_copy() {
    let sandbox = with_checks("");
    let linked = "[project]\nname = \"horn\"\n[needs.run]\nbell = \"^1\"\n\
                  [checks.own]\nrun = \"test -f data && grep -q $(bell) note\"\n[mentions.bell]\nnote = \"bell …\"\n";
    sandbox.write("console/horn/yostel.toml", linked);
    let manifest = "[project]\nname = \"console\"\n[workspace]\nprojects = [\"horn\", \"libs/lamp\"]\n[sources.station]\nfolder = \"../station\"\n";
    sandbox.write("console/yostel.toml", manifest);
    sandbox.write("console/horn/data", "x");
    sandbox.write("console/horn/note", "bell 1.0.0\n");
    let lamp =
        "[project]\nname = \"lamps\"\n[needs.run]\nlamp = \"^1\"\n[checks.seen]\nrun = \"test -f data && lamp\"\n";
    sandbox.write("outside/lamp/yostel.toml", lamp);
    sandbox.write("outside/lamp/data", "x");
    symlink("../outside", sandbox.path("console/libs")).unwrap();
    sandbox.run("console", "lock --fresh --take oldest").expect(0);
    let tested = told(&sandbox, "update --tested", 0);
    let verdicts: Vec<_> =
        tested["tested"]["checks"].as_array().unwrap().iter().map(|one| one["verdict"].as_str().unwrap()).collect();
    assert_eq!(verdicts, ["passes", "passes"]);
    assert_eq!(sandbox.read("console/horn/note"), "bell 1.1.0\n");
    assert!(!sandbox.path("outside/lamp/.yostel").exists());
}
