//! Moving what is locked to newer releases.
//! The accidents this prevents: an update of one package that moves ten others; one that is told to have been made and was
//! not; a constraint that is rewritten in another style, with its remark gone.

use std::fs;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish, sandbox, small_world};

/// A world in which each of three packages has newer releases, and moving one may take another along:
/// `lamp` 2 needs `wire ^2`, `bell` 1.0 needs `wire <2`, `bell` 1.1 takes any.
fn moving_world() -> Sandbox {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.1.0", "2.0.0", "2.1.0", "3.0.0"] {
        publish(&sandbox, &format!("wire {version}"), "", &[("share/wire.txt", version)]);
    }
    publish(&sandbox, "bell 1.0.0", "wire = '<2'", &[]);
    publish(&sandbox, "bell 1.1.0", "wire = '*'", &[]);
    publish(&sandbox, "lamp 1.0.0", "wire = '*'", &[]);
    publish(&sandbox, "lamp 2.0.0", "wire = '^2'", &[]);
    publish(&sandbox, "mast 1.0.0", "", &[]);
    publish(&sandbox, "mast 1.2.0", "", &[]);
    publish(&sandbox, "mast 2.0.0", "", &[]);
    let text = "[project]\nname = \"console\"\nversion = \"0.4.0\"\n\n[needs.run]\n\
                bell = \"^1\"        # rings\nlamp = \"*\"\n\
                mast = { accept = \">=1, <2\", only-on = [\"linux/*\"] } # stands\n\n\
                [sources.station]\nfolder = \"../station\"\n";
    sandbox.write("console/yostel.toml", text);
    sandbox.run("console", "lock --take oldest").expect(0);
    assert_eq!(locked(&sandbox), ["bell 1.0.0", "lamp 1.0.0", "mast 1.0.0", "wire 1.0.0"]);
    sandbox
}

fn locked(sandbox: &Sandbox) -> Vec<String> {
    let told = sandbox.run("console", "--format json list").expect(0).stdout;
    let told: Value = serde_json::from_str(&told).unwrap();
    let name = |one: &Value| format!("{} {}", one["package"].as_str().unwrap(), one["version"].as_str().unwrap());
    told["packages"].as_array().unwrap().iter().map(name).collect()
}

fn json(sandbox: &Sandbox, words: &str) -> Value {
    serde_json::from_str(&sandbox.run("console", &format!("--format json {words}")).expect(0).stdout).unwrap()
}

fn moves(answer: &Value) -> Vec<String> {
    let moves = answer["moves"].as_array().unwrap();
    moves
        .iter()
        .map(|one| format!("{} {}", one["package"].as_str().unwrap(), one["to"].as_str().unwrap_or("-")))
        .collect()
}

#[test]
fn a_named_package_moves_as_far_as_it_can_and_of_the_others_what_must() {
    let sandbox = moving_world();
    let lockfile = sandbox.read("console/yostel.lock");
    let preview = json(&sandbox, "update mast --preview");
    assert_eq!((moves(&preview), preview["written"].clone()), (vec!["mast 1.2.0".to_owned()], false.into()));
    assert_eq!(sandbox.read("console/yostel.lock"), lockfile, "a preview writes nothing");
    assert_eq!(moves(&json(&sandbox, "update mast")), ["mast 1.2.0"]);
    // Wire may be anything for lamp; bell has to make way, and is told with the reason.
    let told = sandbox.run("console", "update wire").expect(0).stdout;
    assert!(told.contains("wire     1.0.0 -> 3.0.0  today  asked for"), "{told}");
    assert!(told.contains("bell     1.0.0 -> 1.1.0  today  made way for wire 3.0.0: it needed <2"), "{told}");
    assert_eq!(locked(&sandbox), ["bell 1.1.0", "lamp 1.0.0", "mast 1.2.0", "wire 3.0.0"]);
    // Everything: lamp 2 takes wire back to 2, which is older, and lamp is needed directly.
    assert_eq!(moves(&json(&sandbox, "update")), ["lamp 2.0.0", "wire 2.1.0"]);
    let answer = json(&sandbox, "update");
    assert_eq!((moves(&answer).len(), answer["changed"].clone()), (0, false.into()));
    let stayed: Vec<&str> =
        answer["stayed"].as_array().unwrap().iter().map(|one| one["package"].as_str().unwrap()).collect();
    assert_eq!(stayed, ["mast", "wire"]);
}

