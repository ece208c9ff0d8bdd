//! `settle`, `explain`, and the finer options of `lock`. The accident this prevents: hours of balancing versions by hand.

use yostel_testkit::Sandbox;

use crate::{project, small_world};

/// The small world with two needs that collide through `unit`.
fn colliding() -> yostel_testkit::Sandbox {
    let sandbox = small_world();
    project(&sandbox, "gust = \"^2\"   # calibrated", "");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"   # calibrated\n\"valley/bell\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(3).says(&["next: yostel settle"]);
    sandbox
}

#[test]
fn settle_lists_the_smallest_edits_and_applies_the_one_chosen() {
    let sandbox = colliding();
    let before = sandbox.picture("console");
    let told = sandbox.run("console", "settle").expect(0).stdout;
    for line in [
        "  1 change gust from ^2 to ^3.0.0\n      leads to: gust up to 3.0.0 (not compatible), \
         unit up to 2.0.0 (not compatible) and 1 added\n",
        "  2 allow incompatible versions of unit side by side\n      leads to: 2 added\n",
        "  3 remove valley/bell ^1\n      leads to: no locked version changes\n",
        "next: yostel settle --preview 1, or yostel settle 1",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    let told = sandbox.run("console", "settle --preview 1").expect(0).stdout;
    assert!(told.contains("  - gust = \"^2\"   # calibrated\n  + gust = \"^3.0.0\"   # calibrated\n"), "{told}");
    assert!(told.contains("moved  gust         2.1.0 -> 3.0.0, not compatible"), "{told}");
    sandbox.run("console", "settle 7").expect(2).says(&["there is no edit 7; 5 are listed"]);
    sandbox.run("console", "settle --preview").expect(2);
    assert_eq!(sandbox.picture("console"), before, "so far only looking");

    sandbox.run("console", "settle 1").expect(0);
    assert!(sandbox.read("console/yostel.toml").contains("gust = \"^3.0.0\"   # calibrated\n"));
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("nothing changed"), "the lock was written too: {told}");
    assert!(sandbox.run("console", "settle").expect(0).stdout.contains("Nothing collides."));
    sandbox.run("console", "install").expect(0);
}

#[test]
fn a_collision_is_told_as_data_too_with_places_and_reasons() {
    let sandbox = colliding();
    sandbox.run("", "withdraw --from station gust 2.0.0 --why rounds").expect(0);
    let told = sandbox.run("console", "--format json lock").expect(3).stdout;
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    let collision = &told["errors"][0]["collision"];
    let needs: Vec<String> = collision["needs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|need| format!("{}:{} {} {}", need["file"], need["line"], need["package"], need["accept"]))
        .collect();
    let manifest = sandbox.read("console/yostel.toml");
    let line = |text: &str| manifest.lines().position(|line| line.starts_with(text)).unwrap() + 1;
    let expected = [("gust", "^2", line("gust")), ("valley/bell", "^1", line("\"valley/bell"))];
    let expected = expected.map(|(package, accept, line)| format!("\"yostel.toml\":{line} \"{package}\" \"{accept}\""));
    assert_eq!(needs, expected);
    assert_eq!(collision["facts"][0]["who"], "gust");
    assert_eq!(collision["facts"][0]["versions"], serde_json::json!(["2.1.0"]));
    assert_eq!(collision["facts"][0]["accept"], "^1");
    assert_eq!(collision["lines-apart"][0]["package"], "unit");
    let of_gust = collision["leaves"].as_array().unwrap().iter().find(|left| left["package"] == "gust").unwrap();
    assert_eq!(of_gust["barred"][0]["why"], "withdrawn");
    assert_eq!(of_gust["barred"][0]["reason"], "rounds");
    assert_eq!(collision["minimal"], true);
}

#[test]
fn dropping_is_applied_too_and_json_tells_the_same() {
    let sandbox = colliding();
    let value: serde_json::Value =
        serde_json::from_str(&sandbox.run("console", "--format json settle").expect(0).stdout).unwrap();
    assert_eq!(value["edit-sets"][0]["edits"][0]["to"], "^3.0.0");
    assert_eq!(value["edit-sets"][1]["edits"][0]["kind"], "coexist");
    assert_eq!(value["edit-sets"][2]["edits"][0]["kind"], "remove");
    sandbox.run("console", "settle 3").expect(0);
    assert!(!sandbox.read("console/yostel.toml").contains("bell"));
    sandbox.run("console", "install").expect(0);
}

#[test]
fn explain_tells_the_way_who_asks_and_what_stands_against_newer_ones() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "explain unit").expect(0).stdout;
    for line in [
        "unit 1.1.0\n",
        "  is here through console > gust 2.1.0 > unit 1.1.0\n",
        "  is here through console > rig 0.9.0 > unit 1.1.0\n",
        "  gust 2.1.0    ^1\n",
        "  2.0.0  gust 2.1.0 accepts only ^1 and rig 0.9.0 accepts only ^1\n",
        "next: yostel explain unit --instead 2.0.0\n",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    let told = sandbox.run("console", "explain unit --instead 2.0.0").expect(0).stdout;
    assert!(told.contains("unit 2.0.0 is not possible:\n    asked for: unit =2.0.0\n"), "{told}");
    assert!(told.contains("rig 0.9.0 needs unit ^1, which leaves"), "{told}");
    sandbox.run("console", "explain units").expect(2).says(&["units is not part of this project", "unit exists"]);
    sandbox
        .run("console", "explain unit --instead 7")
        .expect(2)
        .says(&["unit has no release 7", "its releases are 2.0.0"]);
    let value: serde_json::Value =
        serde_json::from_str(&sandbox.run("console", "--format json explain unit").expect(0).stdout).unwrap();
    assert_eq!((&value["newer"][0]["reason"], &value["ways"][0][1]), (&"not-accepted".into(), &"gust 2.1.0".into()));
}

