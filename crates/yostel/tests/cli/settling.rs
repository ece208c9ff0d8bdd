//! What `settle` may touch and what it leaves alone, and commands that go on until everything is installed.
//! The accident this prevents: the edit that one would make is there, and eight others are listed.

use serde_json::Value;

use crate::{project, publish, sandbox, small_world};

fn listed(sandbox: &yostel_testkit::Sandbox, words: &str) -> Vec<String> {
    let told: Value = serde_json::from_str(&sandbox.run("console", words).expect(0).stdout).unwrap();
    let edit = |edit: &Value| match edit["kind"].as_str().unwrap() {
        "change" => format!("{} {}>{}", edit["package"], edit["from"], edit["to"]).replace('"', ""),
        kind => format!("{kind} {}", edit["package"]).replace('"', ""),
    };
    let sets = told["edit-sets"].as_array().unwrap().iter();
    sets.map(|set| set["edits"].as_array().unwrap().iter().map(edit).collect::<Vec<_>>().join(", ")).collect()
}

/// The project needs gust ^2, which is locked; bell is new, and both want another line of unit.
fn with_a_wish() -> yostel_testkit::Sandbox {
    let sandbox = small_world();
    publish(&sandbox, "valley/bell 0.9.0", "unit = '^1'", &[]);
    project(&sandbox, "gust = \"^2\"", "");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"\n\"valley/bell\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(3);
    sandbox
}

#[test]
fn what_is_not_locked_yet_gives_way_last_and_what_is_kept_does_not_give_way() {
    let sandbox = with_a_wish();
    let json = "--format json settle";
    assert_eq!(
        listed(&sandbox, json),
        ["gust ^2>^3.0.0", "coexist unit", "valley/bell ^1>^0.9.0", "force unit", "force unit"]
    );
    assert_eq!(
        listed(&sandbox, &format!("{json} --keep gust")),
        ["coexist unit", "valley/bell ^1>^0.9.0", "force unit", "force unit"]
    );
    assert_eq!(
        listed(&sandbox, &format!("{json} --keep valley/bell")),
        ["gust ^2>^3.0.0", "coexist unit", "force unit", "force unit"]
    );
    let told = sandbox.run("console", "settle --keep gust").expect(0).stdout;
    assert!(told.contains("next: yostel settle --keep gust --preview 1, or yostel settle --keep gust 1\n"), "{told}");
    let told = sandbox.run("console", "settle --keep gust --preview 2").expect(0).stdout;
    assert!(told.contains("next: yostel settle --keep gust 2, to do it\n"), "{told}");
    sandbox.run("console", "settle --keep rig").expect(2).says(&["yostel.toml has no need named `rig`"]);
    sandbox.run("console", "settle --keep gust 2").expect(0);
    assert!(sandbox.read("console/yostel.toml").contains("gust = \"^2\"\n\"valley/bell\" = \"^0.9.0\"\n"));
    // Without a lockfile nothing is older than anything else: the smallest come first, as always.
    let sandbox = with_a_wish();
    std::fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    assert_eq!(
        listed(&sandbox, json),
        ["gust ^2>^3.0.0", "valley/bell ^1>^0.9.0", "coexist unit", "force unit", "force unit"]
    );
}

#[test]
fn nothing_that_may_be_edited_helps_is_a_failure_that_says_what_to_do() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"^9\"", "");
    let before = sandbox.picture("console");
    sandbox.run("console", "settle --keep gust").expect(3).says(&[
        "error: no edit ends the collision while gust stays as it is",
        "next: yostel settle, to see what else would end it",
    ]);
    assert_eq!(listed(&sandbox, "--format json settle"), ["gust ^9>^3.0.0"]);
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn collisions_that_have_nothing_to_do_with_each_other_are_settled_together_however_many() {
    let sandbox = sandbox();
    let mut needs = String::new();
    for i in 0..7 {
        publish(&sandbox, &format!("p{i} 1.0.0"), "", &[]);
        needs.push_str(&format!("p{i} = \"^2\"\n"));
    }
    project(&sandbox, &needs, "");
    let sets = listed(&sandbox, "--format json settle");
    assert_eq!(sets[0], (0..7).map(|i| format!("p{i} ^2>^1.0.0")).collect::<Vec<_>>().join(", "));
    sandbox.run("console", "settle 1").expect(0);
    assert!(sandbox.run("console", "lock").expect(0).stdout.contains("7 packages locked"));
}