#[test]
fn nothing_else_moves_where_that_is_asked_for() {
    let sandbox = moving_world();
    assert_eq!(moves(&json(&sandbox, "update wire --alone")), ["wire 1.1.0"]);
    let told = sandbox.run("console", "update wire --alone").expect(0).stdout;
    assert!(told.contains("4 locked packages stay as they are"), "{told}");
    assert!(
        told.contains(
            "wire stays at 1.1.0; the newest is 3.0.0, not compatible: bell 1.0.0 needs <2. yostel update wire gets it, and moves 1 more package with it"
        ),
        "{told}"
    );
}

#[test]
fn a_version_or_a_line_is_reached_exactly_or_refused_with_the_reason() {
    let sandbox = moving_world();
    assert_eq!(moves(&json(&sandbox, "update wire 2.0.0")), ["bell 1.1.0", "wire 2.0.0"]);
    assert_eq!(moves(&json(&sandbox, "update wire ^2")), ["wire 2.1.0"]);
    // Down is a way too.
    assert_eq!(moves(&json(&sandbox, "update wire 1.1.0")), ["wire 1.1.0"]);
    sandbox.run("console", "update mast 2.0.0").expect(2).says(&[
        "console needs mast >=1, <2 on linux/*, which accepts nothing of =2.0.0",
        "yostel.toml:8",
        "next: yostel update mast =2.0.0 --edit",
    ]);
    sandbox
        .run("console", "update mast 7.0.0")
        .expect(3)
        .says(&["mast =7.0.0 cannot be had now", "which no release meets"]);
    sandbox.run("console", "update lamp 2.0.0 wire ^3").expect(3).says(&["cannot be had now", "asked for:"]);
    sandbox.run("console", "update wire 2").expect(2).says(&["leaves numbers out"]);
    sandbox.run("console", "update other").expect(2).says(&["other is not part of this project"]);
    let before = sandbox.read("console/yostel.lock");
    fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    sandbox.run("console", "update").expect(6).says(&["yostel lock"]);
    sandbox.write("console/yostel.lock", before);
    // Two at once, the fewest others, to the same end as one after the other.
    assert_eq!(moves(&json(&sandbox, "update wire mast")), ["mast 1.2.0", "wire 3.0.0"]);
}

#[test]
fn constraints_move_in_their_form_and_their_remarks_stay() {
    let sandbox = moving_world();
    let manifest = sandbox.read("console/yostel.toml");
    let answer = json(&sandbox, "update mast --edit");
    assert_eq!(moves(&answer), ["mast 2.0.0"]);
    let edit = &answer["edits"][0];
    let said = ["package", "before", "after"].map(|key| edit[key].as_str().unwrap());
    assert_eq!(said, ["mast", ">=1, <2 on linux/*", ">=2, <3 on linux/*"]);
    let after = sandbox.read("console/yostel.toml");
    assert_eq!(after, manifest.replace(">=1, <2", ">=2, <3"));
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.run("console", "verify --lock").expect(0).status, 0);
    sandbox.run("console", "undo").expect(0);
    assert_eq!(sandbox.read("console/yostel.toml"), manifest);
    // Where nothing keeps it from the newest, nothing is edited.
    let answer = json(&sandbox, "update lamp --edit");
    assert_eq!(answer["edits"].as_array().unwrap().len(), 0, "{answer}");
    // A refusal leaves everything as it was.
    let lockfile = sandbox.read("console/yostel.lock");
    sandbox.run("console", "update mast 7.0.0 --edit").expect(3);
    assert_eq!((sandbox.read("console/yostel.toml"), sandbox.read("console/yostel.lock")), (manifest, lockfile));
}

