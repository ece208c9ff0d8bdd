//! Which of many moves makes a check fail.
//! The accidents this prevents: an afternoon of putting thirty versions back one by one; a check that left its mark in the
//! project; and one that never ends.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::time::{Duration, Instant};

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{git, publish, sandbox};

/// A project with the lock of a while ago beside it, and 25 packages that moved since: the demo's control room, in which a
/// patch of gust-model makes the alarm ring, and 24 that nobody notices.
fn moved_control_room() -> Sandbox {
    let sandbox = sandbox();
    sandbox.run("", "demo --into world --only-make --quiet").expect(0);
    let mut needs = String::new();
    for number in 0..24 {
        for version in ["1.0.0", "1.1.0"] {
            publish(&sandbox, &format!("bystander-{number} {version}"), "", &[("share/a", version)]);
        }
        needs.push_str(&format!("bystander-{number} = \"^1\"\n"));
    }
    let manifest = sandbox.read("world/console/yostel.toml");
    let manifest = manifest.replace("gust-model    = \"=2.2.0\"", "gust-model    = \">=2.2, <3\"");
    let manifest = manifest.replace("[needs.run]\n", &format!("[needs.run]\n{needs}"));
    let manifest = manifest + "\n[sources.made]\nfolder = \"../../station\"\n";
    sandbox.write("world/console/yostel.toml", manifest);
    sandbox.run("world/console", "lock").expect(0);
    fs::copy(sandbox.path("world/console/yostel.lock"), sandbox.path("bad.lock")).unwrap();
    let back: Vec<String> = (0..24).map(|number| format!("bystander-{number} 1.0.0")).collect();
    sandbox.run("world/console", &format!("update gust-model 2.2.0 {}", back.join(" "))).expect(0);
    fs::copy(sandbox.path("world/console/yostel.lock"), sandbox.path("good.lock")).unwrap();
    fs::copy(sandbox.path("bad.lock"), sandbox.path("world/console/yostel.lock")).unwrap();
    sandbox.write(
        "quiet",
        "#!/bin/sh\necho looking at the alarm\n./control-room | grep -q 'alarm *quiet' || { echo it rings; exit 1; }\n",
    );
    fs::set_permissions(sandbox.path("quiet"), fs::Permissions::from_mode(0o755)).unwrap();
    sandbox
}

#[test]
fn the_patch_that_changed_behaviour_is_found_among_25_moves_in_6_runs() {
    let sandbox = moved_control_room();
    // The copy is elsewhere, so the check is named by its path.
    let check = sandbox.path("quiet").display().to_string();
    let run = sandbox.run("world/console", &format!("--format json culprit ../../good.lock -- {check}")).expect(0);
    let told: Value = serde_json::from_str(&run.stdout).unwrap();
    assert_eq!((&told["found"], &told["packages"]), (&"moves".into(), &serde_json::json!(["gust-model"])), "{told}");
    assert_eq!(told["between"], 25);
    assert!(told["runs"].as_u64().unwrap() <= 6, "{told}");
    assert_eq!(told["said"], "looking at the alarm\nit rings\n");
    let words = sandbox.run("world/console", &format!("culprit ../../good.lock -- {check}")).expect(0);
    let told = words.stdout;
    for line in [
        "This makes the check fail (",
        " among 25 moves):",
        "gust-model 2.2.0 -> 2.2.1",
        "round gusts up",
        "the check: it rings",
        "next: yostel update gust-model 2.2.0 --edit, to go back to that",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    assert!(words.stderr.contains("of 25 moves: the check fails"), "{}", words.stderr);
    // What is suggested works, and nothing of all this is left.
    sandbox.run("world/console", "update gust-model 2.2.0 --edit").expect(0);
    assert!(!sandbox.path("world/console/.yostel").exists());
    assert!(!sandbox.path("cache/aside").exists());
    assert_eq!(fs::read_dir(sandbox.path("cache/projects")).unwrap().count(), 0, "no copy is remembered");
}

/// Three packages that moved, with the older lock beside.
fn three_moved() -> Sandbox {
    let sandbox = sandbox();
    for name in ["bell", "lamp", "mast"] {
        for version in ["1.0.0", "1.1.0"] {
            publish(&sandbox, &format!("{name} {version}"), "", &[("share/version", version)]);
        }
    }
    crate::project(&sandbox, "bell = \"^1\"\nlamp = \"^1\"\nmast = \"^1\"", "");
    sandbox.run("console", "lock --take oldest").expect(0);
    fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("good.lock")).unwrap();
    sandbox.run("console", "update").expect(0);
    sandbox
}

fn found(sandbox: &Sandbox, words: &str, script: &str, status: i32) -> Value {
    sandbox.write(
        "check",
        format!("#!/bin/sh\nat() {{ cat .yostel/reach/projects/console/run/$1/share/version; }}\n{script}\n"),
    );
    fs::set_permissions(sandbox.path("check"), fs::Permissions::from_mode(0o755)).unwrap();
    let check = sandbox.path("check").display().to_string();
    let told = sandbox.run("console", &format!("--format json culprit {words} -- {check}")).expect(status).stdout;
    serde_json::from_str(&told).unwrap()
}

