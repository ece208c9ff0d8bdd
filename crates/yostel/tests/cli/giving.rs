//! `registry`, `publish`, `withdraw`. The accident this prevents: one version with two contents.

use std::fs;
use std::time::{Duration, SystemTime};

use crate::{project, publish, sandbox, small_world};

#[test]
fn the_same_files_make_the_same_archive_whatever_their_times_and_order() {
    let one = sandbox();
    let other = sandbox();
    let files = [("bin/run", "#!/bin/sh\n"), ("a/b/c.txt", "c"), ("z.txt", "z")];
    publish(&one, "kit 1.0.0", "", &files);
    let reversed: Vec<(&str, &str)> = files.into_iter().rev().collect();
    let folder = "made/kit-1.0.0";
    publish(&other, "kit 0.9.0", "", &reversed);
    for (path, content) in reversed {
        other.write(&format!("{folder}/{path}"), content);
        let file = fs::File::options().append(true).open(other.path(&format!("{folder}/{path}"))).unwrap();
        file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(77)).unwrap();
    }
    other.write(&format!("{folder}/.git/config"), "never packed");
    other.write(&format!("{folder}/.yostel/x"), "never packed");
    publish(&other, "kit 1.0.0", "", &files);
    let archives = |sandbox: &yostel_testkit::Sandbox| -> Vec<String> {
        let mut names: Vec<String> = fs::read_dir(sandbox.path("station/archives/sha256"))
            .unwrap()
            .map(|e| e.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    };
    assert!(archives(&other).contains(&archives(&one)[0]), "{:?} {:?}", archives(&one), archives(&other));
    // Known bytes: if these change, archives made by another build of yostel are no longer the same.
    assert_eq!(archives(&one)[0], EXPECTED_ARCHIVE);
}

/// Digest of the archive that `publish` has made of these files since format 1.
const EXPECTED_ARCHIVE: &str = "78b9eb945c317b4efca898f0ccece9d32b88aba80f27fdeab550b81f15ef6197.tar.zst";

#[test]
fn a_preview_tells_every_file_and_publishes_nothing() {
    let sandbox = sandbox();
    publish(&sandbox, "kit 1.0.0", "", &[("a", "a")]);
    sandbox.write("made/kit-1.0.0/yostel.toml", "[project]\nname = \"kit\"\nversion = \"1.1.0\"\n");
    sandbox.write("made/kit-1.0.0/share/b", "b");
    let before = sandbox.picture("station");
    let written = || std::fs::metadata(sandbox.path("station/archives/sha256")).unwrap().modified().unwrap();
    let was_written = written();
    let told = sandbox.run("made/kit-1.0.0", "publish --to ../../station --preview").expect(0).stdout;
    assert_eq!(written(), was_written, "a preview needs no right to write");
    assert!(told.starts_with("kit 1.1.0 would be published (3 files, "), "{told}");
    assert!(told.contains("; nothing was:\n      SIZE  FILE\n    1 byte  a\n    1 byte  share/b\n  41 bytes  yostel.toml\n  archive sha256:"), "{told}");
    assert_eq!(sandbox.picture("station"), before);
    // What it tells is what is then published.
    let digest = |told: &str| told.lines().find(|line| line.contains("archive sha256:")).unwrap_or_default().to_owned();
    let published = sandbox.run("made/kit-1.0.0", "publish --to ../../station").expect(0).stdout;
    assert_eq!(digest(&published), digest(&told));
    sandbox.write("made/kit-1.0.0/share/b", "c");
    sandbox.run("made/kit-1.0.0", "publish --to ../../station --preview").expect(4).says(&["differs in its files"]);
}

