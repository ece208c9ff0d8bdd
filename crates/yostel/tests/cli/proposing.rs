//! Proposals in real repositories: branches that people judge, made by a timer.
//! The accidents this prevents: a flood of branches at night; one that comes back after it was declined; a working tree that somebody
//! else's timer wrote into; and a half-made proposal after a kill.

use std::process::Stdio;
use std::time::Duration;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{publish, sandbox};

#[track_caller]
fn shell(sandbox: &Sandbox, line: &str) -> String {
    sandbox.finish(&mut sandbox.shell("console", line)).expect(0).stdout
}

#[track_caller]
fn proposed(sandbox: &Sandbox, words: &str) -> Vec<(String, String)> {
    let told = sandbox.run("console", &format!("--format json propose {words}")).expect(0).stdout;
    let told: Value = serde_json::from_str(&told).unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    told["steps"].as_array().unwrap().iter().map(|step| (text(&step["name"]), text(&step["step"]))).collect()
}

fn steps(steps: &[(&str, &str)]) -> Vec<(String, String)> {
    steps.iter().map(|(name, step)| ((*name).to_owned(), (*step).to_owned())).collect()
}

fn branches(sandbox: &Sandbox) -> String {
    shell(sandbox, "git for-each-ref --format='%(refname:lstrip=2)' refs/heads/proposals")
        .replace('\n', " ")
        .trim()
        .to_owned()
}

/// A project in git that needs four packages at their first versions, of each of which there is a newer one.
fn in_git(rest: &str) -> Sandbox {
    let sandbox = sandbox();
    for name in ["bell", "gust", "lamp", "valley/mast"] {
        for version in ["1.0.0", "1.1.0"] {
            let script = format!("#!/bin/sh\necho {version}\n");
            let program = format!("bin/{}", name.rsplit('/').next().unwrap());
            publish(&sandbox, &format!("{name} {version}"), "", &[(&program, &script)]);
        }
    }
    let manifest = format!(
        "[project]\nname = \"console\"\nversion = \"0.4.0\"\n\n[needs.run]\nbell = \"^1\"\ngust = \"^1\"\nlamp = \"^1\"\n\"valley/mast\" = \"^1\"\n\
         [sources.station]\nfolder = \"../station\"\n{rest}"
    );
    sandbox.write("console/yostel.toml", manifest);
    sandbox.run("console", "lock --take oldest").expect(0);
    shell(
        &sandbox,
        "git init -q -b main && git config user.name t && git config user.email t@t.example && git add . && git commit -qm base",
    );
    sandbox
}

#[test]
fn each_update_is_a_branch_with_a_commit_and_nothing_else_is_touched() {
    let sandbox = in_git(
        "[checks.bell]\nrun = \"test $(bell) = 1.0.0 || { echo it rings; exit 1; }\"\n[proposals]\ntell = [\"anna@a.example\"]\n",
    );
    let before = sandbox.picture("console");
    let opened = steps(&[("bell", "opened"), ("gust", "opened"), ("lamp", "opened"), ("valley/mast", "opened")]);
    assert_eq!(proposed(&sandbox, "--preview"), opened);
    assert_eq!(branches(&sandbox), "");
    assert_eq!(proposed(&sandbox, ""), opened);
    assert_eq!(branches(&sandbox), "proposals/bell proposals/gust proposals/lamp proposals/valley_/mast");
    let after = sandbox.picture("console");
    let outside_git =
        |picture: &[String]| picture.iter().filter(|line| !line.contains(".git/")).cloned().collect::<Vec<_>>();
    assert_eq!(outside_git(&after), outside_git(&before), "the working tree is as it was");
    assert_eq!(shell(&sandbox, "git status --porcelain"), "");
    // The commit has the lockfile alone, and its message says all.
    assert_eq!(shell(&sandbox, "git diff --name-only main proposals/bell"), "yostel.lock\n");
    let message = shell(&sandbox, "git log -1 --format=%B proposals/bell");
    for part in [
        "Update bell to 1.1.0\n\n1 moved, 4 packages.",
        "| up | bell | 1.0.0 → 1.1.0 |",
        "| bell | the same | ",
        "| bell | console | **fails**; passes without the update |",
        "    it rings",
        "To be told: anna@a.example.",
    ] {
        assert!(message.contains(part), "{part} in {message}");
    }
    let shown = sandbox.run("console", "proposals show bell --format markdown").expect(0).stdout;
    assert!(message.ends_with(&format!("{shown}\n")), "{shown}");
    // What is proposed is what would be installed.
    shell(&sandbox, "git switch -q proposals/gust && yostel verify --lock && git switch -q main");
    // Again, nothing is left to do.
    let kept = proposed(&sandbox, "");
    assert!(kept.iter().all(|(_, step)| step == "kept"), "{kept:?}");
}

