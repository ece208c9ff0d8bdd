//! What nobody and no accident may bend: installs, locks and archives. Each test is an attack that once went through, on
//! the built program; docs/security.md lists them.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use yostel_testkit::Sandbox;

use crate::{folder_of, git, project, publish, sandbox, sealed, small_world};

/// Files of the user's that are beside the project.
fn treasure(sandbox: &Sandbox) {
    sandbox.write("console/src/main.c", "int main;\n");
    sandbox.write("console/src/old/1.0.0-000000000000/file", "mine\n");
    sandbox.write("outside/precious/1.0.0-000000000000/file", "mine too\n");
}

#[test]
fn an_install_removes_and_writes_nothing_through_a_link_below_yostel() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    treasure(&sandbox);
    let lockfile = sandbox.read("console/yostel.lock");
    for part in [
        "packages",
        "listings",
        "reach",
        "aside",
        "packages/unit",
        "reach/projects/console",
        "unfinished.json",
        "guard",
    ] {
        for target in ["..", "../src", "../../outside"] {
            fs::remove_dir_all(sandbox.path("console/.yostel")).ok();
            let link = sandbox.path(&format!("console/.yostel/{part}"));
            fs::create_dir_all(link.parent().unwrap()).unwrap();
            symlink(target, &link).unwrap();
            let before = (sandbox.picture("console/src"), sandbox.picture("outside"));
            let run = sandbox.run("console", "install");
            assert_eq!((sandbox.picture("console/src"), sandbox.picture("outside")), before, "{part} -> {target}");
            assert!(sandbox.path("console/yostel.toml").is_file(), "{part} -> {target}");
            assert_eq!(sandbox.read("console/yostel.lock"), lockfile);
            // It works without the link, or says what is in the way.
            assert!([0, 7].contains(&run.status), "{part} -> {target}: {}{}", run.stdout, run.stderr);
            if run.status == 7 {
                assert!(run.stderr.contains("link") && run.stderr.contains("next:"), "{}", run.stderr);
            }
        }
    }
    // What a clone says of installs before counts only where an install could have made it.
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    let forged = r#"{"format":1,"lock":"sha256:LOCK","install":"sha256:X","packages":[{"name":"a","version":"1","tree":"sha256:T","folder":"packages/../../src"}],"links":{}}"#;
    sandbox.write("console/.yostel/inventory.json", forged.replace("LOCK", &"0".repeat(64)));
    sandbox.write("console/.yostel/packages/stranger/1.0.0-000000000000/file", "whose?\n");
    let before = sandbox.picture("console/src");
    sandbox.run("console", "install").expect(0);
    assert_eq!(sandbox.picture("console/src"), before);
    assert_eq!(sandbox.read("console/.yostel/packages/stranger/1.0.0-000000000000/file"), "whose?\n");
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(told.contains("packages/stranger/1.0.0-000000000000"), "{told}");
    fs::remove_dir_all(sandbox.path("console/.yostel/packages/stranger")).unwrap();
    sandbox.run("console", "verify").expect(0);
}