#[test]
fn the_root_of_a_workspace_is_published_without_its_projects() {
    let sandbox = sandbox();
    publish(&sandbox, "kit 1.0.0", "", &[]);
    let head = "[project]\nname = \"w\"\nversion = \"1.0.0\"\n";
    sandbox.write("w/yostel.toml", format!("{head}\n[workspace]\nprojects = [\"libs/*\", \"app\"]\n"));
    for (folder, name) in [("w/libs/one", "one"), ("w/app", "app")] {
        sandbox.write(&format!("{folder}/yostel.toml"), format!("[project]\nname = \"{name}\"\nversion = \"1.0.0\"\n"));
        sandbox.write(&format!("{folder}/inside"), "theirs");
    }
    sandbox.write("w/libs/shared", "ours");
    let told = sandbox.run("w", "publish --to ../station --preview").expect(0).stdout;
    assert!(
        told.contains("nothing was:\n      SIZE  FILE\n   4 bytes  libs/shared\n  81 bytes  yostel.toml\n  archive"),
        "{told}"
    );
    let told = sandbox.run("w/app", "publish --to ../../station --preview").expect(0).stdout;
    assert!(told.contains("  inside\n  41 bytes  yostel.toml\n  archive"), "{told}");
}

#[test]
fn a_version_is_published_once() {
    let sandbox = sandbox();
    publish(&sandbox, "kit 1.0.0", "", &[("a", "a")]);
    let before = sandbox.picture("station");
    let told = sandbox.run("made/kit-1.0.0", "publish --to ../../station").expect(0).stdout;
    assert!(told.contains("published already, with the very same content"), "{told}");
    sandbox.write("made/kit-1.0.0/a", "b");
    sandbox
        .run("made/kit-1.0.0", "publish --to ../../station")
        .expect(4)
        .says(&["kit 1.0.0 is published already, and differs in its files", "new version"]);
    assert_eq!(sandbox.picture("station"), before);
    sandbox.write(
        "made/kit-1.0.0/yostel.toml",
        "[project]\nname = \"kit\"\nversion = \"1.1\"\nnumbering = { order = \"words\" }\n",
    );
    sandbox.run("made/kit-1.0.0", "publish --to ../../station").expect(2).says(&["kit has always numbered by semver"]);
    sandbox.write("made/kit-1.0.0/yostel.toml", "[project]\nname = \"kit\"\n");
    sandbox.run("made/kit-1.0.0", "publish --to ../../station").expect(2).says(&["kit has no version"]);
    assert_eq!(sandbox.picture("station"), before);
}

#[test]
fn what_cannot_be_packed_is_refused() {
    let sandbox = sandbox();
    publish(&sandbox, "kit 1.0.0", "", &[("a", "a")]);
    let before = sandbox.picture("station");
    sandbox.write("made/kit-1.0.0/yostel.toml", "[project]\nname = \"kit\"\nversion = \"1.1.0\"\n");
    std::os::unix::fs::symlink("../../..", sandbox.path("made/kit-1.0.0/out")).unwrap();
    sandbox
        .run("made/kit-1.0.0", "publish --to ../../station")
        .expect(2)
        .says(&["`out` cannot be packed: it is a link that points out of the package", "nothing was published"]);
    assert_eq!(sandbox.picture("station"), before);
    fs::remove_file(sandbox.path("made/kit-1.0.0/out")).unwrap();
    sandbox
        .run("made/kit-1.0.0", "publish --to nowhere")
        .expect(2)
        .says(&["neither a source of the manifest nor a folder"]);
    sandbox.run("made/kit-1.0.0", "publish --to ..").expect(2).says(&["there is no registry in"]);
    sandbox.run("", "registry create station").expect(2).says(&["is a registry already"]);
}

