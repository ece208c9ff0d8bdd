//! One package at several versions, a compatible line each: who keeps which, and what is said of each.
//! The accident this prevents: an update of one line that is told of another.

use crate::overriding::{COEXIST, apart, manifest};
use crate::publish;

#[test]
fn one_version_is_enough_where_one_will_do_and_kept_lines_stay() {
    let sandbox = apart();
    // Permitted is not wanted: both can have 1.x.
    manifest(&sandbox, "tables = \"^1 || ^2\"\nchart = \"=1.0.0\"", COEXIST);
    sandbox.run("console", "lock").expect(0);
    let text = sandbox.read("console/yostel.lock");
    assert_eq!(text.matches("name = \"tables\"").count(), 1);
    assert!(text.contains("version = \"1.5.0\""));
    manifest(&sandbox, "tables = \"^2\"\nchart = \"=1.0.0\"", COEXIST);
    sandbox.run("console", "lock").expect(0);
    let before = sandbox.read("console/yostel.lock");
    // A newer release on each line moves nothing by itself, and all of it when asked.
    for version in ["1.6.0", "2.2.0"] {
        publish(&sandbox, &format!("tables {version}"), "", &[("share/version", version)]);
    }
    publish(&sandbox, "unit 1.0.0", "tables = '^1'", &[]);
    manifest(&sandbox, "tables = \"^2\"\nchart = \"=1.0.0\"\nunit = \"*\"", COEXIST);
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("unit") && !told.contains("->"), "{told}");
    // Each moves along its own line, and that is what is said.
    for (locked, newer) in [("1.5.0", "1.6.0"), ("2.1.0", "2.2.0")] {
        assert!(told.contains(&format!("tables stays at {locked}; with yostel update it would be {newer}")), "{told}");
    }
    let run = sandbox.run("console", "audit outdated --format json").expect(1);
    let audit: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    let tables = audit["outdated"].as_array().unwrap().iter().filter(|one| one["package"] == "tables");
    assert_eq!(tables.map(|one| one["accepted"].clone()).collect::<Vec<_>>(), ["1.6.0", "2.2.0"]);
    let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(told.contains("1.5.0 -> 1.6.0") && told.contains("2.1.0 -> 2.2.0"), "{told}");
    // Back to what it was, whatever way it took.
    manifest(&sandbox, "tables = \"^2\"\nchart = \"=1.0.0\"", COEXIST);
    sandbox.run("console", "lock --fresh --as-of 2020-01-01").expect(3);
    sandbox.write("console/yostel.lock", before.clone());
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}