#[test]
fn the_cache_copies_patches_and_registries_are_reached_through_no_link() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    treasure(&sandbox);
    let before = sandbox.picture("outside");
    for part in ["trees", "archives", "aside", "fetching", "notes", "projects", "archives/sha256"] {
        fs::remove_dir_all(sandbox.path("cache")).ok();
        fs::remove_dir_all(sandbox.path("console/.yostel")).ok();
        let link = sandbox.path(&format!("cache/{part}"));
        fs::create_dir_all(link.parent().unwrap()).unwrap();
        symlink("../outside", &link).unwrap();
        sandbox.run("console", "install");
        sandbox.run("console", "cache prune --keep-under 0B");
        assert_eq!(sandbox.picture("outside"), before, "{part}");
    }
    fs::remove_dir_all(sandbox.path("cache")).unwrap();
    fs::remove_dir_all(sandbox.path("console/.yostel")).ok();
    sandbox.run("console", "install").expect(0);
    symlink("../outside", sandbox.path("console/altered")).unwrap();
    sandbox.run("console", "alter gust").expect(7).says(&["link"]);
    fs::remove_file(sandbox.path("console/altered")).unwrap();
    // A folder that is there and that no yostel made is not taken for a copy.
    sandbox.write("console/altered/gust/mine", "mine\n");
    sandbox.run("console", "alter gust").expect(7).says(&["altered/gust", "move it somewhere else"]);
    assert_eq!(sandbox.read("console/altered/gust/mine"), "mine\n");
    fs::remove_dir_all(sandbox.path("console/altered")).unwrap();
    sandbox.run("console", "alter gust").expect(0);
    sandbox.write("console/altered/gust/share/new", "new\n");
    symlink("../outside", sandbox.path("console/patches")).unwrap();
    sandbox.run("console", "alter gust --keep --why because").expect(7).says(&["link"]);
    fs::remove_file(sandbox.path("console/patches")).unwrap();
    assert_eq!(sandbox.picture("outside"), before);
    // A registry whose folder of releases leads elsewhere is neither written nor read.
    fs::rename(sandbox.path("station/releases"), sandbox.path("releases")).unwrap();
    symlink("../releases", sandbox.path("station/releases")).unwrap();
    let releases = sandbox.picture("releases");
    sandbox.write("made/other/yostel.toml", "[project]\nname = \"other\"\nversion = \"1.0.0\"\n");
    sandbox.run("made/other", "publish --to ../../station").expect(7).says(&["link"]);
    sandbox.run("console", "lock --fresh").expect(5).says(&["link"]);
    assert_eq!(sandbox.picture("releases"), releases);
}

#[test]
fn a_package_that_is_named_like_the_note_on_another_does_not_collide_with_it() {
    let sandbox = sandbox();
    for name in ["foo", "foo.json"] {
        publish(&sandbox, &format!("{name} 1.0.0"), "", &[("share/a", "a\n")]);
    }
    project(&sandbox, "foo = \"^1\"\n\"foo.json\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    for name in ["foo", "foo.json"] {
        sandbox.run("console", &format!("alter {name}")).expect(0);
        sandbox.write(&format!("console/altered/{name}/share/a"), format!("{name}\n"));
    }
    for name in ["foo", "foo.json"] {
        sandbox.run("console", &format!("alter {name} --keep --why mine")).expect(0);
        let folder = folder_of(&sandbox, name);
        assert_eq!(sandbox.read(&format!("{folder}/share/a")), format!("{name}\n"));
    }
    sandbox.run("console", "verify").expect(0);
}

/// Makes a repository of what is in `repo`, and a project that needs the package `clock` from its folder `pkg`.
fn commit(sandbox: &Sandbox) {
    git(sandbox, "repo", &["init", "--quiet", "--initial-branch=main", "."]);
    git(sandbox, "repo", &["add", "--all", "--force"]);
    git(sandbox, "repo", &["commit", "--quiet", "--allow-empty", "-m", "one"]);
    sandbox.write(
        "console/yostel.toml",
        "[project]\nname = \"console\"\n[needs.run]\nclock = { git = \"../repo\", branch = \"main\", inside = \"pkg\" }\n",
    );
}

#[test]
fn a_commit_packs_no_file_of_this_machine() {
    let sandbox = sandbox();
    sandbox.write("home/.ssh/id", "secret\n");
    sandbox.write("repo/README", "a repository\n");
    symlink(sandbox.path("home/.ssh"), sandbox.path("repo/pkg")).unwrap();
    commit(&sandbox);
    let run = sandbox.run("console", "lock").expect(5);
    run.says(&["has no folder pkg", "a link in a repository is not followed"]);
    // Nor a file below a link, nor through a link among the files.
    fs::remove_file(sandbox.path("repo/pkg")).unwrap();
    sandbox.write("repo/pkg/yostel.toml", "[project]\nname = \"clock\"\nversion = \"1.0.0\"\n");
    symlink(sandbox.path("home/.ssh/id"), sandbox.path("repo/pkg/key")).unwrap();
    commit(&sandbox);
    sandbox.run("console", "lock").expect(2).says(&["`key`", "points out of the package"]);
    assert!(!sandbox.path("cache/archives").exists(), "nothing stays");
    fs::remove_file(sandbox.path("repo/pkg/key")).unwrap();
    symlink("../..", sandbox.path("repo/pkg/s")).unwrap();
    commit(&sandbox);
    sandbox.run("console", "lock").expect(2).says(&["`s`", "points out of the package"]);
    fs::remove_file(sandbox.path("repo/pkg/s")).unwrap();
    commit(&sandbox);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
}

