//! `compare`: what a change of the lockfile means, between files, revisions and what is here, and as git asks for it.
//! The accident this prevents: a change of 400 lines that is waved through, with other content behind an old version.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish, sealed, small_world};

fn shell(sandbox: &Sandbox, line: &str) -> String {
    sandbox.finish(&mut sandbox.shell("console", line)).expect(0).stdout
}

fn committed(sandbox: &Sandbox, message: &str) {
    shell(sandbox, &format!("git add . && git commit -qm {message}"));
}

/// A project in git, with a lockfile in its first commit.
fn in_git() -> Sandbox {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    shell(&sandbox, "git init -q -b main && git config user.name t && git config user.email t@example.org");
    sandbox.run("console", "lock").expect(0);
    committed(&sandbox, "first");
    sandbox
}

#[test]
fn a_change_is_told_with_who_caused_what() {
    let sandbox = in_git();
    assert_eq!(sandbox.run("console", "compare").expect(0).stdout, "HEAD -> now: nothing moved, 3 packages.\n");
    publish(&sandbox, "hoist 1.0.0", "gust = '>=2.1, <3'\n\"valley/horn\" = '^1'", &[("a", "a")]);
    publish(&sandbox, "valley/horn 1.0.0", "", &[("b", "b")]);
    project(&sandbox, "gust = \">=2\"\nhoist = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "compare").expect(0).stdout;
    let rows: Vec<&str> = told.lines().filter(|line| !line.contains("to fetch:")).collect();
    assert_eq!(
        rows,
        [
            "HEAD -> now: 1 moved, 2 added, 1 gone, 1 otherwise changed, 4 packages in place of 3.",
            "  WHAT   PACKAGE      VERSIONS                            AGE  BECAUSE",
            "  up     gust         2.0.0 -> 2.1.0                    today  hoist 1.0.0 needs >=2.1, <3: console needs hoist now, ^1",
            "  added  hoist        1.0.0                             today  console needs it now, ^1",
            "  added  valley/horn  1.0.0                             today  came with hoist 1.0.0: console needs hoist now, ^1",
            "  gone   rig          0.9.0                                 -  console does not need it for test any more",
            "  other  unit         for run in place of run and test      -",
        ],
        "{told}"
    );
    committed(&sandbox, "second");
    let back = sandbox.run("console", "compare HEAD HEAD~1").expect(0).stdout;
    for row in [
        "  down   gust         2.1.0 -> 2.0.0                    today  console needs =2.0.0 in place of >=2\n",
        "  added  rig          0.9.0                             today  console needs it now for test, ^0.9\n",
        "  gone   valley/horn  1.0.0                                 -  went with hoist 1.0.0: console does not need hoist any more\n",
    ] {
        assert!(back.contains(row), "{row} in {back}");
    }
    // A line of versions that is left behind comes first, and a release that nobody asked for is told as that.
    project(&sandbox, "gust = \">=2\"", "");
    sandbox.run("console", "lock --fresh").expect(0);
    let told = sandbox.run("console", "compare").expect(0).stdout;
    let rows: Vec<&str> = told.lines().skip(2).take(2).map(|row| row.split("  ").nth(1).unwrap()).collect();
    assert_eq!(rows, ["breaks", "breaks"], "{told}");
    assert!(
        told.contains("hoist 1.0.0, which needed >=2.1, <3, is gone: console does not need hoist any more"),
        "{told}"
    );
    assert!(told.contains("gust 3.0.0 needs ^2"), "{told}");
    let json: Value =
        serde_json::from_str(&sandbox.run("console", "compare main~1 main --format json").expect(0).stdout).unwrap();
    let gust = &json["moves"][0];
    assert_eq!((&gust["cause"]["kind"], &gust["root"]["package"]), (&"release".into(), &"hoist".into()), "{gust}");
    // Files, folders with a lockfile, and revisions may be mixed.
    shell(&sandbox, "git show main:./yostel.lock > ../old.lock && mkdir ../other && cp yostel.lock ../other");
    for words in ["compare ../old.lock ../other", "compare main ../other", "compare ../old.lock"] {
        let other = sandbox.run("console", words).expect(0).stdout;
        assert_eq!(other.lines().skip(1).collect::<Vec<_>>(), told.lines().skip(1).collect::<Vec<_>>(), "{words}");
    }
}

#[test]
fn another_content_at_the_same_version_is_an_alarm_in_every_form() {
    let sandbox = in_git();
    let lockfile = sandbox.read("console/yostel.lock");
    let at = lockfile.find("digest = \"sha256:").unwrap() + 17;
    let forged = lockfile.replace(&lockfile[at..at + 64], &"0".repeat(64));
    sandbox.write("console/yostel.lock", sealed(&forged));
    let told = sandbox.run("console", "compare").expect(4).stdout;
    assert!(
        told.starts_with("Alarm: not what it was, under the same version\n  gust 2.0.0, other content\nHEAD -> now: "),
        "{told}"
    );
    let json: Value = serde_json::from_str(&sandbox.run("console", "compare --format json").expect(4).stdout).unwrap();
    assert_eq!((&json["alarm"], &json["moves"][0]["kind"]), (&true.into(), &"content".into()));
    let markdown = sandbox.run("console", "compare --format markdown").expect(4).stdout;
    assert!(
        markdown.contains("\n**Alarm: gust 2.0.0, other content. Find out why before this goes in.**\n"),
        "{markdown}"
    );
    shell(
        &sandbox,
        "git config diff.lock.command 'yostel compare --for-git' && echo 'yostel.lock diff=lock' > .gitattributes",
    );
    assert!(shell(&sandbox, "git diff").contains("Alarm: not what it was"), "git goes on");
}

#[test]
fn a_source_of_another_name_is_told_as_that_and_is_no_alarm() {
    let sandbox = in_git();
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", manifest.replace("[sources.station]", "[sources.hub]"));
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("origin  gust  2.0.0, station -> hub") && !told.contains("content"), "{told}");
    let told = sandbox.run("console", "compare").expect(0).stdout;
    assert!(told.contains("other  gust     2.0.0, from hub in place of station"), "{told}");
}

