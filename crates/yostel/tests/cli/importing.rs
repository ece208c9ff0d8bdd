//! Taking a project over from a list of what it uses.
//! The accidents this prevents: a migration that moves half of the versions; a package that is lost without a word; and a list
//! from elsewhere that is trusted with more than names and versions.

use std::fs;

use serde_json::{Value, json};
use yostel_testkit::Sandbox;

use crate::{publish, sandbox};

fn told(sandbox: &Sandbox, words: &str, status: i32) -> Value {
    let run = sandbox.run("moved", &format!("--format json {words}")).expect(status);
    serde_json::from_str(&run.stdout).unwrap()
}

#[track_caller]
fn why(answer: &Value) -> Vec<(String, String, String)> {
    let text = |value: &Value| value.as_str().unwrap_or("-").to_owned();
    let one = |other: &Value| (text(&other["listed"]), text(&other["why"]), text(&other["locked"][0]));
    answer["others"].as_array().unwrap().iter().map(one).collect()
}

fn rows(rows: &[(&str, &str, &str)]) -> Vec<(String, String, String)> {
    rows.iter().map(|(a, b, c)| ((*a).to_owned(), (*b).to_owned(), (*c).to_owned())).collect()
}

/// The demo's control room is written as a bill, and taken over from that in another folder.
#[test]
fn a_bill_of_our_own_gives_the_same_lock_again() {
    let sandbox = sandbox();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    sandbox.run("", "demo --into world --only-make").expect(0);
    sandbox.run("world/console", "lock").expect(0);
    for form in ["cyclonedx", "spdx"] {
        let bill = sandbox.run("world/console", &format!("export {form}")).expect(0).stdout;
        let folder = format!("world/{form}");
        sandbox.write(&format!("{folder}/bill.json"), bill);
        sandbox.run(&folder, "import bill.json --source station=../station").expect(0);
        assert_eq!(sandbox.read(&format!("{folder}/yostel.lock")), sandbox.read("world/console/yostel.lock"), "{form}");
        sandbox.run(&folder, "install").expect(0);
        // Undoing leaves nothing of it.
        sandbox.run(&folder, "undo").expect(0);
        assert!(!sandbox.path(&format!("{folder}/yostel.toml")).exists());
        assert!(!sandbox.path(&format!("{folder}/yostel.lock")).exists());
    }
}

/// So many packages, three of which are a chain of needs each; the first eight have two releases, others the one that is listed.
fn parts(count: usize) -> Sandbox {
    let sandbox = sandbox();
    for number in 0..count {
        let needs = if number % 3 == 0 { String::new() } else { format!("part-{} = \"^1\"", number - 1) };
        let versions: &[&str] = match number {
            4 => &["1.0.0", "1.3.0", "2.0.0"],
            11 => &["1.1.0", "1.3.0"],
            20 => &["1.0.0", "2.0.0"],
            _ if number < 8 => &["1.0.0", "1.1.0"],
            _ if number % 2 == 0 => &["1.0.0"],
            _ => &["1.1.0"],
        };
        for version in versions {
            publish(&sandbox, &format!("part-{number} {version}"), &needs, &[("a", version)]);
        }
    }
    fs::create_dir_all(sandbox.path("moved")).unwrap();
    sandbox
}

