//! What commands changed in the project's own files, undone and done again.
//! The accidents this prevents: an edit that nobody can take back because it was never committed; and an undo that writes
//! over what somebody wrote since.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{publish, sandbox, small_world};

/// Every file of a project that commands edit, with its bytes.
fn own_files(sandbox: &Sandbox, folder: &str) -> BTreeMap<String, Vec<u8>> {
    fn collect(at: &Path, root: &Path, all: &mut BTreeMap<String, Vec<u8>>) {
        for entry in fs::read_dir(at).unwrap().flatten() {
            let path = entry.path();
            let name = entry.file_name().to_string_lossy().into_owned();
            if entry.file_type().unwrap().is_dir() {
                if ![".yostel", ".git", "altered"].contains(&name.as_str()) {
                    collect(&path, root, all);
                }
            } else {
                let below = path.strip_prefix(root).unwrap().to_string_lossy().into_owned();
                all.insert(below, fs::read(&path).unwrap());
            }
        }
    }
    let mut all = BTreeMap::new();
    let root = sandbox.path(folder);
    collect(&root, &root, &mut all);
    all
}

fn says(sandbox: &Sandbox, folder: &str, words: &str, parts: &[&str]) {
    let told = sandbox.run(folder, words).expect(0).stdout;
    assert!(parts.iter().all(|part| told.contains(part)), "{told}");
}

/// Runs a command that edits; then everything is as before after an undo, and as afterwards after a redo.
fn there_and_back(sandbox: &Sandbox, folder: &str, words: &str) {
    let before = own_files(sandbox, folder);
    sandbox.run(folder, words).expect(0);
    let after = own_files(sandbox, folder);
    assert_ne!(before, after, "{words} edits something");
    says(sandbox, folder, "undo --preview", &["Would undo yostel "]);
    assert_eq!(own_files(sandbox, folder), after, "a preview writes nothing");
    says(sandbox, folder, "undo", &["Undid yostel ", words.split(' ').next().unwrap()]);
    assert_eq!(own_files(sandbox, folder), before, "{words}, undone");
    says(sandbox, folder, "undo --redo", &["Did again yostel "]);
    assert_eq!(own_files(sandbox, folder), after, "{words}, done again");
}

#[test]
fn each_command_that_edits_is_undone_and_done_again_to_the_byte() {
    let sandbox = small_world();
    fs::create_dir(sandbox.path("fresh")).unwrap();
    there_and_back(&sandbox, "fresh", "init fresh");
    there_and_back(&sandbox, "fresh", "sources add station ../station");
    there_and_back(&sandbox, "fresh", "add gust ^2 --install");
    there_and_back(&sandbox, "fresh", "remove gust");
    there_and_back(&sandbox, "fresh", "sources remove station");

    let manifest = format!("# A remark.\n{}\n# At the end.", sandbox.read("console/yostel.toml"));
    sandbox.write("console/yostel.toml", manifest);
    there_and_back(&sandbox, "console", "lock");
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "alter rig").expect(0);
    sandbox.write("console/altered/rig/share/a", "other\n");
    there_and_back(&sandbox, "console", "alter rig --keep --why louder");
    sandbox.run("console", "install").expect(0);
    there_and_back(&sandbox, "console", "alter rig --drop");
    sandbox.write("station/advisories/s.json", ADVISORY);
    there_and_back(&sandbox, "console", "audit dismiss S --why unreached");
    there_and_back(&sandbox, "console", "update gust 2.0.0");
    sandbox.run("console", "add valley/bell --quiet").expect(0);
    sandbox.run("console", "lock").expect(3);
    there_and_back(&sandbox, "console", "settle 1 --quiet");
    let listed: Value =
        serde_json::from_str(&sandbox.run("console", "--format json undo --list").expect(0).stdout).unwrap();
    let commands: Vec<&str> =
        listed["changes"].as_array().unwrap().iter().map(|c| c["change"].as_str().unwrap()).collect();
    assert_eq!(commands.len(), 7, "{commands:?}");
    assert!(commands[6] == "lock" && commands[0].starts_with("settle 1"), "{commands:?}");
}

