//! Advisories from anywhere, about packages by any of their names, and what a project says of them.
//! The accidents this prevents: a leak that all the world writes about under another name; a finding that somebody looked at
//! and that comes back each week; and one that was looked at once and is hidden for ever.

use std::io::Write;
use std::thread;
use std::time::Duration;

use serde_json::Value;
use yostel_testkit::Sandbox;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use crate::{git, project, publish, sandbox, small_world};

fn advisory(id: &str, affected: &str) -> String {
    format!(r#"{{"id":"{id}","modified":"2026-05-01T00:00:00Z","aliases":["CVE-{id}"],"affected":[{affected}]}}"#)
}

fn audit(sandbox: &Sandbox, status: i32) -> Value {
    serde_json::from_str(&sandbox.run("console", "--format json audit advisories").expect(status).stdout).unwrap()
}

fn ids(answer: &Value) -> Vec<&str> {
    answer["advisories"].as_array().unwrap().iter().map(|one| one["id"].as_str().unwrap()).collect()
}

fn policy(sandbox: &Sandbox, lines: &str) {
    let manifest = sandbox.read("console/yostel.toml");
    let manifest = manifest.split("\n[policy]").next().unwrap();
    sandbox.write("console/yostel.toml", format!("{manifest}\n[policy]\n{lines}\n"));
}

/// A console that needs a library which was repackaged, twice: under the world's number and under one of its own.
fn repackaged() -> Sandbox {
    let sandbox = sandbox();
    for (package, version, identity) in
        [("deflate", "1.2.11", "pkg:generic/zlib"), ("pack", "4.0.0", "pkg:generic/lz/pack@1.9.2")]
    {
        sandbox.write(
            &format!("made/{package}/yostel.toml"),
            format!("[project]\nname = \"{package}\"\nversion = \"{version}\"\nidentities = [\"{identity}\"]\n"),
        );
        sandbox.run(&format!("made/{package}"), "publish --to ../../station").expect(0);
    }
    project(&sandbox, "deflate = \"*\"\npack = \"*\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox
}

const ZLIB: &str = r#"{"package":{"ecosystem":"World","name":"zlib","purl":"pkg:generic/zlib"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"1.2.12"}]}]}"#;

const LZ: &str = r#"{"package":{"ecosystem":"World","name":"pack","purl":"pkg:generic/lz/pack"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"1.9.0"},{"fixed":"1.9.3"}]}]}"#;

#[test]
fn what_the_world_writes_of_a_package_under_its_own_name_holds_for_what_was_repackaged() {
    let sandbox = repackaged();
    let record = sandbox.read("station/releases/pack.json");
    assert!(record.contains("\"identities\": [\n") || record.contains("\"identities\":["), "{record}");
    sandbox.write("console/world/a.json", advisory("A", ZLIB));
    sandbox.write("console/world/b.json", advisory("B", LZ));
    sandbox.write("console/world/c.json", advisory("C", &ZLIB.replace("zlib", "zlib-ng")));
    sandbox.write("console/world/torn.json", "{");
    assert_eq!(ids(&audit(&sandbox, 0)), [""; 0]);
    policy(&sandbox, "advisories = [\"world\"]");
    let answer = audit(&sandbox, 1);
    assert_eq!(ids(&answer), ["A", "B"]);
    let unread = &answer["unread-advisories"];
    assert_eq!((&unread[0]["source"], &unread[0]["file"]), (&"world".into(), &"torn.json".into()), "{unread}");
    // The same in an archive, in folders, beside what is none; and one that says it is small.
    let mut zip = ZipWriter::new(std::fs::File::create(sandbox.path("console/world.zip")).unwrap());
    let options = SimpleFileOptions::default();
    for (name, text) in [
        ("all/A.json", advisory("A", ZLIB)),
        ("B.json", advisory("B", LZ)),
        ("note.txt", String::new()),
        ("long.json", " ".repeat(2 << 20)),
    ] {
        zip.start_file(name, options).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap();
    policy(&sandbox, "advisories = [\"world.zip\", \"gone\"]");
    let answer = audit(&sandbox, 1);
    assert_eq!(ids(&answer), ["A", "B"]);
    let files: Vec<&str> =
        answer["unread-advisories"].as_array().unwrap().iter().map(|one| one["file"].as_str().unwrap()).collect();
    assert_eq!(files, ["long.json", "gone"], "{answer}");
    // What is no archive is told too, and everything else is found all the same.
    sandbox.write("console/world.zip", "PK\u{3}\u{4} and nothing else");
    policy(&sandbox, "advisories = [\"world.zip\", \"world\"]");
    let answer = audit(&sandbox, 1);
    assert_eq!((ids(&answer).len(), answer["unread-advisories"].as_array().unwrap().len()), (2, 2), "{answer}");
}

#[test]
fn many_advisories_are_read_once_and_each_change_is_seen() {
    let sandbox = repackaged();
    for number in 0..100 {
        let other = ZLIB.replace("zlib", &format!("other-{number}"));
        sandbox.write(&format!("console/world/{number}.json"), advisory(&format!("N-{number}"), &other));
    }
    policy(&sandbox, "advisories = [\"world\"]");
    let lists = || std::fs::read_dir(sandbox.path("cache/advisories")).map_or(0, Iterator::count);
    audit(&sandbox, 0);
    assert_eq!(lists(), 1);
    thread::sleep(Duration::from_millis(3100));
    // What was written down just after a change may have missed another; by now it has not.
    audit(&sandbox, 0);
    assert_eq!(lists(), 1);
    let list = std::fs::read_dir(sandbox.path("cache/advisories")).unwrap().next().unwrap().unwrap().path();
    let text = std::fs::read_to_string(&list).unwrap();
    assert_eq!(text.matches("\"file\"").count(), 100, "{text}");
    // One changes, one comes, one is gone; a list that is damaged is no list.
    sandbox.write("console/world/7.json", advisory("N-7", ZLIB));
    assert_eq!(ids(&audit(&sandbox, 1)), ["N-7"]);
    sandbox.write("console/world/new.json", advisory("N-new", LZ));
    assert_eq!(ids(&audit(&sandbox, 1)), ["N-7", "N-new"]);
    std::fs::remove_file(sandbox.path("console/world/7.json")).unwrap();
    assert_eq!(ids(&audit(&sandbox, 1)), ["N-new"]);
    std::fs::write(&list, "{").unwrap();
    assert_eq!(ids(&audit(&sandbox, 1)), ["N-new"]);
}

#[test]
fn a_commit_is_affected_by_what_its_history_holds() {
    let sandbox = sandbox();
    sandbox.write("repo/yostel.toml", "[project]\nname = \"clock\"\nversion = \"1.0.0\"\n");
    git(&sandbox, "repo", &["init", "--quiet", "--initial-branch=main"]);
    let commit = |text: &str| {
        sandbox.write("repo/text", text);
        git(&sandbox, "repo", &["add", "--all"]);
        git(&sandbox, "repo", &["commit", "--quiet", "-m", text]);
        git(&sandbox, "repo", &["rev-parse", "HEAD"])
    };
    let (_, bad, between, good) = (commit("1"), commit("2"), commit("3"), commit("4"));
    let address = format!("file://{}", sandbox.path("repo").display());
    let with = |at: &str| {
        project(&sandbox, &format!("clock = {{ git = \"{address}\", at = \"{at}\" }}"), "");
        policy(&sandbox, "advisories = [\"world\"]");
        sandbox.run("console", "lock").expect(0);
    };
    let range = format!(
        r#"{{"ranges":[{{"type":"GIT","repo":"{address}.git","events":[{{"introduced":"{bad}"}},{{"fixed":"{good}"}}]}}]}}"#
    );
    sandbox.write("console/world/a.json", advisory("A", &range));
    for (at, status) in [(&between, 1), (&good, 0), (&bad, 1)] {
        with(at);
        assert_eq!(ids(&audit(&sandbox, status)).len(), usize::from(status == 1), "{at}");
    }
    let way = &audit(&sandbox, 1)["advisories"][0]["way"];
    assert_eq!((&way["kind"], &way["commit"]), (&"commit".into(), &good.as_str().into()));
    let told = sandbox.run("console", "audit advisories").expect(1).stdout;
    assert!(told.contains(&format!("its repository has ended it in commit {}", &good[..12])), "{told}");
    // Where a part of the history is missing, or the commit is gone, nobody can say that all is well.
    let shallow = format!("file://{}", sandbox.path("shallow").display());
    git(&sandbox, "", &["clone", "--quiet", "--depth", "1", &address, "shallow"]);
    sandbox.write("console/world/a.json", advisory("A", &range.replace("/repo.git", "/shallow")));
    project(&sandbox, &format!("clock = {{ git = \"{shallow}\", at = \"{good}\" }}"), "");
    policy(&sandbox, "advisories = [\"world\"]");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit advisories").expect(1).stdout;
    assert!(told.contains("/shallow has only a part of its history"), "{told}");
    sandbox.write("console/world/a.json", advisory("A", &range));
    git(&sandbox, "repo", &["checkout", "--quiet", "-b", "aside"]);
    let aside = commit("5");
    with(&aside);
    git(&sandbox, "repo", &["checkout", "--quiet", "main"]);
    git(&sandbox, "repo", &["branch", "--quiet", "-D", "aside"]);
    git(&sandbox, "repo", &["reflog", "expire", "--expire=now", "--all"]);
    git(&sandbox, "repo", &["gc", "--quiet", "--prune=now"]);
    let told = sandbox.run("console", "audit advisories").expect(1).stdout;
    assert!(told.contains("the history of ") && told.contains(&format!("does not have commit {aside}")), "{told}");
    // A repository that is gone is told too.
    with(&bad);
    std::fs::rename(sandbox.path("repo"), sandbox.path("moved")).unwrap();
    let told = sandbox.run("console", "audit advisories").expect(1).stdout;
    assert!(told.contains("Advisories that cannot be read\n  the history of "), "{told}");
}

#[test]
fn what_was_looked_at_is_said_once_counts_for_that_release_and_ends() {
    let sandbox = small_world();
    publish(&sandbox, "gust 2.0.1", "", &[]);
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    let range = r#"{"package":{"ecosystem":"station","name":"gust"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"},{"fixed":"2.1.0"}]}]}"#;
    sandbox.write("station/advisories/a.json", advisory("STAR-1", range));
    sandbox.run("console", "audit advisories").expect(1);
    let run = |words: &[&str], status: i32| {
        let mut command = sandbox.command("console", "audit dismiss");
        sandbox.finish(command.args(words)).expect(status)
    };
    run(&["STAR-2", "--why", "x"], 2)
        .says(&["no advisory named STAR-2 affects what is locked", "yostel audit advisories"]);
    run(&["STAR-1", "--why", "x", "--package", "unit"], 2).says(&["no advisory named STAR-1 affects unit"]);
    run(&["STAR-1", "--take-back"], 2).says(&["STAR-1 is not dismissed in yostel.openvex.json"]);
    run(&["STAR-1", "--why", "x", "--until", "2020-01-01"], 2).says(&["that day is past"]);
    run(&["STAR-1"], 2).says(&["--why"]);
    run(&["STAR-1", "--why", "x", "--because", "so"], 2).says(&["vulnerable-code-not-present"]);
    assert!(!sandbox.path("console/yostel.openvex.json").exists());
    let why = "no wind \u{1b}[31m reaches it";
    let words = ["CVE-STAR-1", "--why", why, "--because", "component-not-present", "--until", "2099-12-31"];
    let told = run(&words, 0).stdout;
    let expected = "CVE-STAR-1 does not count for gust 2.0.0 until 2099-12-31, says yostel.openvex.json now.\n\
                    next: commit yostel.openvex.json, so that it holds for everybody\n";
    assert_eq!(told, expected);
    let told = sandbox.run("console", "audit advisories").expect(0).stdout;
    assert!(told.starts_with("2 packages: no advisory affects any.\n"), "{told}");
    assert!(
        told.contains("dismissed: STAR-1 for gust 2.0.0, by yostel.openvex.json until 2099-12-31: no wind"),
        "{told}"
    );
    assert!(!told.contains('\u{1b}'), "{told}");
    let answer = audit(&sandbox, 0);
    assert_eq!((&answer["dismissed"][0]["id"], &answer["findings"]), (&"STAR-1".into(), &Value::Array(Vec::new())));
    // It is said of one release: another has to be looked at again.
    project(&sandbox, "gust = \"=2.0.1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "audit advisories").expect(1);
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    // Its day passes; then it counts again, and that is said.
    let mut later = sandbox.command("console", "audit advisories");
    let later = sandbox.finish(later.env("SOURCE_DATE_EPOCH", "4102444800")).expect(1);
    let says = "yostel.openvex.json dismissed STAR-1 for gust until 2099-12-31, so it counts again\n";
    assert!(later.stdout.contains(says), "{}", later.stdout);
    // Others may say it, in a document that the policy names; what is said last counts.
    let own = sandbox.read("console/yostel.openvex.json");
    sandbox.write(
        "console/theirs.json",
        own.replace("not_affected", "under_investigation").replace("\"timestamp\": \"2", "\"timestamp\": \"3"),
    );
    policy(&sandbox, "statements = [\"theirs.json\"]");
    sandbox.run("console", "audit advisories").expect(1);
    sandbox.write("console/theirs.json", "{}");
    sandbox.run("console", "audit advisories").expect(2).says(&["theirs.json is no OpenVEX document"]);
    policy(&sandbox, "statements = [\"none.json\"]");
    sandbox.run("console", "audit advisories").expect(7).says(&["none.json"]);
    policy(&sandbox, "");
    sandbox.run("console", "audit advisories").expect(0);
    let told = run(&["STAR-1", "--take-back"], 0).stdout;
    assert_eq!(told, "Took back 1 statement on STAR-1 in yostel.openvex.json.\nnext: yostel audit advisories\n");
    sandbox.run("console", "audit advisories").expect(1);
    assert!(sandbox.read("console/yostel.openvex.json").contains("\"version\": 2"));
}

#[test]
fn what_is_said_counts_for_each_of_two_versions_and_not_where_another_document_says_otherwise_later() {
    let sandbox = small_world();
    project(&sandbox, "unit = \"^1\"", "unit = \"^2\"");
    policy(&sandbox, "coexist = [\"unit\"]\nstatements = [\"theirs.json\"]");
    let range = r#"{"package":{"ecosystem":"station","name":"unit"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"}]}]}"#;
    sandbox.write("station/advisories/a.json", advisory("STAR-1", range));
    let theirs = |at: &str| {
        let said = r#"{"vulnerability":{"name":"STAR-1"},"products":[{"@id":"pkg:generic/unit"}],"status":"affected"}"#;
        format!(r#"{{"@context":"https://openvex.dev/ns/v0.2.0","timestamp":"{at}","statements":[{said}]}}"#)
    };
    sandbox.write("console/theirs.json", theirs("2020-01-01T00:00:00Z"));
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "audit dismiss STAR-1 --why x").expect(0).stdout;
    assert!(
        told.starts_with("STAR-1 does not count for unit 1.1.0 and unit 2.0.0, says yostel.openvex.json now.\n"),
        "{told}"
    );
    sandbox.run("console", "audit advisories").expect(0);
    sandbox.write("console/theirs.json", theirs("2090-01-01T00:00:00Z"));
    let told = sandbox.run("console", "audit dismiss STAR-1 --why x").expect(0).stdout;
    let expected = "Wrote that into yostel.openvex.json.\n  note: STAR-1 still counts for unit 1.1.0 and unit 2.0.0: another \
                    document says otherwise, and is dated later\nnext: yostel audit advisories\n";
    assert_eq!(told, expected);
    sandbox.run("console", "audit advisories").expect(1);
    // Only one of the two is left when the other is taken back, and no other format is answered in silence.
    sandbox
        .run("console", "--format sarif audit dismiss STAR-1 --why x")
        .expect(2)
        .says(&["does not answer in this format"]);
    sandbox.run("console", "audit dismiss STAR-1 --take-back --package unit").expect(0);
    assert!(!sandbox.read("console/yostel.openvex.json").contains("STAR-1"));
}

#[test]
fn several_who_dismiss_at_once_lose_nothing() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    for number in 0..6 {
        let range = r#"{"package":{"ecosystem":"station","name":"gust"},"versions":["2.0.0"]}"#;
        sandbox.write(&format!("station/advisories/{number}.json"), advisory(&format!("S-{number}"), range));
    }
    thread::scope(|scope| {
        for number in 0..6 {
            let sandbox = &sandbox;
            scope.spawn(move || {
                sandbox.run("console", &format!("audit dismiss S-{number} --why looked-at")).expect(0);
            });
        }
    });
    assert_eq!(audit(&sandbox, 0)["dismissed"].as_array().unwrap().len(), 6);
}