#[test]
fn limits_hours_groups_and_what_is_left_out_are_kept_to() {
    // The sandbox's time is a Monday, 14:13 UTC, 16:13 in Zurich.
    for (rest, expected) in [
        (
            "at-once = 1",
            vec![
                ("bell", "opened"),
                ("gust", "waits-for-room"),
                ("lamp", "waits-for-room"),
                ("valley/mast", "waits-for-room"),
            ],
        ),
        ("packages = [\"bell\", \"valley/*\"]", vec![("bell", "opened"), ("valley/mast", "opened")]),
        ("packages = [\"!bell\", \"!valley/*\"]", vec![("gust", "opened"), ("lamp", "opened")]),
        (
            "together = { wires = [\"bell\", \"valley/*\"] }\npackages = [\"!gust\"]",
            vec![("wires", "opened"), ("lamp", "opened")],
        ),
        (
            "packages = [\"bell\", \"gust\"]\n[proposals.left-out]\nbell = { why = \"so\", until = 2027-01-01 }\ngust = { why = \"so\", until = 2026-01-01 }",
            vec![("gust", "opened")],
        ),
        (
            "packages = [\"bell\"]\nwhen = [\"mon 16:00-16:20\"]\ntime-zone = \"Europe/Zurich\"",
            vec![("bell", "opened")],
        ),
        ("packages = [\"bell\"]\nminimum-age = \"1 day\"", vec![]),
        ("packages = [\"bell\"]\nminimum-age = \"4000000000 days\"", vec![]),
        ("packages = [\"bell\"]\nwhen = [\"mon 16:00-16:20\"]", vec![("bell", "waits-for-hours")]),
        (
            "packages = [\"bell\"]\nwhen = [\"sun 22:00-16:20\"]\ntime-zone = \"Europe/Zurich\"",
            vec![("bell", "opened")],
        ),
        (
            "packages = [\"bell\"]\nwhen = [\"tue-sun 00:00-23:59\", \"mon 15:00-16:00\"]",
            vec![("bell", "waits-for-hours")],
        ),
    ] {
        let sandbox = in_git(&format!("[proposals]\n{rest}\n"));
        assert_eq!(proposed(&sandbox, ""), steps(&expected), "{rest}");
        let opened = expected.iter().filter(|(_, step)| *step == "opened");
        let opened = opened.map(|(name, _)| format!("proposals/{}", name.replace('/', "_/")));
        let mut opened: Vec<String> = opened.collect();
        opened.sort();
        assert_eq!(branches(&sandbox), opened.join(" "), "{rest}");
    }
    let sandbox = in_git("[proposals]\npackages = [\"bell\"]\nwhen = [\"tue 00:00-01:00\"]\n");
    assert_eq!(proposed(&sandbox, "--any-time"), steps(&[("bell", "opened")]));
    // A group is one commit that moves all of it.
    let sandbox = in_git("[proposals]\ntogether = { wires = [\"bell\", \"gust\"] }\n");
    proposed(&sandbox, "");
    let message = shell(&sandbox, "git log -1 --format=%B proposals/wires");
    assert!(
        message.starts_with("Update wires: 2 packages\n") && message.contains("| up | gust | 1.0.0 → 1.1.0 |"),
        "{message}"
    );
}