#[test]
fn a_withdrawn_release_stays_for_those_who_have_it() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("", "withdraw gust 2.1.0 --from station --why leaks").expect(0);
    let told = sandbox.run("", "withdraw gust 2.1.0 --from station --why leaks").expect(0).stdout;
    assert!(told.contains("was withdrawn already"));
    sandbox
        .run("", "withdraw gust 2.9.0 --from station --why leaks")
        .expect(2)
        .says(&["gust has no release 2.9.0", "its releases are 3.0.0"]);
    project(&sandbox, "gust = \">=2, <3\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains("version = \"2.1.0\""), "kept");
    sandbox.run("console", "install").expect(0);
    let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(told.contains("gust  2.1.0 -> 2.0.0"), "{told}");
    let told = sandbox.run("console", "add gust ^2").expect(0).stdout;
    assert!(told.contains("1 withdrawn release left out"), "{told}");
    assert!(sandbox.run("", "registry list station").expect(0).stdout.contains("1 withdrawn"));
}

#[test]
fn a_registry_is_named_as_a_source_or_by_its_folder_wherever_one_is_named() {
    let sandbox = small_world();
    for registry in ["station", "../station"] {
        assert!(sandbox.run("console", &format!("registry list {registry}")).expect(0).stdout.contains("unit"));
        sandbox.run("console", &format!("withdraw unit 1.0.0 --from {registry} --why old")).expect(0);
    }
    let manifest = sandbox.read("console/yostel.toml") + "[sources.valley]\nfolder = \"../made/valley\"\n";
    sandbox.write("console/yostel.toml", manifest);
    for words in ["registry list valley", "withdraw unit 1.0.0 --from valley --why old", "publish --to valley"] {
        sandbox
            .run("console", words)
            .expect(2)
            .says(&["source valley: there is no folder", "yostel registry create valley"]);
    }
    sandbox.run("console", "registry list statoin").expect(2).says(&["next: station exists, if that is the one"]);
    sandbox.run("console", "registry create valley").expect(0);
    // What is offered where the folder is taken works.
    let offered = sandbox.run("console", "registry create .").expect(2).says(&[". is not empty"]).stderr;
    let command = offered.split("next: yostel ").nth(1).unwrap().split(',').next().unwrap().to_owned();
    sandbox.run("console", &command).expect(0);
    assert!(sandbox.path("made/valley/registry.json").is_file());
    sandbox.run("console", "publish --to valley").expect(0);
}

#[test]
fn a_word_that_a_package_does_not_list_is_refused_with_the_lines_that_list_it() {
    let sandbox = sandbox();
    let manifest = |version: &str, words: &str| {
        sandbox.write(
            "kit/yostel.toml",
            format!("[project]\nname = \"kit\"\nversion = \"{version}\"\nnumbering = {{ order = \"words\"{words} }}\n"),
        );
    };
    let publish = |status: i32| sandbox.run("kit", "publish --to ../station --backport").expect(status);
    let packages = || sandbox.read("station/releases/kit.json");
    sandbox.write("kit/file", "1");
    manifest("2024.1-rc1", "");
    publish(0);
    manifest("2024.1-errata1", "");
    let refused = publish(2).says(&["yostel.toml:3:11", "its package lists no word `errata`"]).stderr;
    let after = refused.lines().find_map(|line| line.split_once("write: ")).unwrap().1.to_owned();
    assert_eq!(after, "after = [\"sp\", \"errata\"]", "{refused}");
    // The line works as it is offered, and words that were there keep their places.
    manifest("2024.1-errata1", &format!(", {after}"));
    publish(0);
    assert!(packages().contains("\"errata\""));
    manifest("2024.1-sp1", "");
    publish(0);
    assert!(packages().contains("\"errata\""), "whoever lists fewer takes none away");
    manifest("2024.1", ", before = [\"alpha\", \"draft\", \"rc\"]");
    publish(2).says(&["kit has always numbered by words, before: dev alpha beta rc, after: sp errata"]);
    let listed = sandbox.run("", "registry list station --format json").expect(0).stdout;
    let order: Vec<usize> =
        ["2024.1-rc1", "2024.1-sp1", "2024.1-errata1"].iter().map(|v| listed.find(v).unwrap()).collect();
    assert!(order.is_sorted() || order.iter().rev().is_sorted(), "{listed}");
    for (words, says) in [
        (", after = [\"rc\"]", "the word `rc` is listed twice"),
        (", after = [\"sp1\"]", "`sp1` is no word"),
        (", after = \"sp\"", "list"),
    ] {
        manifest("2024.2", words);
        publish(2).says(&[says]);
    }
    sandbox.write("kit/yostel.toml", "[project]\nname = \"kit\"\nnumbering = { before = [\"rc\"] }\n");
    sandbox.run("kit", "lock").expect(2).says(&["belong to the order `words`", "write order = \"words\""]);
    // What is locked is read back with the words it was locked with.
    sandbox.write(
        "console/yostel.toml",
        "[project]\nname = \"console\"\n[needs.run]\nkit = \"*\"\n[sources.station]\nfolder = \"../station\"\n",
    );
    sandbox.run("console", "lock").expect(0);
    let locked = sandbox.read("console/yostel.lock");
    assert!(
        locked.contains("version = \"2024.1-errata1\"") && locked.contains("after = [\"sp\", \"errata\"]"),
        "{locked}"
    );
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "verify --lock").expect(0);
    // More words are no other order: what moves stays on its line.
    manifest("2024.2-late1", ", after = [\"sp\", \"errata\", \"late\"]");
    publish(0);
    let told = sandbox.run("console", "--format json lock --fresh").expect(0).stdout;
    assert!(told.contains("\"to\": \"2024.2-late1\"") && told.contains("\"crosses-line\": false"), "{told}");
}

