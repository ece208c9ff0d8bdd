//! Advisories: which locked releases they affect, and whether the way out that is told leads out.
//! The accident this prevents: a leak that everybody has read about, in a release that nobody knew was locked.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish, small_world};

fn advise(sandbox: &Sandbox, id: &str, package: &str, rest: &str) {
    let text = format!(
        r#"{{"schema_version":"1.7.0","id":"{id}","modified":"2026-05-01T00:00:00Z","summary":"{package} leaks",{rest}}}"#
    );
    sandbox.write(&format!("station/advisories/{id}.json"), text);
}

fn affected(package: &str, events: &str) -> String {
    format!(
        r#""affected":[{{"package":{{"ecosystem":"station","name":"{package}"}},"ranges":[{{"type":"SEMVER","events":[{events}]}}]}}]"#
    )
}

fn told(sandbox: &Sandbox, words: &str, status: i32) -> String {
    sandbox.run("console", words).expect(status).stdout
}

fn json(sandbox: &Sandbox, status: i32) -> Value {
    serde_json::from_str(&told(sandbox, "--format json audit advisories", status)).unwrap()
}

#[test]
fn an_advisory_is_told_with_a_way_out_that_leads_out() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    assert_eq!(told(&sandbox, "audit advisories", 0), "2 packages: no advisory affects any.\n");
    let severity = r#""severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}],"#;
    let range = affected("gust", r#"{"introduced":"0"},{"fixed":"2.1.0"}"#);
    advise(&sandbox, "STAR-1", "gust", &format!("{severity}{range}"));
    let text = told(&sandbox, "audit advisories", 1);
    let expected = "Advisories\n  gust 2.0.0, STAR-1, critical (9.8)\n      gust leaks\n      \
                    2.1.0 is not affected, and console needs =2.0.0\n      \
                    yostel add gust '^2.1.0', then yostel lock, moves nothing else\n2 packages looked at, 1 package affected by advisories.\n\
                    next: yostel add gust '^2.1.0', then yostel lock, to be out of STAR-1\n";
    assert_eq!(text, expected);
    let told_as_data = json(&sandbox, 1);
    let one = &told_as_data["advisories"][0];
    assert_eq!((&one["way"]["kind"], &one["way"]["accept"]), (&"need".into(), &"^2.1.0".into()), "{one}");
    assert_eq!((&one["severity"]["rating"], &one["fixed"]), (&"critical".into(), &"2.1.0".into()));
    sandbox.run("console", "add gust ^2.1.0").expect(0);
    sandbox.run("console", "lock").expect(0);
    told(&sandbox, "audit advisories", 0);
    // Where the need accepts what is fixed, an update is the way.
    project(&sandbox, "gust = \"^2\"", "");
    sandbox.run("console", "lock --fresh --take oldest").expect(0);
    let text = told(&sandbox, "audit advisories", 1);
    assert!(text.contains("      2.1.0 is not affected: yostel update gust --advisories gets out of it\n"), "{text}");
    sandbox.run("console", "update gust --advisories").expect(0);
    told(&sandbox, "audit advisories", 0);
    // What is agreed is not a need's to change.
    project(&sandbox, "gust = \"agreed\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}[agreed]\ngust = \"=2.0.0\"\n"));
    sandbox.run("console", "lock --fresh").expect(0);
    let text = told(&sandbox, "audit advisories", 1);
    assert!(text.contains("2.1.0 is not affected, and console needs =2.0.0\n") && !text.contains("add"), "{text}");
    // What is forced is no need's to change either, and whoever asks for another version is told.
    project(&sandbox, "gust = \"^2\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}[force]\ngust = {{ version = \"2.0.0\", why = \"x\" }}\n"));
    sandbox.run("console", "lock --fresh").expect(0);
    let text = told(&sandbox, "audit advisories", 1);
    assert!(text.contains("2.1.0 is not affected, and [force] in yostel.toml keeps 2.0.0\n"), "{text}");
    assert_eq!(json(&sandbox, 1)["advisories"][0]["way"]["kind"], "forced");
    let text = told(&sandbox, "explain gust --instead 2.1.0", 0);
    assert!(text.contains("gust 2.1.0 is possible once [force] names it no longer; it alone would move:"), "{text}");
    assert!(text.contains("next: take gust out of [force], then yostel add gust '^2.1.0' and yostel lock\n"), "{text}");
    sandbox.write("console/yostel.toml", manifest);
    sandbox.run("console", "add gust ^2.1.0").expect(0);
    sandbox.run("console", "lock").expect(0);
    told(&sandbox, "audit advisories", 0);
    // One that was taken back affects nothing, nor does one for another registry's packages.
    advise(
        &sandbox,
        "STAR-2",
        "gust",
        &format!(r#""withdrawn":"2026-05-02T00:00:00Z",{}"#, affected("gust", r#"{"introduced":"0"}"#)),
    );
    advise(
        &sandbox,
        "STAR-3",
        "gust",
        &affected("gust", r#"{"introduced":"0"}"#).replace("\"station\"", "\"elsewhere\""),
    );
    told(&sandbox, "audit advisories", 0);
}

#[test]
fn where_there_is_no_way_out_it_is_said_who_stands_in_it() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    advise(&sandbox, "STAR-1", "unit", &affected("unit", r#"{"introduced":"1.0.0"},{"last_affected":"1.1.0"}"#));
    advise(&sandbox, "STAR-2", "gust", &affected("gust", r#"{"introduced":"2.0.0"}"#));
    advise(
        &sandbox,
        "STAR-3",
        "rig",
        r#""affected":[{"package":{"ecosystem":"station","name":"rig"},"versions":["0.9.0"]}]"#,
    );
    let text = told(&sandbox, "audit advisories", 1);
    for says in [
        "  unit 1.1.0, STAR-1\n      unit leaks\n      2.0.0 is not affected, and gust 2.1.0 needs ^1 and rig 0.9.0 needs ^1\n",
        "  gust 2.1.0, STAR-2\n      gust leaks\n      there is no newer release that is not affected\n",
        "  rig 0.9.0, STAR-3\n      rig leaks\n      there is no newer release that is not affected\n",
        "3 packages looked at, 3 packages affected by advisories.\n",
    ] {
        assert!(text.contains(says), "{says} in {text}");
    }
    assert!(!text.contains("next:"), "{text}");
    let kinds: Vec<Value> =
        json(&sandbox, 1)["advisories"].as_array().unwrap().iter().map(|one| one["way"]["kind"].clone()).collect();
    assert_eq!(kinds, ["no-release", "no-release", "held"], "by package, where nobody says how bad");
}

#[test]
fn a_hostile_advisory_is_passed_over_named_and_steers_nothing() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    publish(&sandbox, "gust 2.2.0", "unit = '^1'", &[("a", "a")]);
    let nasty = r#""affected":[{"package":{"ecosystem":"station","name":"gust"},"versions":["2.1.0"],
        "severity":[{"type":"CVSS_V3","score":"nonsense"},{"type":"LATER","score":""}]}],"details":"x""#;
    advise(&sandbox, "STAR-\\u001b[2J", "gust\\u001b[31m\\nnext: rm -rf", nasty);
    for (file, text) in [
        ("a.json", "{".to_owned()),
        ("b.json", "[".repeat(20_000)),
        ("c.json", format!(r#"{{"id":"C","modified":"2026-05-01T00:00:00Z","x":"{}"}}"#, "y".repeat(2 << 20))),
        ("d.json", String::new()),
        ("notes.txt", "no advisory".to_owned()),
    ] {
        sandbox.write(&format!("station/advisories/{file}"), text);
    }
    std::os::unix::fs::symlink("/dev/zero", sandbox.path("station/advisories/e.json")).unwrap();
    let text = told(&sandbox, "audit advisories", 1);
    assert!(!text.contains('\u{1b}') && !text.contains("\nnext: rm"), "{text}");
    assert!(text.contains("Advisories that cannot be read\n  a.json of station: "), "{text}");
    assert!(
        text.contains("\n  and 2 more\n") && text.contains("2.2.0 is not affected: yostel update gust --advisories"),
        "{text}"
    );
    assert!(told(&sandbox, "audit advisories --quiet", 1).contains("a.json of station: "));
    let told_as_data = json(&sandbox, 1);
    let files: Vec<&str> =
        told_as_data["unread-advisories"].as_array().unwrap().iter().filter_map(|one| one["file"].as_str()).collect();
    assert!(["a.json", "b.json", "c.json", "d.json", "e.json"].iter().all(|file| files.contains(file)), "{files:?}");
    assert!(!files.contains(&"notes.txt"));
    // Very many do not fill the screen.
    for number in 0..40 {
        advise(&sandbox, &format!("MANY-{number}"), "unit", &affected("unit", r#"{"introduced":"0"}"#));
    }
    let text = told(&sandbox, "audit advisories", 1);
    assert!(text.contains("  … and 21 more: yostel audit advisories --verbose\n"), "{text}");
    assert!(told(&sandbox, "audit advisories --verbose", 1).contains("MANY-39"));
    // Nothing else that an audit tells is lost, whatever the folder is.
    std::fs::rename(sandbox.path("station/advisories"), sandbox.path("away")).unwrap();
    std::os::unix::fs::symlink("../away", sandbox.path("station/advisories")).unwrap();
    let text = told(&sandbox, "audit", 1);
    assert!(text.contains("Advisories that cannot be read\n  advisories of station: "), "{text}");
    assert!(told(&sandbox, "audit", 1).contains("Outdated, asked for by the project"));
}
