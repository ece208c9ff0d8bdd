//! What a policy lets an audit look for beside what it always does, and what is nearly there twice.
//! The accidents this prevents: a need that takes whatever is published one day, a lower bound that was never true, a package
//! that nobody else can have, one that nobody uses any more, and two copies of one library under two names.

use std::os::unix::fs::PermissionsExt;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::pipelines::make_edits;
use crate::{project, publish, sandbox, small_world};

fn policy(sandbox: &Sandbox, lines: &str) {
    let manifest = sandbox.read("console/yostel.toml");
    let manifest = manifest.split("\n[policy]").next().unwrap();
    sandbox.write("console/yostel.toml", format!("{manifest}\n[policy]\n{lines}\n"));
}

fn audit(sandbox: &Sandbox, group: &str, status: i32) -> Value {
    let told = sandbox.run("console", &format!("--format json audit {group}")).expect(status).stdout;
    serde_json::from_str(&told).unwrap()
}

/// Carries out what ends each finding of a kind: the edits, then the commands.
fn end(sandbox: &Sandbox, answer: &Value, kind: &str) {
    let finding = answer["findings"].as_array().unwrap().iter().find(|one| one["kind"] == kind).unwrap();
    let remedy = &finding["remedy"];
    make_edits(sandbox, "console", remedy);
    for command in remedy["commands"].as_array().unwrap() {
        let words = command.as_str().unwrap().strip_prefix("yostel ").unwrap();
        sandbox.run("console", words).expect(0);
    }
}