#[test]
fn it_says_so_where_nothing_is_to_blame_or_nobody_can_tell() {
    let sandbox = three_moved();
    let good = "../good.lock";
    let both = found(&sandbox, good, "test \"$(at bell)$(at mast)\" != 1.1.01.1.0", 0);
    assert_eq!(both["packages"], serde_json::json!(["bell", "mast"]));
    assert_eq!(found(&sandbox, good, "exit 1", 2)["found"], "good-fails");
    assert_eq!(found(&sandbox, good, "exit 0", 2)["found"], "bad-passes");
    assert_eq!(found(&sandbox, "../good.lock ../good.lock", "exit 0", 2)["between"], 0);
    assert_eq!(found(&sandbox, good, "exit 125", 1)["found"], "cannot-tell");
    let ends_never = format!("{good} --time-limit 1s");
    assert_eq!(found(&sandbox, &ends_never, "sleep 600", 1)["found"], "cannot-tell");
    // Now this and now that: told apart from what fails each time.
    let counter = sandbox.path("counter").display().to_string();
    let flaky = format!("echo x >> {counter}; test $(($(wc -l < {counter}) % 2)) = 0");
    assert_eq!(found(&sandbox, &format!("{good} --repeat 4"), &flaky, 1)["found"], "cannot-tell");
    sandbox
        .run("console", "culprit ../good.lock -- ./none-such")
        .expect(2)
        .says(&["the check `./none-such` cannot be run"]);
    sandbox.run("console", "culprit nowhere -- true").expect(2);
    sandbox.run("console", "culprit ../good.lock").expect(2);
}

#[test]
fn a_check_works_on_a_copy_and_what_it_leaves_running_ends_with_it() {
    let sandbox = three_moved();
    sandbox.write("console/data/table", "1\n");
    sandbox.write("console/cached/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55\n");
    sandbox.write("console/named-so/CACHEDIR.TAG", "no signature\n");
    sandbox.write("console/source/altered/mine", "1\n");
    std::os::unix::fs::symlink("data/table", sandbox.path("console/link")).unwrap();
    let mark = sandbox.path("mark").display().to_string();
    let script = format!(
        "test -L link && test -f data/table && test -d named-so && test -f source/altered/mine && test ! -e cached && rm -rf data && echo >> yostel.toml || exit 125\n\
         (sleep 3; touch {mark}) >/dev/null 2>&1 &\ntest $(at lamp) = 1.0.0"
    );
    let before = sandbox.read("console/yostel.toml");
    assert_eq!(found(&sandbox, "../good.lock", &script, 0)["packages"], serde_json::json!(["lamp"]));
    assert_eq!(sandbox.read("console/yostel.toml"), before);
    assert!(sandbox.path("console/data/table").exists());
    std::thread::sleep(Duration::from_secs(4));
    assert!(!sandbox.path("mark").exists(), "what a check leaves running is ended");
}

#[test]
fn what_is_not_tried_and_what_no_longer_fits_is_said() {
    let sandbox = three_moved();
    // Needed since, so the good lock is not enough any more.
    publish(&sandbox, "rope 1.0.0", "lamp = '^1.1'", &[("share/version", "1.0.0")]);
    sandbox.run("console", "add rope --install").expect(0);
    let told = found(&sandbox, "../good.lock", "test $(at bell) = 1.0.0", 0);
    assert_eq!((&told["packages"], &told["unlike-good"]), (&serde_json::json!(["bell"]), &1.into()), "{told}");
    let check = sandbox.path("check").display().to_string();
    let told = sandbox.run("console", &format!("culprit ../good.lock -- {check}")).expect(0).stdout;
    assert!(told.contains("1 package cannot be where GOOD has them, with what is needed now"), "{told}");
}

#[test]
fn revisions_are_sides_and_a_kill_in_between_leaves_nothing_for_good() {
    let sandbox = three_moved();
    let now = sandbox.read("console/yostel.lock");
    fs::copy(sandbox.path("good.lock"), sandbox.path("console/yostel.lock")).unwrap();
    for words in [&["init", "-q"][..], &["add", "."], &["commit", "-qm", "good"]] {
        git(&sandbox, "console", words);
    }
    sandbox.write("console/yostel.lock", now);
    git(&sandbox, "console", &["commit", "-qam", "bad"]);
    assert_eq!(found(&sandbox, "HEAD~1 HEAD", "test $(at bell) = 1.0.0", 0)["packages"], serde_json::json!(["bell"]));
    // Nothing but time changed: what would have been locked on two days.
    let days = format!("{} {}", "2026-09-20", "2026-09-22");
    sandbox.run("console", "lock --fresh --as-of 2026-09-22").expect(0);
    let told = found(&sandbox, &days, "exit 0", 3);
    assert!(told["errors"][0]["headline"].as_str().unwrap().contains("bell"), "{told}");
    let told = found(&sandbox, "2026-09-22 2026-09-23", "exit 0", 2);
    assert_eq!((&told["good"], &told["between"]), (&"releases as of 2026-09-22".into(), &0.into()));
    for delay in [20, 60, 140] {
        let mut child = sandbox.command("console", "culprit HEAD~1 -- sleep 5");
        let mut child = child.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(delay));
        child.kill().unwrap();
        child.wait().unwrap();
    }
    let began = Instant::now();
    sandbox.run("console", "install").expect(0);
    assert!(!sandbox.path("cache/aside").exists(), "after {:?}", began.elapsed());
    sandbox.run("", "cache prune --unused-for 0d").expect(0);
}