#[test]
fn explain_answers_what_else_would_move() {
    let sandbox = small_world();
    project(&sandbox, "gust = \">=2\"", "");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "explain gust --instead 2.1.0").expect(0).stdout;
    assert!(told.contains("gust 2.1.0 is possible; 1 more would move, which is the fewest"), "{told}");
    assert!(
        told.contains("moved  gust  3.0.0 -> 2.1.0, not compatible")
            && told.contains("moved  unit  2.0.0 -> 1.1.0, not compatible"),
        "{told}"
    );
    assert!(told.contains("next: yostel add gust '=2.1.0', then yostel lock"), "{told}");
    sandbox.run("console", "add gust =2.1.0").expect(0);
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "explain gust --instead 2.1.0").expect(0).stdout;
    assert!(told.contains("2.1.0 is what is locked"), "{told}");
    project(&sandbox, "gust = \"^2\"", "");
    sandbox.run("", "withdraw gust 3.0.0 --from station --why leaks").expect(0);
    assert!(sandbox.run("console", "explain gust").expect(0).stdout.contains("3.0.0  withdrawn 2026-09-21: leaks"));
}

#[test]
fn a_day_an_age_and_the_oldest_can_be_asked_for() {
    let sandbox = small_world();
    // Everything so far was published at 1790000000, which is 2026-09-21.
    std::fs::create_dir_all(sandbox.path("made/gust-2.2.0")).unwrap();
    sandbox.write("made/gust-2.2.0/yostel.toml", "[project]\nname = \"gust\"\nversion = \"2.2.0\"\n");
    let mut command = sandbox.command("made/gust-2.2.0", "publish --to ../../station");
    sandbox.finish(command.env("SOURCE_DATE_EPOCH", "1790864000")).expect(0);
    let version_of = |words: &str, day: &str| {
        let mut command = sandbox.command("console", words);
        sandbox.finish(command.env("SOURCE_DATE_EPOCH", day)).expect(0);
        let lock = sandbox.read("console/yostel.lock");
        lock.split("name = \"gust\"\nversion = \"").nth(1).unwrap().split('"').next().unwrap().to_owned()
    };
    assert_eq!(version_of("lock --fresh", "1790864000"), "2.2.0");
    assert_eq!(version_of("lock --fresh --as-of 2026-09-21", "1790864000"), "2.1.0");
    assert_eq!(version_of("lock --fresh --take oldest", "1790864000"), "2.0.0");
    let text = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{text}\n[policy]\nminimum-age = \"7 days\"\n"));
    assert_eq!(version_of("lock --fresh", "1790864000"), "2.1.0", "published today, so not old enough");
    assert_eq!(version_of("lock --fresh", "1791600000"), "2.2.0", "eight days later it is");
    sandbox.write("console/yostel.toml", format!("{text}\n[policy]\ntake = \"oldest\"\n"));
    assert_eq!(version_of("lock --fresh", "1791600000"), "2.0.0");
    sandbox.write("console/yostel.toml", format!("{text}\n[policy]\nminimum-age = \"a while\"\ntake = \"best\"\n"));
    let refused = sandbox.run("console", "lock").expect(2);
    refused.says(&["`minimum-age` cannot be `a while`", "like \"7 days\"", "`take` cannot be `best`"]);
    sandbox.write("console/yostel.toml", &text);
    let told = sandbox.run("console", "lock --fresh --as-of 2020-01-01").expect(3);
    told.says(&["no release meets that may be chosen: 2.2.0 was published 2026-10-01, after the day asked for, and so were 2 older"]);
    sandbox.run("console", "lock --as-of yesterday").expect(2).says(&["2026-05-04"]);
}