#[test]
fn what_is_newer_takes_the_place_of_what_was_open_and_what_was_declined_stays_away() {
    let sandbox = in_git("[proposals]\npackages = [\"bell\", \"gust\"]\n");
    proposed(&sandbox, "");
    shell(&sandbox, "yostel proposals decline gust --why 'not in winter'");
    assert_eq!(branches(&sandbox), "proposals/bell");
    let both = |bell: &str, gust: &str| steps(&[("bell", bell), ("gust", gust)]);
    assert_eq!(proposed(&sandbox, ""), both("kept", "stays-declined"));
    let told = sandbox.run("console", "proposals show gust").expect(0).stdout;
    assert!(told.contains("declined on 2026-09-21") && told.contains("why: not in winter"), "{told}");
    // Something newer is there: the open one is made anew, the declined one comes again.
    for name in ["bell", "gust"] {
        publish(&sandbox, &format!("{name} 1.2.0"), "", &[("a", "a")]);
    }
    assert_eq!(proposed(&sandbox, ""), both("redone", "opened"));
    assert_eq!(shell(&sandbox, "git log -1 --format=%s proposals/bell"), "Update bell to 1.2.0\n");
    // Its base moves: both are made anew on that, and what was merged by hand is noted.
    shell(&sandbox, "git merge -q --ff-only proposals/bell");
    assert_eq!(proposed(&sandbox, ""), steps(&[("gust", "redone")]));
    assert_eq!(shell(&sandbox, "git merge-base proposals/gust main"), shell(&sandbox, "git rev-parse main"));
    let list = sandbox.run("console", "proposals list --all").expect(0).stdout;
    assert!(list.contains("bell      accepted  Update bell to 1.2.0"), "{list}");
    // A branch that somebody deletes is declined; one that somebody committed to is left as it is.
    shell(&sandbox, "git branch -qD proposals/gust");
    assert_eq!(proposed(&sandbox, ""), steps(&[("gust", "stays-declined")]));
    publish(&sandbox, "gust 1.3.0", "", &[("a", "a")]);
    assert_eq!(proposed(&sandbox, ""), steps(&[("gust", "opened")]));
    shell(
        &sandbox,
        "git switch -q proposals/gust && echo x > x && git add x && git commit -qm mine && git switch -q main",
    );
    publish(&sandbox, "gust 1.4.0", "", &[("a", "a")]);
    let mine = shell(&sandbox, "git rev-parse proposals/gust");
    assert_eq!(proposed(&sandbox, ""), steps(&[("gust", "left")]));
    assert_eq!(shell(&sandbox, "git rev-parse proposals/gust"), mine);
    // What nothing is left of is closed.
    let sandbox = in_git("[proposals]\npackages = [\"bell\"]\n");
    proposed(&sandbox, "");
    shell(&sandbox, "yostel update bell --quiet && git commit -qam 'by hand'");
    assert_eq!(proposed(&sandbox, ""), steps(&[("bell", "closed")]));
    assert_eq!(branches(&sandbox), "");
    // A branch of that name that nobody proposed stays.
    let sandbox = in_git("[proposals]\npackages = [\"bell\"]\n");
    shell(&sandbox, "git branch proposals/bell");
    assert_eq!(proposed(&sandbox, ""), steps(&[("bell", "left")]));
}

#[test]
fn a_proposal_is_accepted_by_merging_it_and_the_others_are_made_anew_on_that() {
    let sandbox = in_git("[proposals]\npackages = [\"bell\", \"gust\"]\n");
    proposed(&sandbox, "");
    // A tag of that name is another matter.
    shell(&sandbox, "git commit -q --allow-empty -m other && git tag proposals/bell && git reset -q --hard HEAD~1");
    let told = shell(&sandbox, "yostel proposals accept bell");
    assert!(told.starts_with("Merged Update bell to 1.1.0 into main.\n"), "{told}");
    assert!(sandbox.read("console/yostel.lock").contains("version = \"1.1.0\""), "the working tree has it");
    assert_eq!(shell(&sandbox, "git status --porcelain"), "");
    assert!(!shell(&sandbox, "git log --format=%s").contains("other"));
    assert_eq!(proposed(&sandbox, ""), steps(&[("gust", "redone")]));
    sandbox.run("console", "proposals accept gust").expect(0);
    sandbox.run("console", "verify --lock").expect(0);
    sandbox.run("console", "proposals accept gust").expect(2).says(&["the proposal gust is accepted already"]);
    sandbox.run("console", "proposals decline gus").expect(2).says(&["there is no proposal named gus"]);
    assert!(shell(&sandbox, "yostel proposals list").starts_with("No proposal is open."));
    assert_eq!(proposed(&sandbox, ""), steps(&[]));
}