#[test]
fn of_thirty_exact_versions_three_of_which_are_gone_27_are_kept_and_3_explained() {
    let sandbox = parts(30);
    let version = |number: usize| match number {
        4 => "1.2.0",
        11 => "1.9.0",
        20 => "not-a-version",
        number if number % 2 == 0 => "1.0.0",
        _ => "1.1.0",
    };
    let lines = (0..30).map(|number| format!("part-{number},{}\n", version(number)));
    sandbox.write("moved/list.csv", format!("name,version\n{}", lines.collect::<String>()));
    let preview = told(&sandbox, "import list.csv --source station=../station --preview", 0);
    assert_eq!(preview["written"], false);
    assert_eq!(fs::read_dir(sandbox.path("moved")).unwrap().count(), 1);
    let answer = told(&sandbox, "import list.csv --source station=../station", 0);
    assert_eq!(answer["kept"].as_array().unwrap().len(), 27);
    // The nearest above on the same line, else the nearest below; of what is no version at all, the newest that fits.
    let expected =
        [("part-4", "no-release", "1.3.0"), ("part-11", "no-release", "1.3.0"), ("part-20", "no-release", "2.0.0")];
    assert_eq!(why(&answer), rows(&expected));
    // Directly needed is what nobody else on the list needs.
    let needed: Vec<&str> =
        answer["needs"].as_array().unwrap().iter().map(|need| need["package"].as_str().unwrap()).collect();
    assert_eq!(needed.len(), 10, "{needed:?}");
    assert_eq!(answer["needs"][0], json!({ "package": "part-11", "purpose": "run", "accept": "^1.3.0" }));
    sandbox.run("moved", "verify --lock").expect(0);
    let words = sandbox.run("moved", "undo --quiet && cd . ").status;
    assert_ne!(words, 0, "that is no command");
    sandbox.run("moved", "undo").expect(0);
    let said = sandbox.run("moved", "import list.csv --source station=../station").expect(0).stdout;
    for part in
        ["Took over 27 of 30 packages as listed in list.csv.", "part-4 1.2.0", "this one is the nearest that fits"]
    {
        assert!(said.contains(part), "{part}: {said}");
    }
}

#[test]
fn constraints_are_written_as_is_wished_and_names_are_looked_up() {
    let sandbox = parts(8);
    let list = "pkg:deb/debian/libpart@1.1.0\npkg:generic/part-1@1.0.0\npkg:generic/Part-3@1.0.0\npkg:generic/nobody@1.0\n# a remark\n\npkg:generic/glibc@2\n";
    sandbox.write("moved/list.txt", list);
    sandbox.write("moved/names.csv", "listed,package\npkg:deb/debian/libpart,part-0\nglibc,\n");
    for (how, accept) in [("exact", "=1.1.0"), ("anything", "*"), ("compatible", "^1.1.0")] {
        let words = format!(
            "import list.txt --names names.csv --constraints {how} --for test --source station=../station --name here"
        );
        let answer = told(&sandbox, &words, 0);
        assert_eq!(why(&answer), rows(&[("nobody", "unknown", "-"), ("glibc", "left-out", "-")]), "{answer}");
        let manifest = sandbox.read("moved/yostel.toml");
        assert!(manifest.contains("name = \"here\"") && manifest.contains("[needs.test]"), "{manifest}");
        // part-0 is what part-1 needs; part-3 was written with another case.
        assert!(!manifest.contains("part-0") && manifest.contains("part-3"), "{manifest}");
        assert_eq!(answer["kept"][0], json!({ "package": "part-0", "version": "1.1.0" }));
        let _ = accept;
        sandbox.run("moved", "undo").expect(0);
    }
}

#[test]
fn what_cannot_be_there_together_comes_as_near_as_it_can() {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.4.0", "1.5.0", "2.0.0"] {
        publish(&sandbox, &format!("scale {version}"), "", &[("a", version)]);
    }
    publish(&sandbox, "bell 1.0.0", "scale = \">=1.4\"", &[("a", "a")]);
    sandbox.write("moved/list.csv", "name,version,purpose\nbell,1.0.0,run\nscale,1.0.0,\nscale,2.0.0,\n");
    let answer = told(&sandbox, "import list.csv --source station=../station", 0);
    // Two versions of one package cannot be there; the one that fits is.
    assert_eq!(why(&answer), rows(&[("scale", "asked-for", "2.0.0")]));
    sandbox.run("moved", "undo").expect(0);
    sandbox.write("moved/list.csv", "name,version\nbell,1.0.0\nscale,1.0.0\n");
    let answer = told(&sandbox, "import list.csv --source station=../station", 0);
    assert_eq!(why(&answer), rows(&[("scale", "asked-for", "1.4.0")]), "1.4.0 is nearer than the newest");
    assert_eq!(answer["others"][0]["asked-by"], "bell 1.0.0 needs >=1.4");
}