#[test]
fn stats_tell_what_the_search_did() {
    let sandbox = small_world();
    let told = sandbox.run("console", "lock --stats").expect(0).stdout;
    assert!(
        told.contains("looked at  3 releases") && told.contains("of 7 releases") && told.contains("finding a set"),
        "{told}"
    );
    let told = sandbox.run("console", "lock --stats").expect(0).stdout;
    assert!(told.contains("nothing to search for"), "{told}");
}

#[test]
fn a_time_limit_that_is_not_reached_changes_nothing() {
    let sandbox = small_world();
    sandbox.run("console", "lock --time-limit soon").expect(2).says(&["30s"]);
    let told = sandbox.run("console", "--format json lock --time-limit 10m").expect(0).stdout;
    let value: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!(value["search"]["standing"], "best");
    assert!(value["search"]["seconds"]["finding a set"].as_f64().is_some(), "{told}");
}

#[test]
fn what_goes_on_inside_is_told_on_standard_error_when_asked_for() {
    let sandbox = small_world();
    let told = sandbox.finish(sandbox.command("console", "lock").env("YOSTEL_LOG", "trace")).expect(0);
    assert!(told.stderr.contains("asking the sources packages=2"), "{}", told.stderr);
    assert!(told.stderr.contains("conflicts: 1") && told.stdout.contains("Locked 3 packages"), "{}", told.stderr);
}

#[test]
fn a_collision_comes_with_a_proof_that_an_independent_judge_accepts() {
    let sandbox = colliding();
    let told = sandbox.run("console", "lock --proof ../proof").expect(3);
    told.says(&["cannot be met together", "proof holds problem.cnf, variables.tsv and proof.drat"]);
    let problem = yostel_check::parse_cnf(&sandbox.read("proof/problem.cnf")).unwrap();
    let proof = sandbox.read("proof/proof.drat");
    assert!(yostel_check::check_proof(&problem, &proof, &[]).is_ok());
    let variables = sandbox.read("proof/variables.tsv");
    assert!(variables.lines().count() <= problem.variables);
    assert!(variables.contains("\trelease\tgust 2.1.0\n") && variables.contains("\tneed\tgust "), "{variables}");
    // A problem that can be met has no such proof: without its last clauses it can.
    let mut weaker = problem.clone();
    weaker.clauses.retain(|clause| clause.iter().any(|literal| *literal < 0));
    assert!(yostel_check::check_proof(&weaker, &proof, &[]).is_err());
    // Where it cannot be written, what collides is told all the same.
    sandbox.write("taken", "");
    let told = sandbox.run("console", "lock --proof ../taken").expect(3);
    told.says(&[
        "cannot be met together",
        "error: cannot open the folder",
        "taken: Not a directory",
        "so no proof was written",
    ]);
    sandbox.run("console", "settle 1").expect(0);
    sandbox.run("console", "lock --fresh --proof ../none").expect(0);
    assert!(!sandbox.path("none").exists());
}