#[test]
fn what_was_published_never_changes_and_a_lockfile_notices_when_it_does() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let (right, lock) = (sandbox.read("station/releases/gust.json"), sandbox.read("console/yostel.lock"));
    let changed = |from: &str, to: &str| {
        let text = right.replace(from, to);
        assert_ne!(text, right, "{from}");
        sandbox.write("station/releases/gust.json", text);
    };
    // What is said later changes no record: a lockfile stays as it is.
    sandbox.run("", "withdraw gust 2.1.0 --from station --why leaks").expect(0);
    sandbox.run("console", "verify --lock").expect(0);
    sandbox.run("console", "lock --shareable").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), lock);
    // Nor does another layout.
    let value: serde_json::Value = serde_json::from_str(&right).unwrap();
    sandbox.write("station/releases/gust.json", value.to_string());
    sandbox.run("console", "verify --lock").expect(0);
    for (from, to) in [
        ("\"programs\"", "\"later\": 1, \"programs\""),
        ("\"published\": \"2026", "\"published\": \"2025"),
        ("\"unit\": \"^1\"", "\"unit\": \">=1, <2\""),
    ] {
        changed(from, to);
        let says = if from.contains("unit") {
            "gust 2.1.0 needs unit"
        } else {
            "describes it otherwise than when it was locked"
        };
        sandbox.run("console", "verify --lock").expect(4).says(&["gust 2.1.0", says]);
        assert!(sandbox.run("console", "audit").expect(4).stdout.contains("gust 2.1.0"));
        // Whatever the manifest says by now, what is locked is not taken for what is there.
        sandbox.write("console/yostel.toml", sandbox.read("console/yostel.toml") + "# more\n");
        project(&sandbox, "gust = \"^2\"\nunit = \"*\"", "rig = \"^0.9\"");
        sandbox.run("console", "lock").expect(4).says(&["gust 2.1.0", "nothing was installed or locked"]);
        assert_eq!(sandbox.read("console/yostel.lock"), lock);
        project(&sandbox, "gust = \"^2\"", "rig = \"^0.9\"");
        // Locking anew takes it as it is.
        let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
        assert!(told.contains("record  gust  2.1.0, its source describes it otherwise"), "{told}");
        sandbox.run("console", "verify --lock").expect(0);
        assert_ne!(sandbox.read("console/yostel.lock"), lock);
        sandbox.write("console/yostel.lock", &lock);
    }
}