#[test]
fn a_refused_manifest_inside_a_commit_leaves_nothing_in_the_cache() {
    let sandbox = sandbox();
    sandbox.write("repo/pkg/yostel.toml", "[project]\nname = \"other\"\nversion = \"1.0.0\"\n");
    commit(&sandbox);
    sandbox.run("console", "lock").expect(2).says(&["it holds other"]);
    assert!(!sandbox.path("cache").exists());
}

#[test]
fn the_same_commit_is_the_same_package_under_every_configuration_of_git() {
    let sandbox = sandbox();
    sandbox.write("repo/pkg/yostel.toml", "[project]\nname = \"clock\"\nversion = \"1.0.0\"\n");
    sandbox.write("repo/pkg/a.txt", "one\ntwo\r\nthree\n");
    sandbox.write("repo/pkg/.gitattributes", "*.txt text eol=crlf\n*.bin filter=evil export-ignore\n$Id$ ident\n");
    sandbox.write("repo/pkg/b.bin", "$Id$ bytes\n");
    sandbox.write("repo/pkg/run", "#!/bin/sh\n");
    fs::set_permissions(sandbox.path("repo/pkg/run"), fs::Permissions::from_mode(0o755)).unwrap();
    symlink("a.txt", sandbox.path("repo/pkg/link")).unwrap();
    commit(&sandbox);
    sandbox.run("console", "lock").expect(0);
    let right = sandbox.read("console/yostel.lock");
    let evil = "[core]\neol = crlf\nautocrlf = true\nsymlinks = false\nfileMode = false\nsafecrlf = true\n\
                attributesFile = ATTRIBUTES\nhooksPath = HOOKS\nfsmonitor = HOOKS/evil\nworktree = /\n\
                [filter \"evil\"]\nsmudge = sh -c 'touch EVIL; tr a-z A-Z'\nrequired = true\n\
                [init]\ndefaultObjectFormat = sha256\ntemplateDir = HOOKS\n[fetch]\nrecurseSubmodules = true\n";
    let evil = evil
        .replace("ATTRIBUTES", sandbox.path("attributes").to_str().unwrap())
        .replace("HOOKS", sandbox.path("hooks").to_str().unwrap())
        .replace("EVIL", sandbox.path("evil").to_str().unwrap());
    sandbox.write("attributes", "* text eol=crlf filter=evil\n");
    sandbox.write("hooks/evil", format!("#!/bin/sh\ntouch {}\n", sandbox.path("evil").display()));
    fs::set_permissions(sandbox.path("hooks/evil"), fs::Permissions::from_mode(0o755)).unwrap();
    fs::copy(sandbox.path("hooks/evil"), sandbox.path("hooks/post-checkout")).unwrap();
    sandbox.write("gitconfig", &evil);
    sandbox.write("home/.gitconfig", &evil);
    let (gitconfig, repo) = (sandbox.path("gitconfig"), sandbox.path("repo/.git"));
    let (gitconfig, repo) = (gitconfig.to_str().unwrap(), repo.to_str().unwrap());
    let ways: [&[(&str, &str)]; 6] = [
        &[],
        &[("GIT_CONFIG_GLOBAL", gitconfig)],
        &[("GIT_CONFIG_SYSTEM", gitconfig)],
        &[("GIT_CONFIG_COUNT", "1"), ("GIT_CONFIG_KEY_0", "core.eol"), ("GIT_CONFIG_VALUE_0", "crlf")],
        &[
            ("GIT_CONFIG_PARAMETERS", "'core.autocrlf'='true'"),
            ("GIT_ATTR_SOURCE", "HEAD"),
            ("GIT_DEFAULT_HASH", "sha256"),
        ],
        // Inside a hook of another repository.
        &[
            ("GIT_DIR", repo),
            ("GIT_WORK_TREE", "/"),
            ("GIT_INDEX_FILE", "/nowhere"),
            ("GIT_OBJECT_DIRECTORY", "/nowhere"),
        ],
    ];
    for way in ways {
        fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
        fs::remove_dir_all(sandbox.path("cache")).unwrap();
        let mut command = sandbox.command("console", "lock");
        command.envs(way.iter().copied());
        sandbox.finish(&mut command).expect(0);
        assert_eq!(sandbox.read("console/yostel.lock"), right, "{way:?}");
        assert!(!sandbox.path("evil").exists(), "{way:?}: something of the configuration was run");
    }
}

