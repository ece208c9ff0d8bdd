//! `audit --under`: one audit over many projects, with one table and one exit status.
//! The accident this prevents: forty projects, an advisory, and somebody who opens them one by one.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{publish, sandbox};

fn project(sandbox: &Sandbox, folder: &str, needs: &str) {
    let name = folder.rsplit('/').next().unwrap();
    let up = "../".repeat(folder.matches('/').count() + 1);
    let text =
        format!("[project]\nname = \"{name}\"\n[needs.run]\n{needs}\n[sources.station]\nfolder = \"{up}station\"\n");
    sandbox.write(&format!("{folder}/yostel.toml"), text);
}

fn world() -> Sandbox {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.1.0", "2.0.0"] {
        publish(&sandbox, &format!("unit {version}"), "", &[("a", version)]);
    }
    let advisory = r#"{"schema_version": "1.7.0", "id": "X-1", "modified": "2026-01-01T00:00:00Z",
        "affected": [{"package": {"ecosystem": "station", "name": "unit"},
        "ranges": [{"type": "SEMVER", "events": [{"introduced": "0"}, {"fixed": "1.1.0"}]}]}]}"#;
    sandbox.write("station/advisories/X-1.json", advisory);
    project(&sandbox, "work/old", "unit = \"=1.0.0\"");
    project(&sandbox, "work/deep/er/new", "unit = \"^2\"");
    for folder in ["work/old", "work/deep/er/new"] {
        sandbox.run(folder, "lock").expect(0);
    }
    sandbox
}

#[test]
fn one_audit_tells_of_all_projects_below_a_folder() {
    let sandbox = world();
    // A workspace is one; what has no lockfile is told, and what is hidden or behind a link is not looked into.
    sandbox.write(
        "work/all/yostel.toml",
        "[project]\nname = \"all\"\n[workspace]\nprojects = [\"*\"]\n[sources.station]\nfolder = \"../../station\"\n",
    );
    sandbox.write(
        "work/all/lib/yostel.toml",
        "[project]\nname = \"lib\"\nversion = \"1.0.0\"\n[needs.run]\nunit = \"=1.1.0\"\n",
    );
    sandbox.run("work/all", "lock").expect(0);
    sandbox.write("work/bare/yostel.toml", "[project]\nname = \"bare\"\n");
    sandbox.write("work/.hidden/yostel.toml", "broken");
    std::os::unix::fs::symlink("../old", sandbox.path("work/deep/link")).unwrap();
    let said = sandbox.run("", "audit --under work").expect(1).stdout;
    assert_eq!(
        said,
        "3 projects, the furthest behind first.\n  \
         FOLDER       PACKAGES  YEARS  RELEASES  ADVISORIES  WORST  OTHER\n  \
         all                 1      -         1           -  -          -\n  \
         deep/er/new         1      -         -           -  -          -\n  \
         old                 1      -         2           1  high       -\n\n\
         Advisories\n  \
         ADVISORY  SEVERITY  PACKAGE  IN\n  \
         X-1       high      unit     old\n\n\
         At several versions\n  \
         PACKAGE  VERSION  IN\n  \
         unit     1.0.0    old\n           1.1.0    all\n           2.0.0    deep/er/new\n  \
         note: 1 project has no lockfile: bare\n"
    );
    // Kinds and thresholds count for all of them.
    sandbox.run("", "audit duplicates --under work").expect(0);
    sandbox.run("", "audit --under work --fail-on critical").expect(0);
    sandbox.run("", "audit --under work --fail-on advisories:high").expect(1);
    sandbox.run("work", "audit --under deep --fail-on advisories").expect(0);
    let refused = sandbox.run("", "audit --under work --format sarif").expect(2).stderr;
    assert!(refused.starts_with("error: `yostel audit --under` does not answer in this format\n"), "{refused}");
}

#[test]
fn what_is_wrong_with_one_project_is_told_beside_the_others() {
    let sandbox = world();
    project(&sandbox, "work/broken", "unit = \"=1.0.0\"");
    sandbox.run("work/broken", "lock").expect(0);
    sandbox.write("work/broken/yostel.toml", "[project]\nname = 7\n");
    let told = sandbox.run("", "audit --under work --format json").expect(2).stdout;
    let answer: Value = serde_json::from_str(&told).unwrap();
    let rows: Vec<(&str, bool)> = answer["projects"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["folder"].as_str().unwrap(), one["error"].is_string()))
        .collect();
    assert_eq!(rows, [("broken", true), ("deep/er/new", false), ("old", false)]);
    let said = sandbox.run("", "audit --under work").expect(2).stdout;
    assert!(said.contains("ERROR") && said.contains("old"), "{said}");
    // Other content than is locked is worse than anything.
    let lock = sandbox.read("work/old/yostel.lock");
    let start = lock.find("record = \"sha256:").unwrap() + 17;
    let mut forged = lock.clone();
    forged.replace_range(start..start + 8, "00000000");
    sandbox.write("work/old/yostel.lock", crate::sealed(&forged));
    sandbox.run("", "audit --under work").expect(4);
    assert!(sandbox.run("", "audit --under nowhere").expect(7).stderr.contains("nowhere"));
    std::fs::create_dir_all(sandbox.path("empty")).unwrap();
    assert_eq!(sandbox.run("", "audit --under empty").expect(0).stdout, "There is no project with a lockfile.\n");
}
