//! Audits that pipelines run: what lets them fail, findings that are known until a day, open formats, and remedies that a
//! program makes. The accident this prevents: an audit that is switched off, because it always fails.

use std::collections::BTreeSet;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish, sandbox, small_world};

/// A world with something of every kind: locked, and then told otherwise.
fn world_with_findings() -> Sandbox {
    let sandbox = small_world();
    publish(&sandbox, "valley/twin 1.0.0", "unit = '^1'", &[("share/a", "a"), ("share/deep/b", "b")]);
    project(
        &sandbox,
        "gust = \"=2.0.0\"\nunit = \"*\"\n\"valley/bell\" = \"*\"\n\"valley/twin\" = \"*\"",
        "rig = \"^0.9\"",
    );
    let manifest = sandbox.read("console/yostel.toml");
    let more =
        "[policy]\ncoexist = [\"unit\"]\n[force]\nrig = { version = \"0.9.0\", why = \"so\", until = 2020-01-31 }\n";
    sandbox.write("console/yostel.toml", format!("{manifest}{more}"));
    sandbox.run("console", "lock").expect(0);
    publish(&sandbox, "valley/twin 1.1.0", "unit = '^1'", &[("share/a", "other")]);
    sandbox.run("", "withdraw --from station valley/twin 1.0.0 --why rounds").expect(0);
    let advisory = r#"{"schema_version":"1.7.0","id":"STAR-1","modified":"2026-05-01T00:00:00Z","summary":"gust | <b>leaks</b> @all",
        "severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}],
        "affected":[{"package":{"ecosystem":"station","name":"gust"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"},{"fixed":"2.1.0"}]}]}]}"#;
    sandbox.write("station/advisories/STAR-1.json", advisory);
    sandbox
}

fn json(sandbox: &Sandbox, folder: &str, words: &str, status: i32) -> Value {
    serde_json::from_str(&sandbox.run(folder, &format!("--format json audit {words}")).expect(status).stdout).unwrap()
}

fn ids(answer: &Value) -> BTreeSet<String> {
    answer["findings"].as_array().unwrap().iter().map(|one| one["id"].as_str().unwrap().to_owned()).collect()
}

/// Makes the edits of a remedy as a program would that knows lines and columns only.
pub(crate) fn make_edits(sandbox: &Sandbox, root: &str, remedy: &Value) {
    let mut edits: Vec<&Value> = remedy["edits"].as_array().unwrap().iter().collect();
    // The last first, so that lines stay where they are.
    edits.sort_by_key(|edit| std::cmp::Reverse(edit["line"].as_u64()));
    for edit in edits {
        let file = format!("{root}/{}", edit["file"].as_str().unwrap());
        let text = sandbox.read(&file);
        let at = |line: &str, column: &str| {
            let number = |key: &str| usize::try_from(edit[key].as_u64().unwrap()).unwrap() - 1;
            let before: usize = text.split_inclusive('\n').take(number(line)).map(str::len).sum();
            before + text[before..].chars().take(number(column)).map(char::len_utf8).sum::<usize>()
        };
        let (from, to) = (at("line", "column"), at("end-line", "end-column"));
        sandbox.write(&file, format!("{}{}{}", &text[..from], edit["with"].as_str().unwrap(), &text[to..]));
    }
}

/// Makes each remedy by itself, in the project as it was, and looks whether its finding is gone. Returns the kinds.
fn every_remedy_ends_its_finding(sandbox: &Sandbox, root: &str) -> BTreeSet<String> {
    let files: Vec<(String, String)> = ["yostel.toml", "yostel.lock", "panel/yostel.toml", "libs/wind-log/yostel.toml"]
        .iter()
        .map(|file| format!("{root}/{file}"))
        .filter(|file| sandbox.path(file).exists())
        .map(|file| (file.clone(), sandbox.read(&file)))
        .collect();
    let answer = json(sandbox, root, "", 1);
    let mut kinds = BTreeSet::new();
    for finding in answer["findings"].as_array().unwrap().iter().filter(|finding| !finding["remedy"].is_null()) {
        make_edits(sandbox, root, &finding["remedy"]);
        for command in finding["remedy"]["commands"].as_array().unwrap() {
            sandbox.run(root, command.as_str().unwrap().strip_prefix("yostel ").unwrap()).expect(0);
        }
        let run = sandbox.run(root, "--format json audit");
        let after: Value = serde_json::from_str(&run.stdout).unwrap();
        let id = finding["id"].as_str().unwrap();
        assert!(!ids(&after).contains(id), "{id} is still there after {}", finding["remedy"]);
        kinds.insert(finding["kind"].as_str().unwrap().to_owned());
        files.iter().for_each(|(file, text)| sandbox.write(file, text));
    }
    kinds
}

#[test]
fn what_is_said_to_end_a_finding_ends_it() {
    let sandbox = world_with_findings();
    let kinds = every_remedy_ends_its_finding(&sandbox, "console");
    let expected = ["advisory", "due-rule", "outdated", "several-versions", "withdrawn"];
    assert_eq!(kinds, expected.map(str::to_owned).into());
    let demo = crate::sandbox();
    demo.run("", "demo --into world --only-make --quiet").expect(0);
    demo.run("world/ropeway", "lock --quiet").expect(0);
    // What several projects say is changed in all of them, and what is forced cannot move whatever they say.
    let told = demo.run("world/ropeway", "audit outdated").expect(1).stdout;
    let next = told.lines().find_map(|line| line.strip_prefix("next: ")).unwrap();
    assert_eq!(next, "yostel update gust-model --edit, to have the newest (nothing else moves)");
    assert!(told.contains("  unit-scale   1.2.0   -         2.0.0   no ") && !told.contains("not tried"), "{told}");
    let kinds = every_remedy_ends_its_finding(&demo, "world/ropeway");
    assert_eq!(kinds, ["advisory", "due-rule", "outdated", "several-versions"].map(str::to_owned).into());
    demo.run("world/line-watch", "install --quiet").expect(0);
    let kinds = every_remedy_ends_its_finding(&demo, "world/line-watch");
    assert_eq!(kinds, ["advisory", "outdated"].map(str::to_owned).into());
    let manifest = demo
        .read("world/console/yostel.toml")
        .replace("grip-watch    = \"^1.1\"", "old-logger = \"*\"\ngrip-watch = \">=1\"");
    let policy = "\n[policy]\nalso-audit = [\"unbounded\", \"lower-bounds\"]\nshare-roles = [\"logger\"]\n";
    demo.write("world/console/yostel.toml", manifest + policy);
    demo.run("world/console", "lock --quiet --as-of 2026-06-01").expect(0);
    demo.run("world/console", "install --quiet").expect(0);
    let kinds = every_remedy_ends_its_finding(&demo, "world/console");
    assert_eq!(kinds, ["advisory", "outdated", "unbounded"].map(str::to_owned).into());
    // Whatever is planted in these worlds is found in one of them.
    let kinds = |root: &str| -> BTreeSet<String> {
        let answer = json(&demo, root, "", 1);
        let kind = |one: &Value| one["kind"].as_str().unwrap().to_owned();
        answer["findings"].as_array().unwrap().iter().map(kind).collect()
    };
    let found: BTreeSet<String> = ["console", "line-watch", "ropeway"]
        .into_iter()
        .flat_map(|project| kinds(&format!("world/{project}")))
        .collect();
    let planted =
        ["licence", "same-content", "similar-content", "several-versions", "shared-role", "due-rule", "deprecated"];
    for kind in planted {
        assert!(found.contains(kind), "{kind} is not among {found:?}");
    }
}

#[test]
fn only_what_nobody_knows_lets_an_audit_fail_and_only_until_its_day() {
    let sandbox = world_with_findings();
    let told = sandbox.run("console", "audit --baseline known.toml").expect(2);
    assert!(
        told.stderr.contains("there is no known.toml\nnext: yostel audit --baseline known.toml --renew"),
        "{told:?}"
    );
    std::fs::rename(sandbox.path("station/advisories"), sandbox.path("away")).unwrap();
    let all = json(&sandbox, "console", "", 1);
    let told = sandbox.run("console", "audit --baseline known.toml --renew --until 2027-03-31").expect(0).stdout;
    let number = ids(&all).len();
    assert_eq!(told, format!("known.toml: {number} known findings, of them {number} new until 2027-03-31.\n"));
    let file = sandbox.read("console/known.toml");
    assert!(file.contains("\n# valley/twin 1.0.0 was withdrawn "), "{file}");
    assert!(file.contains("\n[[known]]\nid = \"withdrawn:valley/twin@1.0.0\"\nuntil = 2027-03-31\n"), "{file}");
    let at = |words: &str, epoch: &str, status: i32| {
        let mut command = sandbox.command("console", words);
        sandbox.finish(command.env("SOURCE_DATE_EPOCH", epoch)).expect(status).stdout
    };
    let (before, last, after) = ("1790000000", "1806537599", "1806537600");
    let told = at("audit --baseline known.toml", before, 0);
    assert!(told.ends_with(&format!(": nothing new, {number} known findings left out.\n")), "{told}");
    at("audit --baseline known.toml", last, 0);
    let told = at("audit --baseline known.toml", after, 1);
    assert!(
        told.contains("known.toml knew withdrawn:valley/twin@1.0.0 until 2027-03-31, so it counts again"),
        "{told}"
    );
    // Something new is told alone, in every format.
    std::fs::rename(sandbox.path("away"), sandbox.path("station/advisories")).unwrap();
    let told = at("audit --baseline known.toml", before, 1);
    assert!(told.contains("STAR-1") && !told.contains("withdrawn") && !told.contains("Outdated"), "{told}");
    let answer: Value = serde_json::from_str(&at("--format json audit --baseline known.toml", before, 1)).unwrap();
    let fails = answer["findings"].as_array().unwrap().iter().filter(|one| one["fails"] == true);
    assert_eq!(fails.map(|one| one["kind"].as_str().unwrap()).collect::<Vec<_>>(), ["advisory"]);
    assert_eq!(ids(&answer).len(), number + 1, "what is known is told as data");
    // What was written stays as it was; what is gone is said, and left out by renewing; kinds not looked for stay.
    let reasoned = file.replacen("until = 2027-03-31\n", "until = 2030-01-01\nwhy = \"it's so\"\n", 1);
    sandbox.write("console/known.toml", &reasoned);
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    let told = at("audit --baseline known.toml", before, 1);
    assert!(
        told.contains("known.toml knows what is gone: ")
            && told.contains("; yostel audit --baseline known.toml --renew leaves that out"),
        "{told}"
    );
    at("audit advisories --baseline known.toml --renew", before, 0);
    let kept = sandbox.read("console/known.toml");
    assert!(kept.contains("withdrawn:valley/twin") && kept.contains("advisory:STAR-1:gust@2.0.0"), "{kept}");
    let told = at("audit --baseline known.toml --renew", before, 0);
    assert!(told.contains(" gone and left out"), "{told}");
    let kept = sandbox.read("console/known.toml");
    assert!(!kept.contains("withdrawn") && kept.contains("until = 2026-12-20"), "{kept}");
    assert_eq!(at("audit --baseline known.toml --quiet", before, 0), "");
    // What only a later yostel knows stays.
    let later = "[[known]]\nid = \"quantum:gust\"\nuntil = 2099-01-01\n";
    sandbox.write("console/known.toml", format!("{kept}\n{later}"));
    let told = at("audit --baseline known.toml", before, 0);
    assert!(!told.contains("knows what is gone"), "{told}");
    at("audit --baseline known.toml --renew", before, 0);
    assert!(sandbox.read("console/known.toml").contains(later));
    // Renewing is also how to let something stay longer; its reason stays.
    sandbox.write("console/known.toml", kept.replacen("until = ", "why = \"so\"\nuntil = 2020-01-01 #", 1));
    at("audit --baseline known.toml", before, 1);
    let told = at("audit --baseline known.toml --renew", before, 0);
    assert!(told.contains(", of them 1 known again until 2026-12-20."), "{told}");
    let again = sandbox.read("console/known.toml");
    assert!(again.contains("until = 2026-12-20\nwhy = \"so\"\n") && !again.contains("2020"), "{again}");
    let told = sandbox.run("console", "audit --baseline known.toml --renew --until 2026-09-20").expect(2).stderr;
    assert!(told.contains("--until cannot be 2026-09-20: that day is past"), "{told}");
    // One that was changed into nonsense is refused with its place, and stays as it is.
    sandbox.write("console/known.toml", "format = 1\n[[known]]\nid = 7\n");
    let told = sandbox.run("console", "audit --baseline known.toml").expect(2).stderr;
    assert!(told.contains("known.toml is no baseline: ") && told.contains("known.toml:3"), "{told}");
    sandbox.run("console", "audit --baseline known.toml --renew").expect(2);
    assert_eq!(sandbox.read("console/known.toml"), "format = 1\n[[known]]\nid = 7\n");
}

#[test]
fn a_changed_lockfile_fails_whatever_is_known_or_asked() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let lockfile = sandbox.read("console/yostel.lock");
    let artifact = lockfile.find("digest = \"sha256:").unwrap() + 17;
    let (digest, other) = (lockfile[artifact..artifact + 64].to_owned(), "0".repeat(64));
    sandbox.write("console/yostel.lock", crate::sealed(&lockfile.replace(&digest, &other)));
    sandbox.run("console", "audit --fail-on nothing").expect(4);
    sandbox.run("console", "audit --baseline known.toml --renew").expect(4);
    assert!(!sandbox.read("console/known.toml").contains("alarm:"));
    sandbox.run("console", "audit --baseline known.toml").expect(4);
    let sarif: Value = serde_json::from_str(&sandbox.run("console", "audit --format sarif").expect(4).stdout).unwrap();
    assert_eq!(sarif["runs"][0]["results"][0]["ruleId"], "alarm");
}

#[test]
fn what_lets_an_audit_fail_is_told_by_kind_and_severity() {
    let sandbox = world_with_findings();
    for (what, status) in [
        ("nothing", 0),
        ("critical", 1),
        ("advisories:critical", 1),
        ("notices:critical", 0),
        ("notices:high", 1),
        ("outdated", 1),
        ("upkeep:medium", 1),
        ("upkeep:high", 0),
        ("upkeep:high,duplicates", 1),
        ("nothing,duplicates:medium", 0),
    ] {
        let told = sandbox.run("console", &format!("audit --fail-on {what}")).expect(status).stdout;
        let note = "none of these lets the audit fail, as --fail-on says";
        assert_eq!(told.contains(note), status == 0, "{what}: {told}");
    }
    let told = sandbox.run("console", "audit --fail-on all").expect(2).stderr;
    assert!(
        told.contains("the kinds are outdated, duplicates, advisories, notices, licences, upkeep, the severities none"),
        "{told}"
    );
    for words in ["audit --renew", "audit --until 2027-01-01", "audit --baseline a --renew --fail-on high"] {
        sandbox.run("console", words).expect(2);
    }
}

#[test]
fn findings_are_told_in_open_formats_and_nothing_in_a_text_is_more_than_text() {
    let sandbox = world_with_findings();
    let answer = json(&sandbox, "console", "", 1);
    let sarif = sandbox.run("console", "audit --format sarif").expect(1).stdout;
    let sarif: Value = serde_json::from_str(&sarif).unwrap();
    let results = sarif["runs"][0]["results"].as_array().unwrap();
    let prints: BTreeSet<String> =
        results.iter().map(|one| one["partialFingerprints"]["yostelFinding/v1"].as_str().unwrap().to_owned()).collect();
    assert_eq!(prints, ids(&answer));
    let rules = sarif["runs"][0]["tool"]["driver"]["rules"].as_array().unwrap();
    for result in results {
        let at = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
        assert_eq!(rules[at]["id"], result["ruleId"]);
        let place = &result["locations"][0]["physicalLocation"];
        let file = place["artifactLocation"]["uri"].as_str().unwrap();
        let line = usize::try_from(place["region"]["startLine"].as_u64().unwrap()).unwrap();
        let text = sandbox.read(&format!("console/{file}"));
        let name = result["locations"][0]["logicalLocations"][0]["fullyQualifiedName"].as_str().unwrap();
        assert!(text.lines().nth(line - 1).unwrap().contains(name), "{result}");
    }
    let advisory = results.iter().find(|one| one["ruleId"] == "advisory/STAR-1").unwrap();
    assert_eq!(advisory["level"], "error");
    assert_eq!(
        rules[usize::try_from(advisory["ruleIndex"].as_u64().unwrap()).unwrap()]["properties"]["security-severity"],
        "9.8"
    );
    let with = &advisory["fixes"][0]["artifactChanges"][0]["replacements"][0]["insertedContent"]["text"];
    assert_eq!(with, "gust = \"^2.1.0\"\n");
    let junit = sandbox.run("console", "audit --format junit").expect(1).stdout;
    assert_eq!(junit.matches("<failure ").count(), results.len(), "{junit}");
    assert!(junit.contains("gust | &lt;b&gt;leaks&lt;/b&gt; @all") && !junit.contains("<b>"), "{junit}");
    let only = sandbox.run("console", "audit notices --format junit").expect(1).stdout;
    assert_eq!(only.matches("<testsuite ").count(), 2, "alarms, and what was asked for: {only}");
    let markdown = sandbox.run("console", "audit --format markdown").expect(1).stdout;
    let rows = markdown.lines().filter(|line| line.starts_with("| ")).count();
    assert_eq!(rows, results.len() + 2, "{markdown}");
    assert!(markdown.contains("gust \\| &lt;b&gt;leaks&lt;/b&gt; @<!-- -->all"), "{markdown}");
    sandbox.run("console", "audit --baseline known.toml --renew").expect(0);
    let sarif = sandbox.run("console", "audit --baseline known.toml --format sarif").expect(0).stdout;
    assert_eq!(sarif.matches("\"suppressions\"").count(), results.len());
    let junit = sandbox.run("console", "audit --baseline known.toml --format junit").expect(0).stdout;
    assert_eq!(junit.matches("<skipped message=\"known until ").count(), results.len(), "{junit}");
    let markdown = sandbox.run("console", "audit --baseline known.toml --format markdown").expect(0).stdout;
    assert!(markdown.contains("nothing found; ") && markdown.contains(" known findings left out."), "{markdown}");
    // Other commands have nothing to say in these formats.
    let told = sandbox.run("console", "list --format sarif").expect(2).stderr;
    assert!(told.contains("only `yostel audit` answers in this format\nnext: write --format text"), "{told}");
    assert_eq!(sandbox.run("", "audit --format junit").expect(2).stdout, "");
}

#[test]
fn a_project_without_findings_says_so_in_every_format() {
    let sandbox = sandbox();
    publish(&sandbox, "unit 1.0.0", "", &[("a", "a")]);
    project(&sandbox, "unit = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    let sarif: Value = serde_json::from_str(&sandbox.run("console", "audit --format sarif").expect(0).stdout).unwrap();
    assert_eq!(sarif["runs"][0]["results"], Value::Array(Vec::new()));
    let junit = sandbox.run("console", "audit --format junit").expect(0).stdout;
    assert!(junit.contains("tests=\"6\" failures=\"0\"") && junit.contains("name=\"nothing found\""), "{junit}");
    let markdown = sandbox.run("console", "audit --format markdown").expect(0).stdout;
    assert_eq!(markdown, "## Audit of console\n\n1 package, nothing found.\n");
}