#[test]
fn what_all_agreed_on_moves_where_it_is_written() {
    let sandbox = moving_world();
    let top = "[project]\nname = \"all\"\n\n[workspace]\nprojects = [\"one\", \"two\"]\n\n[agreed]\nmast = \"^1.0\" # by all\n\n\
               [sources.station]\nfolder = \"../station\"\n";
    sandbox.write("all/yostel.toml", top);
    sandbox.write("all/one/yostel.toml", "[project]\nname = \"one\"\n[needs.run]\nmast = \"agreed\"\nwire = \"^1\"\n");
    sandbox.write("all/two/yostel.toml", "[project]\nname = \"two\"\n[needs.test]\nmast = \"agreed\"\nlamp = \"^1\"\n");
    sandbox.run("all", "lock").expect(0);
    let told = sandbox.run("all/one", "update mast --edit").expect(0).stdout;
    assert!(told.contains("^1.0 -> ^2.0  [agreed]"), "{told}");
    assert_eq!(sandbox.read("all/yostel.toml"), top.replace("^1.0", "^2.0"));
    assert!(sandbox.read("all/one/yostel.toml").contains("mast = \"agreed\""));
    // By project, purpose and source.
    let packages = |words: &str| -> Vec<String> {
        let told = sandbox.run("all", &format!("--format json update --edit --preview {words}")).expect(0).stdout;
        let told: Value = serde_json::from_str(&told).unwrap();
        told["asked"].as_array().unwrap().iter().map(|one| one.as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(packages("--needed-by one"), ["mast", "wire"]);
    assert_eq!(packages("--for test"), ["lamp", "mast", "wire"]);
    assert_eq!(packages("--for test --direct"), ["lamp", "mast"]);
    assert_eq!(packages("--from station"), ["lamp", "mast", "wire"]);
    sandbox.run("all", "update --from valley").expect(2).says(&["yostel.toml has no source named valley"]);
    sandbox.run("all", "update --for tset").expect(2).says(&["tset"]);
    sandbox.run("all", "update --alone").expect(2).says(&["name the packages that are to move"]);
    sandbox.run("all", "update --needed-by three").expect(2).says(&["there is no project three here"]);
}

#[test]
fn only_what_advisories_affect_moves_and_only_as_far_as_ends_them() {
    let sandbox = moving_world();
    assert!(
        sandbox.run("console", "update --advisories").expect(0).stdout.contains("No advisory affects what is locked.")
    );
    let advisory = |id: &str, package: &str, fixed: &str| {
        let text = format!(
            r#"{{"id":"{id}","modified":"2026-05-01T00:00:00Z","affected":[{{"package":{{"ecosystem":"station","name":"{package}"}},
            "ranges":[{{"type":"SEMVER","events":[{{"introduced":"0"}},{{"fixed":"{fixed}"}}]}}]}}]}}"#
        );
        sandbox.write(&format!("station/advisories/{id}.json"), text);
    };
    // Out on its own line, though there are newer ones.
    advisory("W", "wire", "1.1.0");
    let answer = json(&sandbox, "update --advisories --preview");
    assert_eq!(moves(&answer), ["wire 1.1.0"]);
    assert_eq!(answer["advisories-out"][0]["id"], "W");
    // That line is not out of it, so bell makes way; and of mast, nothing that fits is.
    advisory("W", "wire", "2.0.0");
    advisory("M", "mast", "2.0.0");
    let told = sandbox.run("console", "update --advisories").expect(0).stdout;
    assert!(told.contains("mast 1.0.0 stays affected by M"), "{told}");
    assert!(told.contains("good: no longer affected by W"), "{told}");
    assert_eq!(locked(&sandbox), ["bell 1.1.0", "lamp 1.0.0", "mast 1.0.0", "wire 3.0.0"]);
    let answer = json(&sandbox, "update --advisories --edit");
    assert_eq!(
        (moves(&answer), &answer["edits"][0]["after"]),
        (vec!["mast 2.0.0".into()], &">=2, <3 on linux/*".into())
    );
    sandbox.run("console", "audit advisories").expect(0);
    // What was dismissed is left alone.
    advisory("B", "bell", "1.2.0");
    sandbox.run("console", "audit dismiss B --why unreached").expect(0);
    assert!(sandbox.run("console", "update --advisories").expect(0).stdout.contains("No advisory affects"));
}

#[test]
fn a_day_a_withdrawn_release_and_one_that_is_forced() {
    let sandbox = moving_world();
    sandbox.run("made", "withdraw wire 3.0.0 --from ../station --why broken").expect(0);
    assert_eq!(moves(&json(&sandbox, "update wire")), ["bell 1.1.0", "wire 2.1.0"]);
    sandbox.run("console", "undo").expect(0);
    sandbox.run("console", "update --as-of 2000-01-01").expect(3);
    let manifest = sandbox.read("console/yostel.toml");
    let forced = "[force]\nwire = { version = \"1.0.0\", why = \"measured\", until = 2099-01-01 }\n";
    sandbox.write("console/yostel.toml", format!("{manifest}\n{forced}"));
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "update wire").expect(0).stdout;
    assert!(told.contains("stay as they are") && told.contains("wire stays at 1.0.0"), "{told}");
    assert!(told.contains("[force] keeps it there"), "{told}");
    // A forced version is nobody's constraint: needs that do not accept it stay as they are.
    let manifest = sandbox.read("console/yostel.toml").replace("lamp = \"*\"", "lamp = \"*\"\nwire = \"^2\"");
    sandbox.write("console/yostel.toml", &manifest);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "update --edit").expect(0);
    let after = sandbox.read("console/yostel.toml");
    assert!(after.contains("wire = \"^2\""), "{after}");
}