#[test]
fn links_that_leave_in_two_steps_are_refused_by_publish_and_alter() {
    let sandbox = small_world();
    sandbox.write("made/trap/yostel.toml", "[project]\nname = \"trap\"\nversion = \"1.0.0\"\n");
    sandbox.write("made/trap/d/e/f", "");
    symlink("../..", sandbox.path("made/trap/d/e/s")).unwrap();
    symlink("d/e/s/../../..", sandbox.path("made/trap/out")).unwrap();
    let before = sandbox.picture("station");
    sandbox.run("made/trap", "publish --to ../../station").expect(2).says(&["`out`", "points out of the package"]);
    fs::remove_file(sandbox.path("made/trap/out")).unwrap();
    symlink("round", sandbox.path("made/trap/round")).unwrap();
    sandbox.run("made/trap", "publish --to ../../station").expect(2).says(&["`round`", "leads in a circle"]);
    assert_eq!(sandbox.picture("station"), before);
    // A change that turns a harmless link into one that leaves.
    publish(&sandbox, "ways 1.0.0", "", &[("d/e/f", "f\n")]);
    fs::remove_file(sandbox.path("made/trap/round")).unwrap();
    sandbox.write("made/trap/yostel.toml", "[project]\nname = \"ways\"\nversion = \"1.1.0\"\n");
    symlink("d/e/s/../d", sandbox.path("made/trap/way")).unwrap();
    sandbox.run("made/trap", "publish --to ../../station").expect(2);
    fs::remove_file(sandbox.path("made/trap/d/e/s")).unwrap();
    sandbox.run("made/trap", "publish --to ../../station").expect(0);
    project(&sandbox, "ways = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "alter ways").expect(0);
    symlink("../..", sandbox.path("console/altered/ways/d/e/s")).unwrap();
    sandbox.run("console", "alter ways --keep --why evil").expect(7).says(&["way", "points out of the package"]);
    assert!(!sandbox.path("console/patches").exists());
}

#[test]
fn settle_takes_no_release_that_was_published_again() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    // unit 1.1.0 comes again with other content, and a collision makes one settle.
    let document = sandbox.read("station/releases/unit.json");
    sandbox.write("made/again/yostel.toml", "[project]\nname = \"unit\"\nversion = \"1.1.0\"\n");
    sandbox.write("made/again/share/unit.txt", "other content\n");
    sandbox.run("", "registry create second").expect(0);
    sandbox.run("made/again", "publish --to ../../second").expect(0);
    let other = sandbox.read("second/releases/unit.json");
    let (other, mut value): (serde_json::Value, serde_json::Value) =
        (serde_json::from_str(&other).unwrap(), serde_json::from_str(&document).unwrap());
    value["releases"][1]["record"]["artifacts"] = other["releases"][0]["record"]["artifacts"].clone();
    sandbox.write("station/releases/unit.json", value.to_string());
    for entry in fs::read_dir(sandbox.path("second/archives/sha256")).unwrap() {
        let entry = entry.unwrap();
        fs::copy(entry.path(), sandbox.path("station/archives/sha256").join(entry.file_name())).unwrap();
    }
    project(&sandbox, "gust = \"^2\"\n\"valley/bell\" = \"^1\"", "rig = \"^0.9\"");
    let before = (sandbox.read("console/yostel.toml"), sandbox.read("console/yostel.lock"));
    sandbox.run("console", "lock").expect(3);
    sandbox.run("console", "settle 1").expect(4).says(&["unit 1.1.0 was published again"]);
    assert_eq!((sandbox.read("console/yostel.toml"), sandbox.read("console/yostel.lock")), before);
}