#[test]
fn a_withdrawal_is_taken_back_and_the_document_tells_both() {
    let sandbox = small_world();
    let newest = || {
        sandbox.run("console", "lock --fresh").expect(0);
        sandbox.read("console/yostel.lock").contains("version = \"2.1.0\"")
    };
    let told = sandbox.run("", "withdraw gust 2.1.0 --from station --take-back --why fine").expect(0).stdout;
    assert_eq!(told, "gust 2.1.0 is not withdrawn.\n");
    sandbox.run("", "withdraw gust 2.1.0 --from station --why leaks").expect(0);
    assert!(!newest());
    let told = sandbox.run("", "withdraw gust 2.1.0 --from station --take-back --why mended").expect(0).stdout;
    assert_eq!(told, "gust 2.1.0 is no longer withdrawn: it may be chosen again.\n");
    assert!(newest());
    let document = sandbox.read("station/releases/gust.json");
    assert!(document.find("leaks").unwrap() < document.find("mended").unwrap(), "{document}");
}

#[test]
fn an_archive_for_one_more_platform_is_said_beside_the_record() {
    let sandbox = sandbox();
    for (at, platform) in ["linux/amd64", "linux/arm64"].into_iter().enumerate() {
        sandbox.write("kit/yostel.toml", "[project]\nname = \"kit\"\nversion = \"1.0.0\"\n");
        sandbox.write("kit/file", platform);
        sandbox.run("kit", &format!("publish --to ../station --platform {platform}")).expect(0);
        sandbox.write(
            "console/yostel.toml",
            format!("[project]\nname = \"console\"\nplatforms = [\"{platform}\"]\n[needs.run]\nkit = \"^1\"\n[sources.station]\nfolder = \"../station\"\n"),
        );
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", &format!("install --platform {platform}")).expect(0);
        let document: serde_json::Value = serde_json::from_str(&sandbox.read("station/releases/kit.json")).unwrap();
        let entry = &document["releases"][0];
        assert_eq!(entry["record"]["artifacts"].as_array().unwrap().len(), 1);
        assert_eq!(entry["statements"].as_array().map_or(0, Vec::len), at);
    }
}

#[test]
fn an_older_yostel_keeps_what_it_does_not_know() {
    let sandbox = small_world();
    let mut document: serde_json::Value = serde_json::from_str(&sandbox.read("station/releases/unit.json")).unwrap();
    document["signatures"] = serde_json::json!({ "by": "Ida" });
    document["releases"][0]["owner"] = serde_json::json!(["the valley"]);
    document["releases"][0]["record"]["artifacts"][0]["mirrors"] = serde_json::json!(["far"]);
    document["releases"][0]["record"]["offers"]["manuals"] = serde_json::json!(["share/man"]);
    document["releases"][0]["statements"] = serde_json::json!([{ "says": "praised", "on": "2026-01-01", "by": 1.5 }]);
    let withdrawn = serde_json::json!({ "says": "withdrawn", "on": "2026-01-01T00:00:00Z", "why": "so", "until": 9 });
    document["releases"][1]["statements"] = serde_json::json!([withdrawn]);
    sandbox.write("station/releases/unit.json", document.to_string());
    sandbox.run("", "withdraw unit 1.0.0 --from station --why old").expect(0);
    publish(&sandbox, "unit 3.0.0", "", &[]);
    let after: serde_json::Value = serde_json::from_str(&sandbox.read("station/releases/unit.json")).unwrap();
    assert_eq!(after["signatures"], document["signatures"]);
    for field in ["owner", "record"] {
        assert_eq!(after["releases"][0][field], document["releases"][0][field], "{field}");
    }
    assert_eq!(after["releases"][0]["statements"][0], document["releases"][0]["statements"][0]);
    assert_eq!(after["releases"][0]["statements"][1]["says"], "withdrawn");
    assert_eq!(after["releases"][1]["statements"], document["releases"][1]["statements"]);
}
