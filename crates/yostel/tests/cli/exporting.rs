//! Bills of materials: complete, the same bytes wherever they are written, and nothing in them that is not to be told.
//! The accident this prevents: a customer who asks what is in a delivery, and a list that is made by hand.

use std::collections::BTreeSet;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{publish, publish_with_licence, sandbox};

/// A workspace with a package of each kind.
fn world() -> Sandbox {
    let sandbox = sandbox();
    publish(&sandbox, "rope/hook 1.0.0", "", &[("a", "a")]);
    publish(&sandbox, "rope-hook 1.0.0", "", &[("a", "b")]);
    for (name, licence) in [("gust", "MIT OR LicenseRef-ours"), ("horn", "ask <b>us</b>\\u0007"), ("rig", "Apache-2.0")]
    {
        let needs = if name == "gust" { "[needs.run]\n\"rope/hook\" = '^1'\n" } else { "" };
        let head = format!("[project]\nname = \"{name}\"\nversion = \"1.0.0+build.7\"\nlicence = \"LicenseRef-any\"\n");
        sandbox.write(&format!("made/{name}/yostel.toml"), head + needs);
        sandbox.write(&format!("made/{name}/a"), name);
        publish_with_licence(&sandbox, &format!("made/{name}"), licence);
    }
    sandbox.write("bell/yostel.toml", "[project]\nname = \"bell\"\nversion = \"2.0.0\"\n");
    let git = "git init -q -b main && git add . && git -c user.name=t -c user.email=t@example.org commit -qm bell";
    sandbox.finish(&mut sandbox.shell("bell", git)).expect(0);
    sandbox.write(
        "work/patches/rig.patch",
        "--- a\n+++ a\n@@ -1 +1 @@\n-rig\n\\ No newline at end of file\n+rig, greased\n",
    );
    sandbox.write(
        "work/yostel.toml",
        "[project]\nname = \"all\"\n[workspace]\nprojects = [\"*\"]\n[needs.test]\nrig = \"^1\"\n\
         [sources.station]\nfolder = \"../station\"\n[alter]\nrig = { patch = \"patches/rig.patch\", why = \"it squeaks\" }\n",
    );
    let console =
        "[needs.run]\ngust = \"^1\"\nhorn = \"^1\"\n\"rope-hook\" = \"^1\"\nlib = \"*\"\n[needs.build]\nrig = \"^1\"\n";
    sandbox.write("work/console/yostel.toml", format!("[project]\nname = \"console\"\nversion = \"0.4.0\"\n{console}"));
    let lib = "[needs.run]\nbell = { git = \"../../bell\" }\n";
    sandbox.write(
        "work/lib/yostel.toml",
        format!("[project]\nname = \"lib\"\nversion = \"1.0.0\"\nlicence = \"MIT\"\n{lib}"),
    );
    sandbox.run("work", "lock").expect(0);
    sandbox
}

fn texts<'v>(all: &'v Value, key: &str) -> Vec<&'v str> {
    all.as_array().unwrap().iter().filter_map(|one| one[key].as_str()).collect()
}