#[test]
fn several_at_once_find_the_same_and_what_nobody_wants_to_know_any_more_is_ended() {
    let sandbox = three_moved();
    // With bell alone it fails, so what was tried beside that, with lamp too, decides nothing.
    let script = "test $(at lamp) = 1.0.0 || sleep 600\ntest $(at bell) = 1.0.0";
    let began = Instant::now();
    let told = found(&sandbox, "../good.lock --jobs 3", script, 0);
    assert_eq!((&told["packages"], &told["runs"]), (&serde_json::json!(["bell"]), &2.into()), "{told}");
    assert!(began.elapsed() < Duration::from_secs(300), "it waited for what nobody wants to know");
    let both = found(&sandbox, "../good.lock --jobs 8", "test \"$(at bell)$(at mast)\" != 1.1.01.1.0", 0);
    assert_eq!(both["packages"], serde_json::json!(["bell", "mast"]));
    assert_eq!(found(&sandbox, "../good.lock --jobs 2", "exit 1", 2)["found"], "good-fails");
    sandbox
        .run("console", "culprit ../good.lock --jobs 4 -- ./none-such")
        .expect(2)
        .says(&["the check `./none-such` cannot be run"]);
    assert!(!sandbox.path("cache/aside").exists());
}

#[test]
fn a_search_that_was_ended_or_killed_is_taken_up_where_the_same_is_asked() {
    let sandbox = three_moved();
    let (counter, go) = (sandbox.path("counter"), sandbox.path("go"));
    // The first check ends, and the second only once it may.
    let script = format!(
        "echo x >> {0}; test $(wc -l < {0}) -lt 2 || test -e {1} || sleep 600\necho so it is; test $(at mast) = 1.0.0",
        counter.display(),
        go.display()
    );
    let interrupted = |signal: &str, words: &str| {
        fs::remove_file(&counter).ok();
        let check = sandbox.path("check").display().to_string();
        let mut command = sandbox.command("console", &format!("culprit ../good.lock {words} -- {check}"));
        let child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        while fs::read_to_string(&counter).unwrap_or_default().lines().count() < 2 {
            std::thread::sleep(Duration::from_millis(20));
        }
        std::process::Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
        String::from_utf8(child.wait_with_output().unwrap().stderr).unwrap()
    };
    // So that the script is there.
    fs::write(&go, "").unwrap();
    let whole = found(&sandbox, "../good.lock", &script, 0)["runs"].as_u64().unwrap();
    assert!(whole >= 3, "{whole}");
    fs::remove_file(&go).unwrap();
    for (signal, jobs) in [("-INT", ""), ("-KILL", ""), ("-INT", "--jobs 2")] {
        let told = interrupted(signal, jobs);
        assert_eq!(told.contains("--resume continues from there"), signal == "-INT", "{told}");
        fs::write(&go, "").unwrap();
        // What says of itself that it can be made again is not the project's own.
        sandbox.write("console/build/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55\n");
        sandbox.write("console/build/made", signal);
        let resumed = found(&sandbox, "../good.lock --resume", &script, 0);
        assert_eq!(resumed["packages"], serde_json::json!(["mast"]));
        let (runs, before) = (resumed["runs"].as_u64().unwrap(), resumed["resumed"].as_u64().unwrap());
        // Of two that began together, none may have come to its end, or one that decides nothing.
        let is_alone = jobs.is_empty();
        assert!(before == 1 || !is_alone && before == 0, "{resumed}");
        assert!(runs + before == whole || !is_alone && runs + before == whole + 1, "{resumed}");
        assert_eq!(resumed["said"], "so it is\n");
        assert_eq!(fs::read_dir(sandbox.path("cache/verdicts")).unwrap().count(), 0, "nothing is kept once it ended");
        fs::remove_file(&go).unwrap();
    }
    // Neither without being asked to, nor where something is not as it was.
    interrupted("-KILL", "");
    fs::write(&go, "").unwrap();
    assert_eq!(found(&sandbox, "../good.lock", &script, 0)["resumed"], 0);
    fs::remove_file(&go).unwrap();
    interrupted("-KILL", "");
    fs::write(&go, "").unwrap();
    sandbox.write("console/note", "another file\n");
    let check = sandbox.path("check").display().to_string();
    let told = sandbox.run("console", &format!("culprit ../good.lock --resume -- {check}")).expect(0).stdout;
    assert!(told.contains("no earlier search asked the same"), "{told}");
}