#[test]
fn of_lines_side_by_side_each_moves_and_what_stays_affected_is_told() {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.1.0", "2.0.0", "2.1.0"] {
        publish(&sandbox, &format!("frame {version}"), "", &[("share/a", version)]);
    }
    publish(&sandbox, "old 1.0.0", "frame = '^1'", &[]);
    publish(&sandbox, "new 1.0.0", "frame = '^2'", &[]);
    let text = "[project]\nname = \"console\"\n[needs.run]\nold = \"*\"\nnew = \"*\"\n\
                [policy]\ncoexist = [\"frame\"]\n[sources.station]\nfolder = \"../station\"\n";
    sandbox.write("console/yostel.toml", text);
    sandbox.run("console", "lock --take oldest").expect(0);
    let lockfile = sandbox.read("console/yostel.lock");
    let to = |answer: &Value| -> Vec<String> {
        answer["moves"].as_array().unwrap().iter().map(|one| one["to"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(to(&json(&sandbox, "update frame")), ["1.1.0", "2.1.0"]);
    sandbox.write("console/yostel.lock", lockfile);
    // The newer line is not affected, and the older has no way out: that is said, and not that it ended.
    let advisory = r#"{"id":"F","modified":"2026-05-01T00:00:00Z","affected":[{"package":{"ecosystem":"station","name":"frame"},
        "ranges":[{"type":"SEMVER","events":[{"introduced":"0"},{"fixed":"2.0.0"}]}]}]}"#;
    sandbox.write("station/advisories/F.json", advisory);
    let answer = json(&sandbox, "update --advisories");
    assert_eq!(answer["standing"][0]["id"], "F", "{answer}");
    // What cannot be read may affect anything.
    sandbox.write("station/advisories/F.json", "{");
    let told = sandbox.run("console", "update --advisories").expect(0).stdout;
    assert!(told.contains("No advisory that can be read affects what is locked."), "{told}");
    assert!(told.contains("1 advisory file cannot be read"), "{told}");
}

#[test]
fn it_goes_on_to_install_and_speaks_where_it_is_asked_to() {
    let sandbox = small_world();
    sandbox.run("console", "lock --take oldest").expect(0);
    sandbox.run("console", "install").expect(0);
    let told = sandbox.run("console", "update gust --install").expect(0).stdout;
    assert!(told.contains("gust     2.0.0 -> 2.1.0  today  asked for") && told.contains("Installed"), "{told}");
    assert!(sandbox.run("console", "run -- gust-now").expect(0).stdout.contains("gust 2.1.0"));
    assert_eq!(sandbox.run("console", "update --quiet").expect(0).stdout, "");
    sandbox.run("console", "update --preview --install").expect(2);
    // A project without sources to ask fails as a lock does, and nothing is written.
    project(&sandbox, "gust = \"^2\"", "");
    fs::rename(sandbox.path("station"), sandbox.path("gone")).unwrap();
    let before = sandbox.read("console/yostel.lock");
    assert_ne!(sandbox.run("console", "update").status, 0);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}

