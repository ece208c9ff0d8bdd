//! What somebody types who does not know Yostel yet, and what it answers.
//! The accident this prevents: a person who gives up after ten minutes.

use crate::{project, sandbox, small_world};

#[test]
fn a_name_and_its_constraint_as_one_word_are_taken_apart() {
    let sandbox = small_world();
    for (word, says) in [
        ("unit@^1", "`unit '^1'` would do"),
        ("unit@1.1.0", "`unit '^1.1.0'` would do"),
        ("unit==1.1.0", "`unit '=1.1.0'` would do"),
        ("unit>=1.1", "`unit '>=1.1'` would do"),
        ("unit~1.1", "`unit '^1.1'` would do"),
        ("valley/bell@1.0.0", "`valley/bell '^1.0.0'` would do"),
    ] {
        let run = sandbox.finish(&mut sandbox.shell("console", &format!("yostel add '{word}'"))).expect(2);
        let run = run.says(&["a package and its constraint are two words; ", says]);
        let (_, line) = run.stderr.split_once("; `").unwrap();
        let (line, _) = line.split_once('`').unwrap();
        sandbox.finish(&mut sandbox.shell("console", &format!("yostel add {line}"))).expect(0);
    }
    for word in ["unit@@1", "@1", "unit@x", "Unit@1"] {
        let run = sandbox.finish(&mut sandbox.shell("console", &format!("yostel add '{word}'"))).expect(2);
        assert!(!run.stderr.contains("two words"), "{word}: {}", run.stderr);
    }
}

#[test]
fn a_source_that_is_not_there_yet_is_told_when_it_is_named() {
    let sandbox = sandbox();
    sandbox.write("not one/note", "");
    for (folder, source, note, next) in [
        (
            "a",
            "../nowhere",
            "there is no folder ../nowhere",
            "yostel registry create ../nowhere, or correct the folder",
        ),
        ("b", "../not one", "there is no registry in '../not one'", "correct the folder in yostel.toml"),
        ("c", "../station", "", "yostel add NAME"),
    ] {
        sandbox.write(&format!("{folder}/x"), "");
        let line = format!("yostel init tower --source 'station={source}'");
        let told = sandbox.finish(&mut sandbox.shell(folder, &line)).expect(0).stdout;
        assert!(told.contains(&format!("next: {next}")), "{told}");
        assert_eq!(told.contains("note:"), !note.is_empty(), "{told}");
        assert!(told.contains(note), "{told}");
    }
    // What is advised makes what was missing.
    sandbox.finish(&mut sandbox.shell("a", "yostel registry create ../nowhere")).expect(0);
    sandbox.run("a", "add unit").expect(2).says(&["no source has unit"]);
}

#[test]
fn a_project_does_not_come_to_need_itself() {
    let sandbox = small_world();
    let before = sandbox.read("console/yostel.toml");
    for words in ["add console", "add console --path .", "add console --git ../made"] {
        sandbox.run("console", words).expect(2).says(&["error: console cannot need itself"]);
    }
    assert_eq!(sandbox.read("console/yostel.toml"), before);
}

#[test]
fn several_packages_are_added_at_once_or_none() {
    let sandbox = small_world();
    project(&sandbox, "", "");
    let before = sandbox.read("console/yostel.toml");
    for (words, status, says) in [
        ("add gust ^2 nowhere unit", 2, "no source has nowhere"),
        ("add gust ^2 unit ^9", 2, "no release of unit meets ^9"),
        ("add gust ^2 ^3 unit", 2, "gust has two constraints, ^2 and ^3"),
        ("add gust 2.1.0 unit", 2, "next: yostel add gust '=2.1.0'"),
        ("add gust unit --path ../made", 2, "2 packages cannot all be taken from one place"),
        ("add gust ^2 console", 2, "console cannot need itself"),
    ] {
        sandbox.run("console", words).expect(status).says(&[says]);
        assert_eq!(sandbox.read("console/yostel.toml"), before, "{words}");
    }
    let told = sandbox.run("console", "add gust ^2 unit valley/bell * --for build").expect(0).stdout;
    for line in ["Added gust ^2 to [needs.build]", "Added unit ^2.0.0 to [needs.build]", "Added valley/bell * to"] {
        assert!(told.contains(line), "{line} in {told}");
    }
    assert_eq!(told.matches("next:").count(), 1, "{told}");
    let manifest = sandbox.read("console/yostel.toml");
    assert!(
        manifest.contains("[needs.build]\ngust = \"^2\"\nunit = \"^2.0.0\"\n\"valley/bell\" = \"*\"\n"),
        "{manifest}"
    );
    sandbox.run("console", "remove unit").expect(0);
    sandbox.run("console", "remove valley/bell").expect(0);
    // What the first agrees on counts for the next, which names it again.
    let told = sandbox.run("console", "--format json add rig ^0.9 unit ^1 --agreed --install").expect(0).stdout;
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!(told["added"].as_array().map(Vec::len), Some(2));
    assert!(told["added"][0]["agreed"] == true && told["install"]["packages"] == 3, "{told}");
    assert!(sandbox.read("console/yostel.toml").contains("[agreed]\nrig = \"^0.9\"\nunit = \"^1\"\n"));
}