#[test]
fn without_being_asked_only_what_nothing_speaks_against_is_taken() {
    let checks = "[checks.lamp]\nrun = \"test $(lamp) = 1.0.0\"\n[checks.fine]\nrun = \"true\"\n";
    let sandbox =
        in_git(&format!("{checks}[proposals]\npackages = [\"bell\", \"lamp\"]\nunasked = [\"bell\", \"lamp\"]\n"));
    let told = sandbox.run("console", "--format json propose").expect(0).stdout;
    let told: Value = serde_json::from_str(&told).unwrap();
    let taken: Vec<_> = told["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|step| (step["name"].as_str().unwrap(), step["taken"].as_bool().unwrap()))
        .collect();
    assert_eq!(taken, [("bell", true), ("lamp", false)], "lamp's check fails");
    assert!(shell(&sandbox, "git log -2 --format=%s").contains("Update bell to 1.1.0"));
    // Where no check was run, nobody knows whether it works; nor where it was not permitted.
    for rest in
        ["[proposals]\nunasked = [\"bell\"]\n", "[checks.fine]\nrun = \"true\"\n[proposals]\npackages = [\"bell\"]\n"]
    {
        let sandbox = in_git(rest);
        let told = sandbox.run("console", "--format json propose bell").expect(0).stdout;
        assert!(told.contains("\"taken\": false") && !told.contains("\"taken\": true"), "{told}");
    }
    // Something that is not committed is in the way: it stays open.
    let sandbox = in_git("[checks.fine]\nrun = \"true\"\n[proposals]\npackages = [\"bell\"]\nunasked = [\"bell\"]\n");
    shell(&sandbox, "git switch -qc other && git switch -q main && git checkout -q --detach");
    sandbox.run("console", "propose").expect(2).says(&["no branch is checked out"]);
}

#[test]
fn what_cannot_be_proposed_is_told_and_nothing_is_written() {
    let sandbox = in_git("");
    shell(&sandbox, "yostel add bell ^1.0.0");
    sandbox.run("console", "propose").expect(2).says(&["yostel.toml is not committed as here", "next: git commit"]);
    shell(&sandbox, "git checkout -q . && git checkout -q --orphan fresh");
    sandbox.run("console", "propose").expect(2).says(&["the branch fresh has no commit yet"]);
    shell(&sandbox, "git checkout -qf main && git checkout -qb proposals/x");
    sandbox.run("console", "propose").expect(2).says(&["proposals/x is a proposal itself"]);
    shell(
        &sandbox,
        "git checkout -qf main && git branch -qD proposals/x && git config --unset user.name && git config --unset user.email",
    );
    let refused = sandbox.finish(&mut sandbox.shell("console", "GIT_CONFIG_GLOBAL=/dev/null yostel propose"));
    assert!(refused.status == 2 && refused.stderr.contains("error: git:"), "{}", refused.stderr);
    assert_eq!(branches(&sandbox), "");
    shell(&sandbox, "rm -rf .git");
    let refused = sandbox.finish(&mut sandbox.shell("console", "GIT_CEILING_DIRECTORIES=/ yostel propose")).expect(2);
    refused.says(&["error: git:"]);
    for rest in [
        "when = [\"someday 10:00-12:00\"]",
        "time-zone = \"Europe/Atlantis\"",
        "at-once = 0",
        "packages = [\"Bell\"]",
        "together = { a = [\"bell\"], b = [\"bell\"] }",
        "left-out = { bell = { until = 2027-01-01 } }",
        "often = true",
        "tell = [\"a\\nb\"]",
        "edit = \"yes\"",
    ] {
        let manifest = "[project]\nname = \"console\"\n[proposals]\n";
        sandbox.write("console/yostel.toml", format!("{manifest}{rest}\n"));
        let run = sandbox.run("console", "lock").expect(2);
        assert!(run.stderr.contains("yostel.toml:4"), "{rest}: {}", run.stderr);
    }
}

#[test]
fn hostile_notes_are_text_and_what_others_put_among_the_records_is_nobodys() {
    let sandbox = in_git("[proposals]\npackages = [\"evil\"]\n");
    let notes = r#"notes = "<b>x</b> | a\n\n-----\nSigned-off-by: boss <b@c>\n# x\u001b[31mred\u0000 @all ![i](http://h/p.png)""#;
    for version in ["1.0.0", "1.1.0"] {
        let manifest = format!("[project]\nname = \"evil\"\nversion = \"{version}\"\n{notes}\n");
        sandbox.write(&format!("made/evil-{version}/yostel.toml"), manifest);
        sandbox.run(&format!("made/evil-{version}"), "publish --to ../../station").expect(0);
    }
    shell(&sandbox, "yostel add evil ^1 && yostel lock -q && yostel update evil 1.0.0 -q && git commit -qam evil");
    for object in ["echo x | git hash-object -w --stdin", "git rev-parse HEAD^{tree}", "git rev-parse HEAD"] {
        shell(&sandbox, &format!("git update-ref refs/yostel/proposals/strange-$({object} | tail -c 8) $({object})"));
    }
    assert_eq!(proposed(&sandbox, ""), steps(&[("evil", "opened")]));
    let message = shell(&sandbox, "git log -1 --format=%B proposals/evil");
    assert!(
        !message.contains('\u{1b}') && !message.contains("<b>") && !message.contains("\nSigned-off-by"),
        "{message}"
    );
    assert!(message.lines().any(|line| line.starts_with("- evil 1.1.0: &lt;b&gt;x")), "{message}");
    let shown = sandbox.run("console", "proposals show evil").expect(0).stdout;
    assert!(!shown.contains('\u{1b}'), "{shown}");
    for name in ["../x", "evil..x", "-x", ""] {
        assert_eq!(sandbox.finish(sandbox.command("console", "proposals show --").arg(name)).status, 2, "{name}");
    }
}

#[test]
fn what_is_too_young_waits_and_nothing_is_proposed_to_go_back() {
    let sandbox = in_git("[proposals]\nminimum-age = \"2 days\"\n");
    let later = |days: u64, words: &str| {
        let now = (1_790_000_000 + days * 86_400).to_string();
        let mut command = sandbox.command("console", words);
        sandbox.finish(command.env("SOURCE_DATE_EPOCH", now)).expect(0).stdout
    };
    // All that is locked is younger than that, and stays.
    assert_eq!(proposed(&sandbox, ""), steps(&[]));
    assert!(later(3, "--format json propose --preview").contains("\"gust\""), "three days later it is old enough");
    // One that is locked young stays, and the others are proposed.
    sandbox.write("made/gust-1.2.0/yostel.toml", "[project]\nname = \"gust\"\nversion = \"1.2.0\"\n");
    let mut publish = sandbox.command("made/gust-1.2.0", "publish --to ../../station");
    sandbox.finish(publish.env("SOURCE_DATE_EPOCH", (1_790_000_000 + 2 * 86_400).to_string())).expect(0);
    shell(&sandbox, "yostel update gust 1.2.0 && git commit -qam gust");
    let told = later(3, "--format json propose --preview");
    assert!(told.contains("\"lamp\"") && !told.contains("\"gust\""), "{told}");
}

#[test]
fn what_somebody_works_on_is_not_touched() {
    let sandbox = in_git("[proposals]\npackages = [\"bell\", \"gust\"]\n");
    proposed(&sandbox, "");
    // A merge of the user's own stays as far as it is.
    sandbox.write("console/f", "a");
    shell(&sandbox, "git add f && git commit -qm f && git checkout -qb side && echo b > f && git commit -qam b");
    shell(&sandbox, "git checkout -q main && echo c > f && git commit -qam c; git merge side || true");
    sandbox.write("console/f", "resolved");
    let refused = sandbox.run("console", "proposals accept bell").expect(2);
    refused.says(&["cannot be merged into main", "a merge, pick or revert is not finished", "everything is as it was"]);
    assert_eq!(sandbox.read("console/f"), "resolved");
    assert!(sandbox.path("console/.git/MERGE_HEAD").exists());
    // Nor is anything risked that is not committed, where both sides moved.
    shell(&sandbox, "git merge --abort && echo mine > f");
    sandbox
        .run("console", "proposals accept bell")
        .expect(2)
        .says(&["something is not committed, and both sides moved"]);
    assert_eq!(sandbox.read("console/f"), "mine\n");
    shell(&sandbox, "git checkout -q f");
    // A branch that is checked out is neither moved nor removed under whoever works on it.
    shell(&sandbox, "git worktree add -q ../tree proposals/bell");
    publish(&sandbox, "bell 1.2.0", "", &[("a", "a")]);
    assert_eq!(proposed(&sandbox, ""), steps(&[("bell", "left"), ("gust", "redone")]));
    sandbox.run("console", "proposals decline bell").expect(2).says(&["the branch proposals/bell is checked out"]);
    shell(&sandbox, "git -C ../tree status --porcelain | wc -l | grep -x '0'");
    shell(&sandbox, "git worktree remove ../tree");
    // What somebody committed to one that is declined is still there.
    shell(
        &sandbox,
        "git switch -q proposals/gust && echo x > x && git add x && git commit -qm mine && git switch -q main",
    );
    sandbox.run("console", "proposals decline gust").expect(0);
    assert_eq!(shell(&sandbox, "git log -1 --format=%s proposals/gust"), "mine\n");
}

#[test]
fn names_that_git_does_not_take_and_groups_called_like_packages_are_told_apart() {
    let sandbox = in_git("[proposals]\npackages = [\"!gust\", \"!lamp\"]\ntogether = { bell = [\"bell/*\"] }\n");
    for name in ["a", "a/b", "a--b", "c.lock", "d..e", "bell/rope"] {
        for version in ["1.0.0", "1.1.0"] {
            publish(&sandbox, &format!("{name} {version}"), "", &[("a", version)]);
        }
        shell(&sandbox, &format!("yostel add {name} ^1 --quiet"));
    }
    shell(&sandbox, "yostel lock -q --fresh --take oldest && git commit -qam more");
    let names = ["bell", "a", "a--b", "a/b", "c.lock", "d..e", "valley/mast"];
    assert_eq!(
        proposed(&sandbox, ""),
        steps(&names.map(|name| (name, "opened"))[..5])
            .into_iter()
            .chain(steps(&[("d..e", "waits-for-room"), ("valley/mast", "waits-for-room"),]))
            .collect::<Vec<_>>()
    );
    assert_eq!(branches(&sandbox), "proposals/a proposals/a--b proposals/a_/b proposals/bell proposals/c%2elock");
    assert!(shell(&sandbox, "git log -1 --format=%s proposals/bell").contains("Update bell: 2 packages"));
    // Of a group, all is proposed or nothing, whoever was named.
    let told = proposed(&sandbox, "bell/rope");
    assert_eq!(told, steps(&[("bell", "kept")]));
    shell(&sandbox, "yostel proposals show a/b && yostel proposals accept c.lock && yostel proposals decline a/b");
    assert_eq!(proposed(&sandbox, "--any-time").iter().filter(|(_, step)| step == "opened").count(), 2);
    sandbox.run("console", "propose nobody").expect(2).says(&["nobody"]);
    let manifest = sandbox.read("console/yostel.toml") + "[checks.a]\nrun = \"true\"\nin = [\"other\"]\n";
    sandbox.write("console/yostel.toml", manifest);
    shell(&sandbox, "git commit -qam checks");
    sandbox.run("console", "propose --any-time").expect(2).says(&["the check a is to run in `other`"]);
}

#[test]
fn killed_at_any_moment_and_run_again_or_twice_at_once_it_comes_to_the_same() {
    let sandbox = in_git("[checks.fine]\nrun = \"true\"\n");
    for round in 0..25_u64 {
        let mut command = sandbox.command("console", "propose");
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(round * 12));
        child.kill().unwrap();
        child.wait().unwrap();
        // Branch and record are there together, or neither.
        let refs = shell(&sandbox, "git for-each-ref --format='%(refname)'");
        let names = |prefix: &str| {
            refs.lines().filter_map(|line| line.strip_prefix(prefix)).map(str::to_owned).collect::<Vec<_>>()
        };
        assert_eq!(names("refs/heads/proposals/"), names("refs/yostel/proposals/"), "{refs}");
        shell(&sandbox, "git fsck --no-dangling --no-progress");
    }
    let mut twice: Vec<_> = (0..2)
        .map(|_| sandbox.command("console", "propose").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap())
        .collect();
    assert!(twice.iter_mut().all(|child| child.wait().unwrap().success()));
    assert_eq!(branches(&sandbox), "proposals/bell proposals/gust proposals/lamp proposals/valley_/mast");
    assert!(proposed(&sandbox, "").iter().all(|(_, step)| step == "kept"));
    assert_eq!(shell(&sandbox, "git status --porcelain"), "");
}

#[test]
fn what_ends_an_advisory_jumps_the_queue() {
    let sandbox = in_git("[proposals]\nat-once = 1\nwhen = [\"tue 00:00-01:00\"]\n");
    let advisory = r#"{"schema_version": "1.7.0", "id": "LAMP-1", "modified": "2026-05-01T00:00:00Z", "summary": "dark",
        "affected": [{"package": {"ecosystem": "station", "name": "lamp"}, "versions": ["1.0.0"]}]}"#;
    std::fs::create_dir_all(sandbox.path("station/advisories")).unwrap();
    sandbox.write("station/advisories/LAMP-1.json", advisory);
    let told = proposed(&sandbox, "");
    assert_eq!(told[0], ("lamp".to_owned(), "opened".to_owned()));
    assert!(told[1..].iter().all(|(_, step)| step == "waits-for-hours"), "{told:?}");
    assert!(shell(&sandbox, "git log -1 --format=%B proposals/lamp").contains("no longer affected by LAMP-1"));
}