#[test]
fn all_that_is_locked_is_in_a_bill_with_who_needs_whom() {
    let sandbox = world();
    let bom: Value = serde_json::from_str(&sandbox.run("work", "export cyclonedx").expect(0).stdout).unwrap();
    let mut names = texts(&bom["components"], "bom-ref");
    names.sort_unstable();
    let locked = ["bell@2.0.0", "gust@1.0.0+build.7", "horn@1.0.0+build.7", "lib@1.0.0", "project:console"];
    assert_eq!(names[..5], locked);
    assert_eq!(names[5..], ["rig@1.0.0+build.7", "rope-hook@1.0.0", "rope/hook@1.0.0"]);
    let component =
        |name: &str| bom["components"].as_array().unwrap().iter().find(|one| one["bom-ref"] == name).unwrap();
    assert_eq!(component("rope/hook@1.0.0")["group"], "rope");
    assert_eq!(component("rope/hook@1.0.0")["purl"], "pkg:generic/rope/hook@1.0.0");
    assert_eq!(component("gust@1.0.0+build.7")["purl"], "pkg:generic/gust@1.0.0%2Bbuild.7");
    assert_eq!(component("gust@1.0.0+build.7")["licenses"][0]["expression"], "MIT OR LicenseRef-ours");
    assert_eq!(component("horn@1.0.0+build.7")["licenses"][0]["license"]["name"], "ask <b>us</b>\u{7}");
    assert_eq!(component("lib@1.0.0")["licenses"][0]["expression"], "MIT");
    let rig = component("rig@1.0.0+build.7");
    assert_eq!((&rig["scope"], &rig["pedigree"]["notes"]), (&"optional".into(), &"it squeaks".into()));
    assert!(rig["properties"].to_string().contains("yostel:patched-tree:any"), "{rig}");
    assert_eq!(component("bell@2.0.0")["purl"], "pkg:generic/bell@2.0.0", "a folder of this machine is no address");
    // Who needs whom is told of everything, and leads nowhere else.
    let mut needs = Vec::new();
    let known: BTreeSet<&str> = names.iter().copied().chain(["project:all"]).collect();
    let told: BTreeSet<&str> = texts(&bom["dependencies"], "ref").into_iter().collect();
    assert_eq!(told, known);
    for one in bom["dependencies"].as_array().unwrap() {
        for on in one["dependsOn"].as_array().unwrap() {
            assert!(known.contains(on.as_str().unwrap()), "{on}");
            needs.push(format!("{} {}", one["ref"].as_str().unwrap(), on.as_str().unwrap()));
        }
    }
    needs.sort_unstable();
    let expected = [
        "gust@1.0.0+build.7 rope/hook@1.0.0",
        "lib@1.0.0 bell@2.0.0",
        "project:all rig@1.0.0+build.7",
        "project:console gust@1.0.0+build.7",
        "project:console horn@1.0.0+build.7",
        "project:console lib@1.0.0",
        "project:console rig@1.0.0+build.7",
        "project:console rope-hook@1.0.0",
    ];
    assert_eq!(needs, expected);
    let spdx: Value = serde_json::from_str(&sandbox.run("work", "export spdx").expect(0).stdout).unwrap();
    let ids = texts(&spdx["packages"], "SPDXID");
    assert_eq!(ids.len(), ids.iter().collect::<BTreeSet<_>>().len());
    assert_eq!(ids.len(), known.len(), "{ids:?}");
    assert!(ids.contains(&"SPDXRef-rope-hook-1.0.0") && ids.contains(&"SPDXRef-rope-hook-1.0.0-2"), "{ids:?}");
    let kinds = texts(&spdx["relationships"], "relationshipType");
    let number = |kind: &str| kinds.iter().filter(|one| **one == kind).count();
    assert_eq!((number("DESCRIBES"), number("DEPENDS_ON")), (2, 6));
    assert_eq!((number("BUILD_DEPENDENCY_OF"), number("TEST_DEPENDENCY_OF"), number("OTHER")), (1, 1, 1));
    assert_eq!(spdx["hasExtractedLicensingInfos"][0]["licenseId"], "LicenseRef-ours");
    let horn = spdx["packages"].as_array().unwrap().iter().find(|one| one["name"] == "horn").unwrap();
    assert_eq!(horn["licenseDeclared"], "NOASSERTION");
    assert!(horn["comment"].as_str().unwrap().contains("which is no SPDX expression"), "{horn}");
}

#[test]
fn a_bill_is_the_same_bytes_at_any_time_in_any_folder_and_of_nothing_stale() {
    let sandbox = world();
    for form in ["cyclonedx", "spdx"] {
        let once = sandbox.run("work", &format!("export {form}")).expect(0).stdout;
        let mut later = sandbox.command("work/console", &format!("--cache ../../other export {form}"));
        assert_eq!(sandbox.finish(later.env("SOURCE_DATE_EPOCH", "1900000000")).expect(0).stdout, once);
        sandbox.finish(&mut sandbox.shell("", "rm -rf far && mkdir far && cp -r work station bell far/")).expect(0);
        assert_eq!(sandbox.run("far/work", &format!("export {form}")).expect(0).stdout, once);
        assert!(!once.contains("[SANDBOX]"), "no folder of this machine is told");
    }
    let manifest = sandbox.read("work/lib/yostel.toml");
    // A need that is met by what is locked is in it; one that is not makes the lockfile stale.
    sandbox.write("work/lib/yostel.toml", format!("{manifest}gust = \"*\"\n"));
    let bom: Value = serde_json::from_str(&sandbox.run("work", "export cyclonedx").expect(0).stdout).unwrap();
    let lib = bom["dependencies"].as_array().unwrap().iter().find(|one| one["ref"] == "lib@1.0.0").unwrap();
    assert_eq!(lib["dependsOn"], serde_json::json!(["bell@2.0.0", "gust@1.0.0+build.7"]));
    sandbox.write("work/lib/yostel.toml", format!("{manifest}gust = \"^2\"\n"));
    sandbox.run("work", "export spdx").expect(6);
    let told = sandbox.run("work", "export paper").expect(2).stderr;
    assert!(told.contains("cyclonedx") && told.contains("spdx"), "{told}");
}
