//! Versions that stand in other files too, and follow what is locked.
//! The accidents this prevents: a container that runs another version than the one that was tested; a document that tells of one
//! from last year; and a file outside of the project that a manifest from elsewhere has written over.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use yostel_testkit::Sandbox;

use crate::{project, publish, sandbox};

const CONTAINER: &str = "# bell 1\nFROM rope/bell:1.0.0-slim AS base\nRUN get bell-1.0.0.tar; get horn-9.9.9.tar\n";

fn mentioning(rest: &str) -> Sandbox {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.1.0"] {
        publish(&sandbox, &format!("bell {version}"), "", &[("a", version)]);
    }
    project(&sandbox, "bell = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml") + rest;
    sandbox.write("console/yostel.toml", manifest);
    sandbox.write("console/ship/Containerfile", CONTAINER);
    sandbox
}

const RULE: &str = "[mentions.bell]\n\"ship/Containerfile\" = [\"FROM rope/bell:…-slim\", \"get bell-….tar\"]\n";

#[test]
fn files_that_mention_a_package_follow_it_and_are_undone_with_it() {
    let sandbox = mentioning(RULE);
    fs::set_permissions(sandbox.path("console/ship/Containerfile"), fs::Permissions::from_mode(0o755)).unwrap();
    sandbox.run("console", "lock --take oldest").expect(0);
    assert_eq!(sandbox.read("console/ship/Containerfile"), CONTAINER);
    let preview = sandbox.run("console", "update --preview").expect(0).stdout;
    assert!(preview.contains("ship/Containerfile would follow: it mentions what is locked"), "{preview}");
    assert_eq!(sandbox.read("console/ship/Containerfile"), CONTAINER);
    let told = sandbox.run("console", "update").expect(0).stdout;
    assert!(told.contains("ship/Containerfile follows"), "{told}");
    let after = CONTAINER.replace("1.0.0", "1.1.0");
    assert_eq!(sandbox.read("console/ship/Containerfile"), after);
    let mode = fs::metadata(sandbox.path("console/ship/Containerfile")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o755, "a program stays one");
    sandbox.run("console", "undo").expect(0);
    assert_eq!(sandbox.read("console/ship/Containerfile"), CONTAINER);
    sandbox.run("console", "undo --redo").expect(0);
    assert_eq!(sandbox.read("console/ship/Containerfile"), after);
    // Locking again puts right what somebody edited, and an audit tells of it before.
    sandbox.run("console", "audit upkeep").expect(0);
    sandbox.write("console/ship/Containerfile", CONTAINER);
    let found = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(
        found.contains("ship/Containerfile says of bell 1.0.0 in line 2 and 1.0.0 in line 3; 1.1.0 is locked"),
        "{found}"
    );
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("no version changed.") && told.contains("ship/Containerfile follows"), "{told}");
    sandbox.run("console", "audit upkeep").expect(0);
    sandbox.write("console/ship/Containerfile", "nothing\n");
    let found = sandbox.run("console", "audit upkeep").expect(1).stdout;
    assert!(found.contains("ship/Containerfile does not mention bell as [mentions] says"), "{found}");
}

#[test]
fn digests_follow_too_and_proposals_bring_the_files_along() {
    let rule = "[mentions.bell]\n\"ship/Containerfile\" = { version = \"rope/bell:…-slim\", digest = \"sha256:…\" }\n";
    let sandbox = mentioning(rule);
    let text = format!("FROM rope/bell:1.0.0-slim\n# sha256:{}\n", "0".repeat(64));
    sandbox.write("console/ship/Containerfile", &text);
    sandbox.run("console", "lock --take oldest").expect(0);
    let lockfile = sandbox.read("console/yostel.lock");
    let digest = lockfile.split("digest = \"sha256:").nth(1).unwrap().split('"').next().unwrap().to_owned();
    assert_eq!(sandbox.read("console/ship/Containerfile"), text.replace(&"0".repeat(64), &digest));
    let git = "git init -q -b main && git config user.name t && git config user.email t@t.example && git add . && git commit -qm base";
    sandbox.finish(&mut sandbox.shell("console", git)).expect(0);
    sandbox.run("console", "propose").expect(0);
    let shown =
        sandbox.finish(&mut sandbox.shell("console", "git diff --name-only main proposals/bell")).expect(0).stdout;
    assert_eq!(shown, "ship/Containerfile\nyostel.lock\n");
    sandbox.write("console/ship/Containerfile", text + "# mine\n");
    sandbox.finish(
        &mut sandbox.shell("console", "git branch -qD proposals/bell && git update-ref -d refs/yostel/proposals/bell"),
    );
    sandbox.run("console", "propose").expect(2).says(&["ship/Containerfile is not committed as here"]);
}

#[test]
fn files_outside_and_those_that_are_no_text_are_refused() {
    for (rule, says) in [
        ("\"../x\" = \"a…\"", "it is another file of the project"),
        ("\"/etc/x\" = \"a…\"", "it is another file of the project"),
        ("\".git/config\" = \"a…\"", "it is another file of the project"),
        ("\"a/yostel.toml\" = \"a…\"", "it is another file of the project"),
        ("x = \"a\"", "one `…` in it stands for what follows the lock"),
        ("x = \"a…b…\"", "there is one `…` in it"),
        ("x = \" …\"", "something stands before the `…`"),
        ("x = { tag = \"a…\" }", "has no key `tag`"),
        ("x = 3", "should be a text in quotes"),
    ] {
        let sandbox = mentioning(&format!("[mentions.bell]\n{rule}\n"));
        let run = sandbox.run("console", "lock").expect(2);
        assert!(run.stderr.contains(says), "{rule}: {}", run.stderr);
    }
    let sandbox = mentioning("[mentions.bell]\n\"away/x\" = \"bell …\"\n");
    sandbox.write("outside/x", "bell 1.0.0\n");
    symlink("../outside", sandbox.path("console/away")).unwrap();
    assert_ne!(sandbox.run("console", "lock").status, 0);
    assert_eq!(sandbox.read("outside/x"), "bell 1.0.0\n");
    fs::remove_file(sandbox.path("console/away")).unwrap();
    sandbox.write("console/away/x", [0xff, b'b']);
    assert_ne!(sandbox.run("console", "lock").status, 0);
    assert!(!sandbox.path("console/yostel.lock").exists());
}