#[test]
fn commands_that_change_what_is_needed_go_on_until_it_is_installed_when_asked() {
    let sandbox = small_world();
    project(&sandbox, "", "rig = \"^0.9\"");
    let whole = sandbox.run("console", "add gust ^2 --install").expect(0).stdout;
    for line in ["Added gust ^2 to [needs.run]", "Locked 3 packages", "  added  gust  2.1.0", "Installed 3 packages"] {
        assert!(whole.contains(line), "{line} in {whole}");
    }
    assert!(!whole.contains("next:"), "nothing is left to do: {whole}");
    sandbox.run("console", "verify").expect(0);
    // In the way in which it was installed before.
    sandbox.run("console", "install --for run --self-contained").expect(0);
    let told: Value =
        serde_json::from_str(&sandbox.run("console", "--format json remove gust --install").expect(0).stdout).unwrap();
    assert_eq!((told["lock"]["packages"].as_u64(), told["install"]["packages"].as_u64()), (Some(2), Some(0)));
    assert!(sandbox.run("console", "lock --fresh --install").expect(0).stdout.contains("; nothing to do.\n"));
    sandbox.run("console", "verify").expect(0);

    // What collides is declared, and neither locked nor installed.
    sandbox.run("console", "add gust ^2 --install").expect(0);
    let before = sandbox.read("console/yostel.lock");
    let failed = sandbox.run("console", "add valley/bell ^1 --install").expect(3);
    assert!(failed.stdout.starts_with("Added valley/bell ^1"), "what was done is told: {}", failed.stdout);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
    sandbox.run("console", "settle --install").expect(2).says(&["--install goes with the number of an edit"]);
    let told = sandbox.run("console", "settle 1 --install").expect(0).stdout;
    assert!(told.contains("Edited yostel.toml") && told.contains("Installed ") && !told.contains("next:"), "{told}");
    sandbox.run("console", "verify").expect(0);
    for words in ["lock --install --preview", "settle 1 --install --preview"] {
        sandbox.run("console", words).expect(2).says(&["--install does not go with --preview"]);
    }
}

/// The accident this prevents: an edit of the manifest, and nothing can be looked at until it is locked.
#[test]
fn while_the_lockfile_does_not_fit_what_is_locked_can_be_looked_at_and_nothing_is_changed() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let looks = ["list", "tree", "explain gust", "verify", "env", "where gust", "run -- gust-now", "audit duplicates"];
    let told = |words: &str| sandbox.run("console", words).expect(0);
    let before: Vec<String> = looks.iter().map(|words| told(words).stdout).collect();
    // One need more, one less, one changed.
    project(&sandbox, "gust = \"^3\"\n\"valley/bell\" = \"^1\"", "");
    let picture = sandbox.picture("console");
    for (words, before) in looks.iter().zip(&before) {
        let run = told(words);
        assert_eq!(run.stdout, *before, "{words}");
        assert!(
            run.stderr.starts_with("note: this is what is locked, and it no longer fits ("),
            "{words}: {}",
            run.stderr
        );
        assert_eq!(run.stderr.lines().count(), 1, "{words}: {}", run.stderr);
    }
    assert_eq!(told("--quiet list").stderr, "");
    let document: Value = serde_json::from_str(&told("--format json list").stdout).unwrap();
    assert_eq!(document["stale"].as_array().map(Vec::len), Some(4), "{document}");
    for words in ["install", "install --quick", "alter gust", "cache save ../kit.tar", "verify --lock"] {
        sandbox.run("console", words).expect(6).says(&["yostel.lock no longer fits yostel.toml"]);
    }
    assert_eq!(sandbox.picture("console"), picture);
    // What is put back is what is locked, and that is refused as an install is.
    std::fs::remove_file(sandbox.path("console/.yostel/reach/projects/console/run/gust")).unwrap();
    sandbox.run("console", "verify").expect(4);
    sandbox.run("console", "verify --put-back").expect(6);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let document: Value = serde_json::from_str(&told("--format json list").stdout).unwrap();
    assert!(document.get("stale").is_none());
}