#[test]
fn other_ways_are_listed_and_what_they_say_to_type_comes_to_exactly_them() {
    let sandbox = sandbox();
    // A new crane needs a drum: the old one takes a new cable, the new one a new hub, and so a new belt.
    publish(&sandbox, "crane 1.0.0", "", &[]);
    publish(&sandbox, "crane 1.5.0", "", &[]);
    publish(&sandbox, "crane 2.0.0", "drum = '*'", &[]);
    publish(&sandbox, "drum 1.0.0", "cable = '^2'", &[]);
    publish(&sandbox, "drum 2.0.0", "hub = '^2'", &[]);
    publish(&sandbox, "belt 1.0.0", "hub = '<2'", &[]);
    publish(&sandbox, "belt 1.1.0", "hub = '*'", &[]);
    publish(&sandbox, "hub 1.0.0", "", &[]);
    publish(&sandbox, "hub 2.0.0", "", &[]);
    publish(&sandbox, "cable 1.0.0", "", &[]);
    publish(&sandbox, "cable 2.0.0", "", &[]);
    project(&sandbox, "belt = \"*\"\ncable = \"*\"\ncrane = \"^1\"", "");
    sandbox.run("console", "lock --take oldest").expect(0);
    let lockfile = sandbox.read("console/yostel.lock");
    assert_eq!(locked(&sandbox), ["belt 1.0.0", "cable 1.0.0", "crane 1.0.0", "hub 1.0.0"]);
    let answer = json(&sandbox, "update crane --edit --alternatives 5");
    assert_eq!(moves(&answer), ["cable 2.0.0", "crane 2.0.0", "drum 1.0.0"]);
    let others: Vec<Vec<String>> = answer["alternatives"].as_array().unwrap().iter().map(moves).collect();
    let expected = [vec!["belt 1.1.0", "crane 2.0.0", "drum 2.0.0", "hub 2.0.0"], vec!["crane 1.5.0"]];
    assert_eq!(others, expected, "{answer}");
    assert_eq!(answer["alternatives"][0]["edits"][0]["after"], "^2");
    let told = sandbox.run("console", "update crane --edit --alternatives 5").expect(0).stdout;
    assert!(told.contains("Other ways") && told.contains("there are no others"), "{told}");
    assert_eq!(sandbox.read("console/yostel.lock"), lockfile, "nothing was written");
    let steps: Vec<&str> = told.lines().filter_map(|line| Some(line.split_once(": yostel ")?.1)).collect();
    assert_eq!(steps.len(), 2, "{told}");
    for (step, expected) in steps.iter().zip(&expected) {
        assert_eq!(moves(&json(&sandbox, step)), *expected, "{step}");
        sandbox.run("console", "undo").expect(0);
        assert_eq!(sandbox.read("console/yostel.lock"), lockfile);
    }
    let told = sandbox.run("console", "update belt --alternatives 1").expect(0).stdout;
    assert!(told.contains("nothing else has to move"), "{told}");
    sandbox.run("console", "update --alternatives 1").expect(2).says(&["name the packages"]);
}

#[test]
fn one_chooses_on_a_terminal_what_moves_and_nobody_is_asked_without_one() {
    let sandbox = moving_world();
    let lockfile = sandbox.read("console/yostel.lock");
    let choosing = |words: &str, keys: &str| sandbox.at_terminal("console", words, 40, ("Escape moves nothing", keys));
    // Of lamp, mast and wire, all marked: wire is not to move, but lamp takes it along.
    let told = choosing("update --choose", "\x1b[A \r").expect(0);
    assert!(told.stderr.contains("[x] mast  1.0.0 -> 1.2.0  today"), "{}", told.stderr);
    assert!(told.stdout.contains("lamp     1.0.0 -> 2.0.0  today  asked for"), "{}", told.stdout);
    assert_eq!(locked(&sandbox), ["bell 1.1.0", "lamp 2.0.0", "mast 1.2.0", "wire 2.1.0"]);
    sandbox.run("console", "undo").expect(0);
    // Named with a version, it goes no further than that.
    let told = choosing("update wire 1.1.0 mast --choose --preview", " \r").expect(0);
    assert!(told.stdout.contains("1 moved") && told.stdout.contains("1.0.0 -> 1.1.0"), "{}", told.stdout);
    for keys in ["\x1b", "a\r"] {
        assert_eq!(choosing("update --choose", keys).expect(0).stdout, "Nothing was chosen, so nothing moved.\n");
    }
    let told = choosing("--format json update --choose", "a\r").expect(0).stdout;
    assert_eq!(serde_json::from_str::<Value>(&told).unwrap()["written"], false);
    assert_eq!(choosing("update --choose", "\x03").expect(130).stdout, "", "Ctrl-C");
    sandbox.run("console", "update --choose").expect(2).says(&["there is none", "update --preview"]);
    let told = sandbox.at_terminal("console", "update --choose", 3, ("too small", "")).expect(2);
    assert!(told.stderr.contains("has 3 lines"), "{}", told.stderr);
    assert_eq!(sandbox.read("console/yostel.lock"), lockfile);
    // Where nothing can move, nobody is asked.
    choosing("update --choose", "\r").expect(0);
    assert_eq!(
        sandbox.run("console", "update").expect(0).stdout.lines().next(),
        Some("4 locked packages stay as they are.")
    );
}