#[test]
fn a_forged_lockfile_is_found_before_anything_of_it_is_installed() {
    // Long: one table of forgeries, and what finds each.
    let sandbox = small_world();
    publish(&sandbox, "evil 1.0.0", "", &[("bin/evil", "#!/bin/sh\necho evil\n")]);
    sandbox.run("console", "lock").expect(0);
    let right = sandbox.read("console/yostel.lock");
    // All that could be named is in the cache already.
    sandbox.write(
        "other/yostel.toml",
        sandbox.read("console/yostel.toml").replace("gust = \"^2\"", "gust = \"^2\"\nevil = \"^1\""),
    );
    sandbox.run("other", "lock").expect(0);
    sandbox.run("other", "install").expect(0);
    let other = sandbox.read("other/yostel.lock");
    let block = |text: &str, name: &str| {
        let start = text.find(&format!("[[chosen]]\nname = \"{name}\"")).unwrap();
        let end = text[start + 1..].find("\n[[chosen]]").map_or(text.len(), |at| start + 1 + at + 1);
        text[start..end].to_owned()
    };
    let artifacts = |block: &str| block[block.find("artifacts = [").unwrap()..].trim_end().to_owned();
    let (gust, unit, evil) = (block(&right, "gust"), block(&right, "unit"), block(&other, "evil"));
    let asked = "asked-by = [\n  { who = \"gust 2.1.0\", accept = \"^1\" },\n]";
    let added =
        evil.replace(&evil[evil.find("asked-by").unwrap()..evil.find("artifacts").unwrap()], &format!("{asked}\n"));
    let zero = format!("digest = \"sha256:{}\"", "0".repeat(64));
    let digest = unit[unit.find("digest = ").unwrap()..unit.find(", tree").unwrap()].to_owned();
    let forged: [(&str, String, u8, &str, i32); 6] = [
        (
            "another archive under a name",
            right.replace(&artifacts(&gust), &artifacts(&evil)),
            4,
            "its archive holds evil 1.0.0",
            4,
        ),
        (
            "another version's archive",
            right.replace(&artifacts(&unit), &artifacts(&gust)),
            4,
            "its archive holds gust 2.1.0",
            4,
        ),
        (
            "a package that nobody needs",
            right.replace(&gust, &format!("{added}\n{gust}")),
            4,
            "gust 2.1.0 does not need evil ^1",
            4,
        ),
        ("one that nobody asks for", right.replace(&gust, &format!("{evil}\n{gust}")), 6, "evil", 6),
        (
            "a need that is not met",
            right.replace(&unit, "").replace("\n\n\n", "\n\n"),
            4,
            "needs unit ^1, and the lockfile does not say so",
            4,
        ),
        (
            "another constraint",
            right.replace("{ who = \"gust 2.1.0\", accept = \"^1\" }", "{ who = \"gust 2.1.0\", accept = \">=1\" }"),
            4,
            "gust 2.1.0 needs unit ^1",
            4,
        ),
    ];
    for (what, text, status, says, check) in forged {
        let text = sealed(&text);
        assert_ne!(text, right, "{what}");
        sandbox.write("console/yostel.lock", &text);
        fs::remove_dir_all(sandbox.path("console/.yostel")).ok();
        sandbox.run("console", "install").expect(status.into()).says(&[says, "next:"]);
        assert!(!sandbox.path("console/.yostel/packages").exists(), "{what}: nothing was installed");
        sandbox.run("console", "verify --lock").expect(check).says(&[says]);
        sandbox.run("console", "verify --lock --offline").expect(check).says(&[says]);
        if check == 4 {
            sandbox.run("console", "audit").expect(4);
        }
    }
    // A digest of nothing: the files are right, so only the cache and the source tell.
    sandbox.write("console/yostel.lock", sealed(&right.replace(&digest, &zero)));
    sandbox.run("console", "verify --lock").expect(4).says(&["unit 1.1.0"]);
    sandbox.run("console", "verify --lock --offline").expect(4).says(&["unit 1.1.0"]);
    let told = sandbox.run("console", "audit").expect(4).stdout;
    assert!(told.contains("Alarm") && told.contains("locked with the archive sha256:0000"), "{told}");
    sandbox.run("console", "lock --shareable").expect(4).says(&["unit 1.1.0 was published again"]);
    // What was right stays right.
    sandbox.write("console/yostel.lock", &right);
    sandbox.run("console", "install").expect(0);
    for (words, compared) in [("verify --lock", 3), ("verify --lock --offline", 0)] {
        let told = sandbox.run("console", &format!("--format json {words}")).expect(0).stdout;
        let told: serde_json::Value = serde_json::from_str(&told).unwrap();
        assert_eq!((told["archives"].as_u64(), told["compared"].as_u64()), (Some(3), Some(compared)), "{told}");
    }
    let told = sandbox.run("console", "verify --lock").expect(0).stdout;
    assert!(told.contains("3 packages") && told.contains("the sources say the same of 3 packages"), "{told}");
    // A release that is gone, and needs that were changed in the registry, are alarms too.
    let document = sandbox.read("station/releases/gust.json");
    sandbox.write("station/releases/gust.json", document.replace("\"unit\": \"^1\"", "\"unit\": \">=1\""));
    sandbox.run("console", "verify --lock").expect(4).says(&["gust 2.1.0 needs unit >=1; the lockfile says unit ^1"]);
    sandbox.run("console", "lock --shareable").expect(4).says(&["gust 2.1.0 needs unit >=1"]);
    assert_eq!(sandbox.read("console/yostel.lock"), right);
    sandbox.write("station/releases/gust.json", document.replace("\"2.1.0\"", "\"2.1.9\""));
    sandbox.run("console", "verify --lock").expect(4).says(&["gust 2.1.0: its source has no such release"]);
}