#[test]
fn bills_of_others_are_read_however_they_are_made() {
    let sandbox = parts(8);
    // Components within components, needs in a circle, one that is there twice, one that nobody knows and that needs another.
    let bill = json!({
        "bomFormat": "CycloneDX", "specVersion": "1.5",
        "metadata": { "component": { "type": "application", "name": "House!", "bom-ref": "root" } },
        "components": [
            { "type": "library", "name": "part-2", "version": "v1.0.0", "bom-ref": "2", "hashes": [{ "alg": "SHA-256", "content": "00" }],
              "components": [{ "type": "library", "name": "part-1", "version": "1.0.0", "bom-ref": "1" }] },
            { "type": "library", "name": "part-1", "version": "1.0.0", "bom-ref": "1b" },
            { "type": "library", "name": "stranger", "version": "9", "bom-ref": "s", "purl": "pkg:generic/stranger@9?vcs_url=git%2Bhttps%3A//h/s" },
            { "type": "library", "name": "part-5", "version": "1.1.0", "bom-ref": "5" },
            { "type": "file", "name": "a.txt" },
        ],
        "dependencies": [
            { "ref": "root", "dependsOn": ["2", "s", "gone"] },
            { "ref": "2", "dependsOn": ["1"] }, { "ref": "1", "dependsOn": ["2"] },
            { "ref": "s", "dependsOn": ["5", "s"] },
        ],
    });
    sandbox.write("moved/bill.json", bill.to_string());
    let answer = told(&sandbox, "import bill.json --source station=../station", 0);
    assert_eq!(why(&answer), rows(&[("stranger", "unknown", "-")]));
    assert_eq!(answer["others"][0]["place"], "git+https://h/s");
    assert_eq!(answer["differs"], json!([{ "package": "part-2", "version": "1.0.0" }]), "the digest is another one");
    let needed: Vec<&str> =
        answer["needs"].as_array().unwrap().iter().map(|need| need["package"].as_str().unwrap()).collect();
    assert_eq!(needed, ["part-2", "part-5"], "what a stranger needs is needed directly");
    assert!(sandbox.read("moved/yostel.toml").contains("name = \"house\""));
    // What is there already stays, and more may come.
    sandbox.write("moved/more.csv", "purl,version\npkg:generic/part-7,1.0.0\n");
    let answer = told(&sandbox, "import more.csv", 0);
    assert_eq!(why(&answer), rows(&[]));
    let locked = sandbox.read("moved/yostel.lock");
    assert!(locked.contains("name = \"part-7\"") && locked.contains("name = \"part-5\""));
}

#[test]
fn a_list_that_cannot_be_read_is_told_with_its_line_and_nothing_is_written() {
    let sandbox = sandbox();
    let deep = format!("{}{}", "{\"a\":".repeat(20_000), "1");
    for (text, says) in [
        ("", "it is empty"),
        ("{\n\"a\": }", ":2"),
        ("{}", "neither CycloneDX"),
        ("{\"bomFormat\": \"CycloneDX\", \"specVersion\": \"2.0\"}", "it is CycloneDX 2.0"),
        ("{\"spdxVersion\": \"SPDX-2.1\"}", "it is SPDX-2.1"),
        ("{\"@graph\": []}", "it is SPDX 3"),
        ("<bom/>", "it is XML"),
        ("SPDXVersion: SPDX-2.3\n", "tags and values"),
        ("pkg:generic/a\npkg:b\n", ":2"),
        ("a,b\n1,2\n", "its first line has to name the columns"),
        ("name,version,name\n", "two columns are called `name`"),
        ("name,version\n,1\n", "it names no package"),
        ("name,version,purpose\na,1,B b\n", ":2"),
        ("{\"bomFormat\": \"CycloneDX\", \"specVersion\": \"1.6\", \"components\": [{}]}", "component 1 has no `name`"),
        (deep.as_str(), "recursion limit"),
    ] {
        sandbox.write("moved/list", text);
        let run = sandbox.run("moved", "import list --source station=../station").expect(2);
        assert!(run.stderr.contains(says), "{says}: {}", run.stderr);
        assert_eq!(fs::read_dir(sandbox.path("moved")).unwrap().count(), 1, "{says}");
    }
    sandbox.write("moved/list", [0xff, 0xfe, 0x00]);
    sandbox.run("moved", "import list --source station=../station").expect(2).says(&["it is not UTF-8"]);
    sandbox.run("moved", "import none --source station=../station").expect(7);
    sandbox.run("moved", "import list").expect(2);
    sandbox.write("moved/list", "name,version\na,1\n");
    sandbox.run("moved", "import list").expect(2).says(&["no yostel.toml"]);
    sandbox.run("moved", "init moved").expect(0);
    sandbox.run("moved", "import list --source station=../station").expect(2).says(&["is there already"]);
}