#[test]
fn an_object_that_is_gone_is_no_file_that_was_not_there() {
    let sandbox = in_git();
    let blob = shell(&sandbox, "git rev-parse HEAD:yostel.lock");
    let (folder, name) = blob.trim().split_at(2);
    std::fs::remove_file(sandbox.path(&format!("console/.git/objects/{folder}/{name}"))).unwrap();
    let told = sandbox.run("console", "compare").expect(2).stderr;
    assert!(told.contains("git does not tell what was locked at HEAD"), "{told}");
    // In a folder below the repository's root, and where there was no lockfile yet.
    let sandbox = in_git();
    shell(&sandbox, "mkdir -p sub && sed 's/console/sub/; s|../station|../../station|' yostel.toml > sub/yostel.toml");
    sandbox.run("console/sub", "lock").expect(0);
    let told = sandbox.run("console/sub", "compare").expect(0).stdout;
    assert!(told.contains("3 added, 3 packages in place of 0."), "{told}");
    committed(&sandbox, "sub");
    assert!(sandbox.run("console/sub", "compare").expect(0).stdout.contains("nothing moved, 3 packages."));
}

#[test]
fn what_comes_with_a_change_is_told_as_far_as_the_sources_tell_it() {
    let sandbox = in_git();
    let manifest = sandbox.read("made/gust-2.1.0/yostel.toml").replace("2.1.0", "2.2.0");
    let manifest = manifest.replacen("version =", "licence = \"MIT OR | <i>Apache-2.0\"\nversion =", 1);
    sandbox.write("made/gust-2.2.0/yostel.toml", &manifest);
    sandbox.write("made/gust-2.2.0/bin/gust", "more");
    let published = sandbox.run("made/gust-2.2.0", "publish --to ../../station");
    if published.status != 0 {
        sandbox.write("made/gust-2.2.0/yostel.toml", manifest.replace("MIT OR | <i>Apache-2.0", "MIT"));
        sandbox.run("made/gust-2.2.0", "publish --to ../../station").expect(0);
    }
    let advisory = |id: &str, events: &str| {
        let text = format!(
            r#"{{"schema_version":"1.7.0","id":"{id}","modified":"2026-05-01T00:00:00Z","affected":[{{"package":{{"ecosystem":"station","name":"gust"}},"ranges":[{{"type":"SEMVER","events":[{events}]}}]}}]}}"#
        );
        sandbox.write(&format!("station/advisories/{id}.json"), text);
    };
    advisory("STAR-1", r#"{"introduced":"0"},{"fixed":"2.1.0"}"#);
    advisory("STAR-2", r#"{"introduced":"2.2.0"}"#);
    project(&sandbox, "gust = \"=2.2.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "compare").expect(0).stdout;
    for says in [
        "  careful: newly affected by STAR-2 (gust 2.2.0)\n",
        "  good: no longer affected by STAR-1 (gust 2.0.0)\n",
        "  licence of gust: MIT",
        ", and before none told\n",
        "  licence that nothing had before: MIT",
        "  to fetch: ",
    ] {
        assert!(told.contains(says), "{says} in {told}");
    }
    let markdown = sandbox.run("console", "compare --format markdown").expect(0).stdout;
    assert!(
        markdown.contains("\n- careful: newly affected by STAR-2 (gust 2.2.0)\n") && !markdown.contains("<i>"),
        "{markdown}"
    );
    // Without the sources it is still told what moved, and what is not told.
    std::fs::rename(sandbox.path("station"), sandbox.path("away")).unwrap();
    let told = sandbox.run("console", "compare").expect(0).stdout;
    assert!(told.contains("gust     2.0.0 -> 2.2.0") && !told.contains("STAR-"), "{told}");
    assert!(told.contains("  note: licences and advisories are not told: "), "{told}");
}

#[test]
fn git_shows_what_a_change_means() {
    let sandbox = in_git();
    project(&sandbox, "gust = \"^2\"", "");
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.write("console/.gitattributes", "yostel.lock diff=lock\n");
    committed(&sandbox, "second");
    shell(&sandbox, "git config diff.lock.command 'yostel compare --for-git'");
    let told = shell(&sandbox, "git diff HEAD~1 -- yostel.lock");
    assert!(
        told.starts_with("yostel.lock: 1 moved, 1 gone, ") && told.contains("console needs ^2 in place of =2.0.0"),
        "{told}"
    );
    // Where the file is new, where one side is none, and while a merge is not finished.
    let all = shell(&sandbox, "git diff 4b825dc642cb6eb9a060e54bf8d69288fbee4904 HEAD -- yostel.lock");
    assert!(all.contains("2 added, 2 packages in place of 0."), "{all}");
    sandbox.write("console/yostel.lock", "<<<<<<< ours\u{1b}[31m\n");
    let told = shell(&sandbox, "git diff -- yostel.lock");
    assert!(told.contains("+<<<<<<< ours\\u{1b}[31m\n") && told.contains("-format = 1\n"), "{told}");
    shell(&sandbox, "git checkout -q yostel.lock && git config --unset diff.lock.command");
    shell(&sandbox, "git config diff.lock.textconv 'yostel compare --for-git'");
    let told = shell(&sandbox, "git log -p -1 -- yostel.lock");
    let lines = [
        "-gust 2.0.0",
        "+gust 2.1.0",
        "-  asked for by console (=2.0.0) for run",
        "+  asked for by console (^2) for run",
    ];
    for line in lines {
        assert!(told.lines().any(|told| told == line), "{line} in {told}");
    }
    sandbox.write("console/yostel.lock", "no lockfile\n");
    assert!(shell(&sandbox, "git diff -- yostel.lock").contains("+no lockfile"), "it is told as it is");
}

#[test]
fn what_cannot_be_compared_is_said() {
    let sandbox = in_git();
    let refused = |words: &str, code: &str| {
        let run = sandbox.run("console", &format!("--format json {words}"));
        let told: Value = serde_json::from_str(&run.stdout).unwrap();
        assert_eq!(told["errors"][0]["code"], code, "{words}: {told}");
        told
    };
    refused("compare nope", "no-such-revision");
    refused("compare --format json HEAD ''", "no-such-revision");
    refused("compare main:yostel.lock", "no-such-revision");
    refused("compare ../made", "no-such-revision");
    refused("compare yostel.toml", "not-a-lockfile");
    refused("compare HEAD /dev/null/x", "no-such-revision");
    // What begins with a line is no option of git's.
    let run = sandbox.finish(&mut sandbox.shell("console", "yostel compare -- --output=../owned HEAD"));
    assert_eq!((run.status, sandbox.path("owned").exists()), (2, false), "{run:?}");
    std::fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    refused("compare", "lockfile-missing");
    // Of a history that is cut off, what is missing can be fetched.
    shell(&sandbox, "git checkout -q yostel.lock && git commit -q --allow-empty -m more");
    shell(&sandbox, "git clone -q --depth 1 file://$PWD ../cut && cp -r ../station ../cut/ && cp yostel.lock ../cut/");
    let told = sandbox.run("cut", "compare HEAD~1").expect(2).stderr;
    assert!(
        told.contains("only a part of the history is here") && told.contains("  or: git fetch --unshallow"),
        "{told}"
    );
    // Without git there are still files.
    std::fs::remove_dir_all(sandbox.path("console/.git")).unwrap();
    refused("compare", "nothing-to-compare");
    sandbox.run("console", "compare yostel.lock").expect(0);
}