#[test]
fn a_manifest_or_lockfile_that_is_a_link_stays_one() {
    let sandbox = small_world();
    sandbox.write("outside/file", "precious\n");
    // Within the project, the file it leads to is written.
    fs::create_dir(sandbox.path("console/build")).unwrap();
    fs::rename(sandbox.path("console/yostel.toml"), sandbox.path("console/build/manifest")).unwrap();
    symlink("build/manifest", sandbox.path("console/yostel.toml")).unwrap();
    sandbox.run("console", "add unit ^1").expect(0);
    assert!(sandbox.path("console/yostel.toml").symlink_metadata().unwrap().is_symlink());
    assert!(sandbox.read("console/build/manifest").contains("unit = \"^1\""));
    // A link that leads out is not written through, whoever brought it.
    symlink("../outside/file", sandbox.path("console/yostel.lock")).unwrap();
    let run = sandbox.run("console", "lock --fresh");
    assert_eq!((run.status, sandbox.read("outside/file").as_str()), (7, "precious\n"), "{}", run.stderr);
    run.says(&["is a link to", "outside its folder"]);
}

#[test]
fn a_clone_that_brings_links_to_what_has_no_end_is_refused_with_words() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.write("outside/file", "precious\n");
    // Where the new content of a file is written, whatever a clone put there is not written through.
    for name in [".yostel.lock.yostel-new", ".yostel.toml.yostel-new"] {
        symlink("../outside/file", sandbox.path(&format!("console/{name}"))).unwrap();
    }
    sandbox.run("console", "add unit ^1").expect(0);
    sandbox.run("console", "lock --fresh").expect(0);
    assert_eq!(sandbox.read("outside/file"), "precious\n");
    for name in ["yostel.lock", "yostel.toml"] {
        fs::remove_file(sandbox.path(&format!("console/{name}"))).unwrap();
        symlink("/dev/zero", sandbox.path(&format!("console/{name}"))).unwrap();
        let run = sandbox.run("console", "install");
        // A manifest that is not a file is no manifest.
        let (status, says) =
            if name == "yostel.lock" { (7, "not a plain file") } else { (2, "there is no yostel.toml") };
        assert_eq!(run.status, status, "{}", run.stderr);
        run.says(&[says, "next:"]);
    }
}