#[test]
fn what_a_policy_asks_for_is_told_with_its_place_and_what_ends_it() {
    let sandbox = small_world();
    sandbox.write(
        "made/clock/yostel.toml",
        "[project]\nname = \"clock\"\nversion = \"1.0.0\"\n[offers]\nmentions = [\"clock_now(\"]\n",
    );
    sandbox.run("made/clock", "publish --to ../../station").expect(0);
    sandbox.write("colleague/yostel.toml", "[project]\nname = \"sketch\"\nversion = \"0.1.0\"\n");
    project(
        &sandbox,
        "gust = \">=2\"\nunit = \"^1\"\nclock = \"^1\"\nsketch = { path = \"../colleague\" }",
        "rig = \"^0.9\"",
    );
    sandbox.run("console", "lock").expect(0);
    // Nothing of it is told unless it is asked for.
    assert_eq!(sandbox.run("console", "audit upkeep").expect(0).stdout, "5 packages: no upkeep due.\n");
    policy(&sandbox, "also-audit = [\"unbounded\", \"lower-bounds\", \"only-here\", \"unused\"]");
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    let expected = "May go wrong one day\n  \
         nothing bounds the need for gust from above: >=2 takes whatever is published (yostel.toml:6)\n  \
         sketch comes from ../colleague, which only this machine has\n  \
         no file mentions clock: none has `clock_now(` (yostel.toml:8)\n\
         5 packages looked at, 3 that may go wrong.\n";
    assert_eq!(told, expected);
    let answer = audit(&sandbox, "upkeep", 1);
    let kinds: Vec<&str> =
        answer["concerns"].as_array().unwrap().iter().map(|one| one["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["unbounded", "only-here", "unused"]);
    // A file that mentions it, wherever it is; what is installed, and the manifest, do not count.
    sandbox.write("console/.yostel-notes", "clock_now()");
    sandbox.write("console/src/deep/a.c", "int t = clock_now ( );");
    audit(&sandbox, "upkeep", 1);
    end(&sandbox, &answer, "unbounded");
    let manifest = sandbox.read("console/yostel.toml");
    assert!(manifest.contains("gust = \"^2.1.0\""), "{manifest}");
    end(&sandbox, &audit(&sandbox, "upkeep", 1), "unused");
    let manifest = sandbox.read("console/yostel.toml");
    assert!(!manifest.contains("clock") && manifest.contains("sketch"), "{manifest}");
    project(&sandbox, "clock = \"^1\"", "");
    policy(&sandbox, "also-audit = [\"unused\"]");
    sandbox.run("console", "lock").expect(0);
    sandbox.write("console/src/deep/a.c", "int t = clock_now();");
    sandbox.run("console", "audit upkeep").expect(0);
    // A word that is none is told where it is.
    policy(&sandbox, "also-audit = [\"all\"]");
    sandbox.run("console", "audit upkeep").expect(2).says(&[" 15 | also-audit", "lower-bounds"]);
}

#[test]
fn a_lower_bound_that_nobody_can_try_is_raised_to_one_that_somebody_can() {
    let sandbox = small_world();
    publish(&sandbox, "crane 1.0.0", "unit = '^1.1'", &[]);
    project(&sandbox, "crane = \"^1\"\nunit = \"^1\"", "");
    policy(&sandbox, "also-audit = [\"lower-bounds\"]");
    sandbox.run("console", "lock").expect(0);
    let answer = audit(&sandbox, "upkeep", 1);
    let says = "nobody can try unit 1.0.0, which ^1 accepts: the oldest set that there is has 1.1.0";
    assert_eq!(answer["findings"][0]["says"], says);
    assert_eq!(answer["findings"][0]["place"]["line"], 7);
    end(&sandbox, &answer, "lower-bound");
    assert!(sandbox.read("console/yostel.toml").contains("unit = \"^1, >=1.1.0\""));
    audit(&sandbox, "upkeep", 0);
}

#[test]
fn an_edit_is_offered_only_where_it_ends_the_matter_and_leaves_the_manifest_right() {
    let sandbox = small_world();
    publish(&sandbox, "crane 1.0.0", "unit = '^1.1'", &[]);
    let concerns = |needs: &str, more: &str| -> Value {
        project(&sandbox, needs, "");
        policy(&sandbox, "also-audit = [\"unbounded\", \"lower-bounds\", \"only-here\"]");
        let manifest = sandbox.read("console/yostel.toml");
        sandbox.write("console/yostel.toml", manifest + more);
        sandbox.run("console", "lock").expect(0);
        audit(&sandbox, "upkeep", 1)
    };
    let edit = |answer: &Value| answer["findings"][0]["remedy"]["edits"][0]["with"].clone();
    // Each alternative is raised.
    let answer = concerns("crane = \"^1\"\nunit = \"^1 || ^2\"", "");
    assert_eq!(edit(&answer), "unit = \"^1, >=1.1.0 || ^2, >=1.1.0\"\n");
    end(&sandbox, &answer, "lower-bound");
    audit(&sandbox, "upkeep", 0);
    // What is ruled out stays ruled out.
    let answer = concerns("gust = \">=2.1\"", "");
    assert_eq!(edit(&answer), "gust = \"^2.1.0\"\n");
    let answer = concerns("unit = \">=1, !=1.1.0, !=2.0.0\"", "");
    assert_eq!(edit(&answer), "unit = \">=1, !=1.1.0, !=2.0.0, ^1.0.0\"\n");
    end(&sandbox, &answer, "unbounded");
    audit(&sandbox, "upkeep", 0);
    // What is agreed is not a need's to change.
    let answer = concerns("gust = \"agreed\"", "[agreed]\ngust = \">=2\"\n");
    assert_eq!((&answer["findings"][0]["kind"], &answer["findings"][0]["remedy"]), (&"unbounded".into(), &Value::Null));
}

#[test]
fn where_a_part_of_a_project_cannot_be_read_nothing_is_called_unused() {
    let sandbox = small_world();
    let manifest = "[project]\nname = \"clock\"\nversion = \"1.0.0\"\n[offers]\nmentions = [\"clock_now\"]\n";
    sandbox.write("made/clock/yostel.toml", manifest);
    sandbox.run("made/clock", "publish --to ../../station").expect(0);
    project(&sandbox, "clock = \"^1\"", "");
    policy(&sandbox, "also-audit = [\"unused\"]");
    sandbox.run("console", "lock").expect(0);
    // What mentions it may be far down: further than any path is long.
    sandbox.write("console/d/here.c", "clock_now();");
    for _ in 0..3000 {
        let (all, above) = (sandbox.path("console/d"), sandbox.path("console/above"));
        std::fs::create_dir(&above).unwrap();
        std::fs::rename(&all, above.join("d")).unwrap();
        std::fs::rename(&above, &all).unwrap();
    }
    audit(&sandbox, "upkeep", 0);
    sandbox.finish(&mut sandbox.shell("console", "rm -rf d")).expect(0);
    audit(&sandbox, "upkeep", 1);
    // A link is not followed. Where a folder is not to be read, nobody can say.
    std::os::unix::fs::symlink("../made/clock/yostel.toml", sandbox.path("console/link.c")).unwrap();
    audit(&sandbox, "upkeep", 1);
    std::fs::create_dir(sandbox.path("console/closed")).unwrap();
    std::fs::set_permissions(sandbox.path("console/closed"), std::fs::Permissions::from_mode(0o000)).unwrap();
    let may_read_all = std::fs::read_dir(sandbox.path("console/closed")).is_ok();
    audit(&sandbox, "upkeep", i32::from(may_read_all));
    std::fs::set_permissions(sandbox.path("console/closed"), std::fs::Permissions::from_mode(0o700)).unwrap();
}

#[test]
fn a_locked_release_that_is_too_young_is_told_unless_it_is_admitted() {
    let sandbox = small_world();
    project(&sandbox, "unit = \"=1.1.0\"", "");
    sandbox.run("console", "lock").expect(0);
    policy(&sandbox, "minimum-age = \"999 weeks\"");
    let told = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(told.contains("unit 1.1.0 was published 0 days ago, and minimum-age is 6993 days\n"), "{told}");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}[admit]\nunit = {{ version = \"1.1.0\", why = \"x\" }}\n"));
    sandbox.run("console", "audit upkeep").expect(0);
}

#[test]
fn what_is_nearly_there_twice_is_told_with_what_it_costs() {
    let sandbox = sandbox();
    let file = |number: usize| (format!("src/{number}.c"), format!("part {number}").repeat(300));
    let files: Vec<(String, String)> = (0..10).map(file).collect();
    let mut fixed = files.clone();
    fixed[3].1 = "mended".to_owned();
    let as_given = |files: &[(String, String)]| -> Vec<(String, String)> { files.to_vec() };
    for (name, files) in [("deflate", as_given(&files)), ("inflate", as_given(&fixed)), ("de_flate", vec![])] {
        let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
        publish(&sandbox, &format!("{name} 1.0.0"), "", &files);
    }
    project(&sandbox, "deflate = \"*\"\ninflate = \"*\"\nde_flate = \"*\"", "");
    sandbox.run("console", "lock").expect(0);
    let names = "de_flate 1.0.0 and deflate 1.0.0 have nearly the same name";
    let told = sandbox.run("console", "audit duplicates").expect(1).stdout;
    assert!(
        told.contains(names) && !told.contains("nearly the same files"),
        "what is not there cannot be compared: {told}"
    );
    sandbox.run("console", "install").expect(0);
    let told = sandbox.run("console", "audit duplicates").expect(1).stdout;
    let alike = "deflate 1.0.0 and inflate 1.0.0 hold nearly the same files: 90 % are equal (15.8 KiB too many)";
    assert!(told.contains(alike) && told.contains(names), "{told}");
    let answer = audit(&sandbox, "duplicates", 1);
    let [one, other] = &answer["duplicates"].as_array().unwrap()[..] else { panic!("{answer}") };
    assert_eq!((&one["alike"], &other["name"]), (&90.into(), &"deflate".into()), "{answer}");
    let ids: Vec<&str> = answer["findings"].as_array().unwrap().iter().map(|one| one["id"].as_str().unwrap()).collect();
    assert_eq!(ids, ["similar-content:deflate+inflate", "similar-name:de_flate+deflate"]);
}

#[test]
fn what_is_outdated_can_be_narrowed_sorted_and_read() {
    let sandbox = small_world();
    sandbox.write(
        "made/unit/yostel.toml",
        "[project]\nname = \"unit\"\nversion = \"2.5.0\"\nnotes = \"Counts in knots \\u001b[31m too.\"\n",
    );
    sandbox.run("made/unit", "publish --to ../../station").expect(0);
    project(&sandbox, "gust = \"^2\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    let outdated = |words: &str| -> Vec<String> {
        let told =
            sandbox.finish(&mut sandbox.shell("console", &format!("yostel --format json audit outdated {words}")));
        let answer: Value = serde_json::from_str(&told.stdout).unwrap();
        let of = |one: &Value| one["package"].as_str().unwrap().to_owned();
        answer["outdated"].as_array().unwrap().iter().map(of).collect()
    };
    assert_eq!(outdated(""), ["gust", "unit"]);
    assert_eq!(
        (outdated("--direct"), outdated("--crossing")),
        (vec!["gust".into()], vec!["gust".into(), "unit".into()])
    );
    assert_eq!((outdated("--for test"), outdated("--older-than '2 years'").len()), (vec!["unit".into()], 0));
    assert_eq!(outdated("--sort releases"), ["gust", "unit"], "direct ones come first in any order");
    sandbox.run("console", "audit outdated --older-than").expect(2);
    let told = sandbox.finish(&mut sandbox.shell("console", "yostel audit outdated --older-than '90 years'")).expect(0);
    assert_eq!(told.stdout, "3 packages: nothing outdated of that kind.\n");
    let told = sandbox.run("console", "audit outdated --direct").expect(1).stdout;
    assert!(told.contains("1 of 3 packages outdated and of that kind, "), "{told}");
    sandbox.run("console", "audit outdated --for tests").expect(2).says(&["tests"]);
    sandbox.run("console", "audit outdated --older-than long").expect(2).says(&["2 years"]);
    let told = sandbox.run("console", "audit outdated --notes").expect(1).stdout;
    assert!(told.contains("What is new\n  gust 2.1.0\n    3.0.0, 2026-"), "{told}");
    assert!(told.contains("2.5.0, 2026-") && told.contains(": Counts in knots ") && !told.contains('\u{1b}'), "{told}");
    let answer = audit(&sandbox, "outdated --notes", 1);
    assert_eq!(answer["outdated"][1]["news"].as_array().unwrap().len(), 2, "{answer}");
}

#[test]
fn a_tree_says_how_large_packages_are_and_of_which_something_is_found() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "tree --sizes --marks").expect(0).stdout;
    assert!(told.contains("gust 2.1.0  ^2, ") && told.contains(" bytes  ! outdated\n"), "{told}");
    let answer: Value = serde_json::from_str(&sandbox.run("console", "--format json tree").expect(0).stdout).unwrap();
    assert!(answer["needs"][0]["size"].as_u64().is_some_and(|bytes| bytes > 100), "{answer}");
    assert_eq!(answer["needs"][0]["marks"], Value::Array(Vec::new()));
    let marked = sandbox.run("console", "--format json tree --marks").expect(0).stdout;
    assert_eq!(serde_json::from_str::<Value>(&marked).unwrap()["needs"][0]["marks"][0], "outdated");
}