/// The accident this prevents: "nothing changed" is taken for "the lower bounds hold".
#[test]
fn what_other_releases_would_be_taken_is_told_when_what_is_locked_is_kept() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"^2\"", "");
    sandbox.run("console", "lock").expect(0);
    let before = sandbox.read("console/yostel.lock");
    let told = sandbox.run("console", "lock --take oldest").expect(0).stdout;
    for line in [
        "2 packages locked in yostel.lock; nothing changed.\n",
        "  note: what is locked stays; otherwise: gust 2.1.0 -> 2.0.0 and unit 1.1.0 -> 1.0.0\n",
        "  note: to take these: yostel lock --fresh --take oldest\n",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    let document: Value =
        serde_json::from_str(&sandbox.run("console", "--format json lock --take oldest").expect(0).stdout).unwrap();
    assert_eq!((document["held"].as_array().map(Vec::len), document["changed"].as_bool()), (Some(2), Some(false)));
    assert_eq!(sandbox.read("console/yostel.lock"), before);
    for words in ["lock --take newest", "lock --as-of 2100-01-01", "lock"] {
        assert!(!sandbox.run("console", words).expect(0).stdout.contains("what is locked stays"), "{words}");
    }
    let told = sandbox.run("console", "lock --fresh --take oldest").expect(0).stdout;
    assert!(told.contains("gust  2.1.0 -> 2.0.0") && !told.contains("what is locked stays"), "{told}");
    // A day before anything was published leaves nothing to take.
    assert!(!sandbox.run("console", "lock --as-of 1990-01-01").expect(0).stdout.contains("what is locked stays"));
}

/// Five packages of which no two may have the same release, and four releases each: any four of them fit.
#[test]
fn at_most_eight_edits_are_listed_and_most_of_them_are_of_needs() {
    let sandbox = sandbox();
    let mut needs = String::new();
    for hole in 1..5 {
        (1..6).for_each(|owner| publish(&sandbox, &format!("hole{hole} {owner}.0.0"), "", &[]));
    }
    for pigeon in 1..6 {
        for hole in 1..5 {
            publish(&sandbox, &format!("pigeon{pigeon} {hole}.0.0"), &format!("hole{hole} = '={pigeon}.0.0'"), &[]);
        }
        needs.push_str(&format!("pigeon{pigeon} = \"*\"\n"));
    }
    project(&sandbox, &needs, "");
    let sets = listed(&sandbox, "--format json settle");
    let coexist = sets.iter().filter(|set| set.starts_with("coexist")).count();
    assert_eq!((sets.len(), coexist), (8, 3), "{sets:?}");
    sandbox.run("console", "settle 9").expect(2).says(&["there is no edit 9; 8 are listed"]);
    for number in [1, 8] {
        project(&sandbox, &needs, "");
        sandbox.run("console", &format!("settle {number}")).expect(0);
    }
}

/// What is said about packages wherever they turn up counts from the next lock on, and so does what a folder needs by now.
#[test]
fn what_is_locked_is_told_as_it_was_locked_whatever_the_manifest_says_of_packages_by_now() {
    let sandbox = small_world();
    publish(&sandbox, "tower 1.0.0", "unit = '^1'\ngrip = '*'", &[]);
    let grip = |needs: &str| {
        let text = format!("[project]\nname = \"grip\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}\n");
        sandbox.write("grip/yostel.toml", text);
    };
    grip("unit = '>=1'");
    project(&sandbox, "gust = \"^2\"\ntower = \"^1\"\ngrip = { path = \"../grip\" }", "rig = \"^0.9\"");
    let whole = sandbox.read("console/yostel.toml");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let looks = ["list", "tree", "verify", "env", "where unit", "explain unit"];
    let told = || looks.map(|words| sandbox.run("console", words).expect(0).stdout);
    let before = told();
    for more in [
        "[force]\nunit = { version = \"1.0.0\", why = \"so\" }\n",
        "[force]\nrig = { version = \"9.0.0\", why = \"so\" }\n",
        "[swap]\nunit = { use = \"rig\", accept = \"*\", why = \"so\" }\n",
        "[agreed]\nunit = \"<1.1\"\n",
    ] {
        sandbox.write("console/yostel.toml", format!("{whole}{more}"));
        sandbox.run("console", "install").expect(6);
        assert_eq!(told(), before, "{more}");
    }
    sandbox.write("console/yostel.toml", &whole);
    grip("rig = '*'");
    sandbox.run("console", "install").expect(6);
    assert_eq!(told(), before);
    let audited = sandbox.run("console", "audit").expect(1).stdout;
    assert!(!audited.contains("Alarm"), "{audited}");
}