const ADVISORY: &str = r#"{"id":"S","modified":"2026-05-01T00:00:00Z","affected":[{
    "package":{"ecosystem":"station","name":"gust"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"}]}]}]}"#;

#[test]
fn a_workspace_is_undone_as_one_from_wherever_one_is_in_it() {
    let sandbox = small_world();
    let top = "[project]\nname = \"all\"\n[workspace]\nprojects = [\"one\", \"two\"]\n[sources.station]\nfolder = \"../station\"\n";
    sandbox.write("all/yostel.toml", top);
    for name in ["one", "two"] {
        sandbox.write(
            &format!("all/{name}/yostel.toml"),
            format!("[project]\nname = \"{name}\"\n[needs.run]\nunit = \"^1\"\n"),
        );
    }
    there_and_back(&sandbox, "all", "agree");
    let agreed = own_files(&sandbox, "all");
    sandbox.run("all/one", "add gust ^2").expect(0);
    says(&sandbox, "all/two", "undo", &["one/yostel.toml"]);
    assert_eq!(own_files(&sandbox, "all"), agreed);
}

#[test]
fn a_merge_of_lockfiles_is_undone_too() {
    let sandbox = small_world();
    sandbox.run("console", "add gust =2.0.0 --quiet").expect(0);
    sandbox.run("console", "lock").expect(0);
    fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("base")).unwrap();
    sandbox.run("console", "add gust ^2 --quiet").expect(0);
    sandbox.run("console", "lock --fresh").expect(0);
    fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("theirs")).unwrap();
    fs::copy(sandbox.path("base"), sandbox.path("console/yostel.lock")).unwrap();
    fs::copy(sandbox.path("base"), sandbox.path("ours")).unwrap();
    there_and_back(&sandbox, "console", "lock --merge ../base ../ours ../theirs");
}

#[test]
fn what_was_edited_since_is_shown_and_nothing_is_touched() {
    let sandbox = small_world();
    sandbox.run("console", "undo").expect(2).says(&["no command changed anything here that could be undone"]);
    sandbox.run("console", "undo --redo").expect(2).says(&["nothing was undone here"]);
    says(&sandbox, "console", "undo --list", &["No command changed anything here"]);
    sandbox.run("console", "add unit").expect(0);
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}# by hand\n"));
    let edited = own_files(&sandbox, "console");
    let refused = sandbox.run("console", "undo").expect(2);
    refused.says(&[
        "`yostel add unit` cannot be undone: yostel.toml changed since it ran",
        "+# by hand",
        "nothing was touched",
    ]);
    assert_eq!(own_files(&sandbox, "console"), edited);
    // Two files, of which one was edited: neither is touched.
    sandbox.write("console/yostel.toml", &manifest);
    sandbox.run("console", "remove unit --quiet").expect(0);
    sandbox.run("console", "add unit ^1 --install").expect(0);
    sandbox.write("console/yostel.lock", "by hand");
    let edited = own_files(&sandbox, "console");
    sandbox.run("console", "undo").expect(2).says(&["yostel.lock changed since it ran"]);
    assert_eq!(own_files(&sandbox, "console"), edited);
    // By hand, it was put back already: nothing is left to do, and the one before is next.
    let sandbox = small_world();
    let before = own_files(&sandbox, "console");
    sandbox.run("console", "add unit").expect(0);
    sandbox.run("console", "remove rig").expect(0);
    fs::write(sandbox.path("console/yostel.toml"), &before["yostel.toml"]).unwrap();
    sandbox.run("console", "undo").expect(2);
}

#[test]
fn what_did_not_come_about_is_nothing_to_undo_and_a_new_edit_ends_what_was_undone() {
    let sandbox = small_world();
    sandbox.run("console", "add nowhere").expect(2);
    sandbox.run("console", "add gust ^2").expect(0);
    sandbox.run("console", "undo").expect(2);
    sandbox.run("console", "add unit").expect(0);
    sandbox.run("console", "undo").expect(0);
    sandbox.run("console", "remove rig").expect(0);
    sandbox.run("console", "undo --redo").expect(2).says(&["nothing was undone here that could be done again"]);
    // A command that fails in the middle puts its files back, and there is nothing of it to undo.
    sandbox.run("console", "lock").expect(0);
    fs::remove_dir_all(sandbox.path("station/archives")).unwrap();
    says(&sandbox, "console", "undo --list", &["remove rig"]);
    // A manifest that cannot be read, and none at all, are no reason not to go back.
    sandbox.write("console/yostel.lock", "nonsense");
    sandbox.run("console", "undo").expect(2).says(&["yostel.lock changed since it ran"]);
    fs::create_dir(sandbox.path("new")).unwrap();
    sandbox.run("new", "init new").expect(0);
    says(&sandbox, "new", "undo", &["removed, since it was not there"]);
    assert!(!sandbox.path("new/yostel.toml").exists());
    sandbox.run("new", "undo --redo").expect(0);
    assert!(sandbox.path("new/yostel.toml").exists());
}