#[test]
fn a_source_that_breaks_in_mid_search_is_named_with_the_package_and_nothing_is_written() {
    let sandbox = small_world();
    // Nobody needs for it: it is met only once what needs it was looked at.
    sandbox.write("station/releases/unit.json", "{ broken");
    sandbox.run("console", "lock").expect(5).says(&["station", "unit"]);
    assert!(!sandbox.path("console/yostel.lock").exists());
}

#[test]
fn when_the_time_is_up_nothing_is_written_and_nothing_is_claimed() {
    let sandbox = Sandbox::new(env!("CARGO_BIN_EXE_yostel"));
    sandbox.run("", "registry create station").expect(0);
    // Ten pigeons in nine holes: far longer than the time given, on any machine.
    let world = yostel_testkit::pigeonhole(10);
    for (name, document) in &world.documents {
        sandbox.write(&format!("station/releases/{name}.json"), document.write());
    }
    let needs: Vec<String> = world.requirements.iter().map(|w| format!("{} = \"{}\"", w.package, w.accept)).collect();
    project(&sandbox, &needs.join("\n"), "");
    let told = sandbox.run("console", "lock --time-limit 20ms").expect(3);
    told.says(&["no consistent set was found within 0.02 s", "there may be one", "--time-limit 10m"]);
    assert!(!sandbox.path("console/yostel.lock").exists());
}

#[test]
fn a_collision_as_of_a_day_is_settled_as_of_that_day() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"^2\"\n\"valley/bell\" = \"^1\"", "");
    std::fs::create_dir_all(sandbox.path("made/gust-4.0.0")).unwrap();
    let text = "[project]\nname = \"gust\"\nversion = \"4.0.0\"\n[needs.run]\nunit = \"^2\"\n";
    sandbox.write("made/gust-4.0.0/yostel.toml", text);
    let mut command = sandbox.command("made/gust-4.0.0", "publish --to ../../station");
    sandbox.finish(command.env("SOURCE_DATE_EPOCH", "1790864000")).expect(0);
    assert!(sandbox.run("console", "settle").expect(0).stdout.contains("change gust from ^2 to ^4.0.0"));
    let told = sandbox.run("console", "settle --as-of 2026-09-25").expect(0).stdout;
    assert!(told.contains("change gust from ^2 to ^3.0.0"), "{told}");
    assert!(told.contains("yostel settle --as-of 2026-09-25T23:59:59Z 1"), "{told}");
    sandbox.run("console", "settle --as-of 2026-09-25T23:59:59Z 1").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains("name = \"gust\"\nversion = \"3.0.0\""));
}

#[test]
fn explain_sets_the_project_s_own_need_aside_and_what_it_offers_works() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "explain gust --instead 2.1.0").expect(0).stdout;
    let says = "gust 2.1.0 is possible once your own need, gust =2.0.0, is changed; it alone would move:";
    assert!(told.contains(says) && told.contains("2.0.0 -> 2.1.0  console needs =2.1.0"), "{told}");
    let text = sandbox.run("console", "explain gust --instead 2.1.0 --format json").expect(0).stdout;
    let value: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert_eq!(value["instead"]["set-aside"][0]["accept"], "=2.0.0");
    let next = told.lines().find_map(|line| line.strip_prefix("next: ")).unwrap();
    let (add, lock) = next.split_once(", then ").unwrap();
    sandbox.finish(&mut sandbox.shell("console", &format!("{add} && {lock}"))).expect(0);
    assert!(sandbox.read("console/yostel.lock").contains("name = \"gust\"\nversion = \"2.1.0\""));
    // What others need is not set aside.
    let told = sandbox.run("console", "explain gust --instead 3.0.0").expect(0).stdout;
    let says = "gust 3.0.0 is not possible, not even once your own need, gust ^2.1.0, is changed:";
    assert!(told.contains(says) && told.contains("console needs rig ^0.9"), "{told}");
}