#[test]
fn a_package_that_only_this_machine_has_is_no_reason_against_an_edit() {
    let sandbox = small_world();
    sandbox.write("hook/yostel.toml", "[project]\nname = \"hook\"\nversion = \"1.0.0\"\n[needs.run]\nunit = \"^1\"\n");
    project(&sandbox, "hook = { path = \"../hook\" }\n\"valley/bell\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(3);
    let told = sandbox.run("console", "settle").expect(0).stdout;
    assert!(told.contains("  1 allow incompatible versions of unit side by side\n"), "{told}");
    assert!(told.contains("remove valley/bell ^1\n"), "{told}");
    sandbox.run("console", "settle 1").expect(0);
    sandbox.run("console", "install").expect(0);
}

#[test]
fn an_edit_tells_what_goes_with_it_and_what_is_said_of_what_comes() {
    let sandbox = with_a_wish();
    let mut deprecate = sandbox.command("made/unit-2.0.0", "publish --to ../../station --deprecated");
    sandbox.finish(deprecate.arg("it was a bad idea")).expect(0);
    let told = sandbox.run("console", "settle").expect(0).stdout;
    let first = "  1 change gust from ^2 to ^3.0.0\n      leads to: gust up to 3.0.0 (not compatible), \
                 unit up to 2.0.0 (not compatible)";
    assert!(told.contains(first), "{told}");
    assert!(told.contains("      note: unit 2.0.0 is deprecated: it was a bad idea\n"), "{told}");
    let json: Value = serde_json::from_str(&sandbox.run("console", "--format json settle").expect(0).stdout).unwrap();
    assert_eq!(json["edit-sets"][0]["notices"][0]["deprecated"], "it was a bad idea");
    let advisory = r#"{"id":"STAR-1","modified":"2026-05-01T00:00:00Z","affected":[
        {"package":{"ecosystem":"station","name":"gust"},"versions":["3.0.0"]}]}"#;
    sandbox.write("station/advisories/STAR-1.json", advisory);
    let told = sandbox.run("console", "settle").expect(0).stdout;
    assert!(told.contains("      note: gust 3.0.0 is affected by STAR-1\n"), "{told}");
    // Locked as it is already, nothing is said of it.
    let change = &json["edit-sets"].as_array().unwrap().iter().find(|set| set["edits"][0]["to"] == "^0.9.0").unwrap();
    assert_eq!(change["notices"].as_array().unwrap().len(), 0, "{change}");
    // What is removed is named.
    project(&sandbox, "gust = \"^2\"\nrig = \"^0.9\"\nunit = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"\nrig = \"^0.9\"\nunit = \"^2\"", "");
    let told = sandbox.run("console", "settle --keep unit --keep gust").expect(0).stdout;
    let removed = told.lines().skip_while(|line| !line.contains("remove rig")).nth(1).unwrap_or_default();
    assert!(removed.is_empty() || removed.contains("gone: rig"), "{told}");
}

/// A list that was cut says where the whole of it is, and there it is.
#[test]
fn of_many_that_move_twenty_are_told_and_where_the_others_are() {
    let sandbox = sandbox();
    let names: Vec<String> = (10..33).map(|i| format!("p{i}")).collect();
    for name in &names {
        publish(&sandbox, &format!("{name} 1.0.0"), "", &[]);
    }
    let need = |name: &String| format!("{name} = \"^{}\"\n", if name == "p10" { 2 } else { 1 });
    project(&sandbox, &names.iter().map(need).collect::<String>(), "");
    let told = |words: &str| sandbox.run("console", words).expect(0).stdout;
    let names_all = |text: &str| names.iter().all(|name| text.contains(&format!("  {name}  1.0.0")));
    let preview = told("settle --preview 1");
    assert!(preview.contains("  … and 3 more: the same with --in-full\n") && !names_all(&preview), "{preview}");
    assert!(names_all(&told("settle --preview 1 --in-full")));
    let done = told("settle 1");
    let list = told("list");
    assert!(done.contains("  … and 3 more: yostel list\n") && names.iter().all(|name| list.contains(name)), "{done}");
    let preview = told("lock --fresh --preview");
    assert!(!preview.contains("more"), "nothing moves: {preview}");
    std::fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    assert!(told("lock --preview").contains("  … and 3 more: the same with --in-full\n"));
    assert!(names_all(&told("lock --preview --in-full")));
    assert!(told("lock").contains("  … and 3 more: yostel list\n"));
    let wrong = sandbox.run("console", "settle --preview").expect(2);
    wrong.says(&["NUMBER is missing", "next: yostel settle --preview NUMBER\n"]);
    sandbox.run("console", "settle --in-full").expect(2).says(&["next: yostel settle --in-full NUMBER\n"]);
}