#[test]
fn what_cannot_be_written_whole_is_not_written_in_part() {
    let sandbox = small_world();
    sandbox.run("console", "lock --take oldest").expect(0);
    sandbox.run("console", "remove rig --install").expect(0);
    // The lockfile is written last; where that cannot be, the manifest is as it was too.
    let lockfile = sandbox.path("console/yostel.lock");
    fs::rename(&lockfile, sandbox.path("elsewhere.lock")).unwrap();
    std::os::unix::fs::symlink(sandbox.path("elsewhere.lock"), &lockfile).unwrap();
    let before = own_files(&sandbox, "console");
    assert_ne!(sandbox.run("console", "undo").status, 0);
    assert_eq!(own_files(&sandbox, "console"), before);
    fs::remove_file(&lockfile).unwrap();
    fs::rename(sandbox.path("elsewhere.lock"), &lockfile).unwrap();
    sandbox.run("console", "undo").expect(0);
    assert!(sandbox.read("console/yostel.toml").contains("rig"));
}

#[test]
fn a_forged_journal_writes_nothing_outside_the_project() {
    let sandbox = small_world();
    sandbox.run("console", "add unit").expect(0);
    sandbox.write("secret", "mine");
    let folder = fs::read_dir(sandbox.path("cache/journal")).unwrap().next().unwrap().unwrap().path();
    let file = fs::read_dir(&folder).unwrap().next().unwrap().unwrap().path();
    let honest = fs::read_to_string(&file).unwrap();
    for path in
        ["../secret", "/etc/motd", "a/../../secret", "patches/../../secret", ".git/hooks/pre-commit", ".yostel/x"]
    {
        fs::write(&file, honest.replace("\"yostel.toml\"", &format!("\"{path}\""))).unwrap();
        let refused = sandbox.run("console", "undo");
        assert_eq!(refused.status, 4, "{path}: {}", refused.stderr);
        assert_eq!(sandbox.read("secret"), "mine");
    }
    // What was damaged is not taken for a file that was not there.
    let manifest = sandbox.read("console/yostel.toml");
    fs::write(&file, honest.replacen("{\"text\":", "{\"hex\":", 1)).unwrap();
    assert_eq!(sandbox.run("console", "undo").status, 4);
    assert_eq!(sandbox.read("console/yostel.toml"), manifest);
    // A link in its place leads nowhere.
    fs::write(&file, honest.replace("\"yostel.toml\"", "\"patches/secret\"")).unwrap();
    std::os::unix::fs::symlink(sandbox.path(""), sandbox.path("console/patches")).unwrap();
    assert_ne!(sandbox.run("console", "undo").status, 0);
    assert_eq!(sandbox.read("secret"), "mine");
    // What is none of its kind is passed over.
    for broken in ["", "{", "[]", "{\"format\":2}", "\u{0}"] {
        fs::write(&file, broken).unwrap();
        sandbox.run("console", "undo").expect(2).says(&["no command changed anything here"]);
    }
    sandbox.run("console", "remove unit").expect(0);
    sandbox.run("console", "undo").expect(0);
}

#[test]
fn a_cache_that_cannot_be_written_does_not_keep_anybody_from_editing() {
    let sandbox = sandbox();
    publish(&sandbox, "unit 1.0.0", "", &[]);
    crate::project(&sandbox, "", "");
    fs::remove_dir_all(sandbox.path("cache")).ok();
    sandbox.write("cache", "a file");
    let run = sandbox.run("console", "add unit").expect(0);
    assert!(run.stderr.contains("yostel undo cannot take this back"), "{}", run.stderr);
}
