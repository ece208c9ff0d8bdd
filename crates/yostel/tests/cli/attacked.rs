//! What nobody and no accident may bend: installs, locks and archives. Each test is an attack that once went through, on
//! the built program; docs/security.md lists them.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;
use std::time::{Duration, Instant};

use yostel_testkit::Sandbox;

use crate::{digest_of, folder_of, git, project, publish, sandbox, sealed, small_world, tamper};

/// Files of the user's that stand beside the project.
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
fn a_server_that_says_nothing_is_not_waited_for() {
    let sandbox = sandbox();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    // It accepts, and never answers.
    std::thread::spawn(move || {
        let held: Vec<_> = listener.incoming().take(16).collect();
        std::thread::sleep(Duration::from_secs(120));
        drop(held);
    });
    for (address, says) in [
        (format!("git://127.0.0.1:{port}/repo"), "says nothing"),
        (format!("http://127.0.0.1:{port}/repo"), "git cannot reach"),
    ] {
        let manifest = format!(
            "[project]\nname = \"console\"\n[policy]\ngit-schemes = [\"git\", \"http\"]\n\
             [needs.run]\nclock = {{ git = \"{address}\", branch = \"main\" }}\n"
        );
        sandbox.write("console/yostel.toml", manifest);
        let began = Instant::now();
        let mut command = sandbox.command("console", "lock");
        command.env("YOSTEL_IDLE_SECONDS", "2");
        let run = sandbox.finish(&mut command).expect(5);
        assert!(run.stderr.contains(says) || run.stderr.contains("says nothing"), "{}", run.stderr);
        assert!(began.elapsed() < Duration::from_secs(30), "{address}: {:?}", began.elapsed());
    }
    for (address, says) in [
        ("fd::0", "`::` names a program to run"),
        ("ext::sh -c evil", "`::` names a program to run"),
        ("ftp://127.0.0.1/repo", "addresses begin with https://"),
        ("http://127.0.0.1:1/repo", "anybody on the way can read and change"),
    ] {
        let manifest = format!(
            "[project]\nname = \"console\"\n[needs.run]\nclock = {{ git = \"{address}\", branch = \"main\" }}\n"
        );
        sandbox.write("console/yostel.toml", manifest);
        sandbox.run("console", "lock").expect(2).says(&["is not asked", says, "next:"]);
    }
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\n");
    let mut command = sandbox.command("console", "lock");
    command.env("YOSTEL_IDLE_SECONDS", "soon");
    sandbox.finish(&mut command).expect(2).says(&["YOSTEL_IDLE_SECONDS is `soon`"]);
    // A zero byte is the manifest's fault, not git's.
    sandbox.write(
        "console/yostel.toml",
        "[project]\nname = \"console\"\n[needs.run]\nclock = { git = \"../repo\", inside = \"a\\u0000b\" }\n",
    );
    sandbox.run("console", "lock").expect(2).says(&["`inside`", "a folder inside"]);
}

#[test]
fn a_patch_may_say_any_line_and_be_any_kind_of_file() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "alter rig").expect(0);
    sandbox.write("console/altered/rig/share/a", "b");
    sandbox.run("console", "alter rig --keep --why longer").expect(0);
    let patch = sandbox.read("console/patches/rig.patch");
    let head = patch.lines().find(|line| line.starts_with("@@")).unwrap();
    for numbers in ["@@ -9223372036854775807,1 +1,1 @@", "@@ -4294967295,1 +1,1 @@", "@@ -18446744073709551615 +1 @@"] {
        sandbox.write("console/patches/rig.patch", patch.replace(head, numbers));
        let began = Instant::now();
        let run = sandbox.run("console", "lock");
        assert!([0, 2].contains(&run.status), "{numbers}: {}", run.stderr);
        assert!(began.elapsed() < Duration::from_secs(10), "{numbers}");
    }
    fs::remove_file(sandbox.path("console/patches/rig.patch")).unwrap();
    let made = Command::new("mkfifo").arg(sandbox.path("console/patches/rig.patch")).status();
    if made.is_ok_and(|status| status.success()) {
        sandbox.run("console", "lock").expect(2).says(&["the patch of rig cannot be read", "not a plain file"]);
    }
    fs::remove_file(sandbox.path("console/patches/rig.patch")).unwrap();
    symlink("/etc/hostname", sandbox.path("console/patches/rig.patch")).unwrap();
    sandbox.run("console", "lock").expect(2).says(&["the patch of rig cannot be read"]);
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
fn what_is_locked_can_be_read_back_however_constraints_grow() {
    let sandbox = sandbox();
    publish(&sandbox, "unit 1.5.0", "", &[]);
    let alternatives = |count: usize| (0..count).map(|i| format!("=1.5.{i}")).collect::<Vec<_>>().join("||");
    let ranges = |count: usize| (0..count).map(|i| format!(">=1.{i},<2")).collect::<Vec<_>>().join("||");
    publish(&sandbox, "gust 1.0.0", &format!("unit = '{}'", alternatives(16)), &[]);
    project(&sandbox, "gust = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}\n[agreed]\nunit = \"{}\"\n", ranges(16)));
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    assert!(sandbox.read("console/yostel.lock").len() > 2000, "joined with what is agreed, it is long");
    // More than anybody writes is refused where it is written, and a registry's record is no exception.
    sandbox.write("console/yostel.toml", format!("{manifest}\n[agreed]\nunit = \"{}\"\n", alternatives(17)));
    sandbox.run("console", "lock").expect(2).says(&["more than 16 alternatives"]);
    sandbox.write("console/yostel.toml", &manifest);
    let document = sandbox.read("station/releases/gust.json");
    sandbox.write(
        "station/releases/gust.json",
        document.replace(&alternatives(16).replace("||", " || "), &alternatives(17)),
    );
    sandbox.run("console", "lock --fresh").expect(5).says(&["more than 16 alternatives"]);
}

#[test]
fn versions_and_clocks_of_any_length_are_refused_with_words() {
    let sandbox = small_world();
    let long = format!("1.0.{}", "9".repeat(1_000_000));
    for version in [&long, &format!("1.0.0-{}", "a".repeat(1100))] {
        sandbox.write("made/long/yostel.toml", format!("[project]\nname = \"long\"\nversion = \"{version}\"\n"));
        let began = Instant::now();
        sandbox.run("made/long", "publish --to ../../station").expect(2).says(&["longer than 100 bytes"]);
        assert!(began.elapsed() < Duration::from_secs(5));
        let document = sandbox.read("station/releases/unit.json");
        sandbox.write("station/releases/unit.json", document.replace("\"1.0.0\"", &format!("\"{version}\"")));
        sandbox.run("console", "lock --fresh").expect(5).says(&["longer than 100 bytes"]);
        sandbox.write("station/releases/unit.json", document);
    }
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", &format!("explain unit --instead 1.0.{}", "9".repeat(1100))).expect(2);
    let mut command = sandbox.command("console", "install");
    command.env("SOURCE_DATE_EPOCH", "253402300799");
    let run = sandbox.finish(&mut command);
    assert!([0, 2].contains(&run.status), "{}", run.stderr);
}

#[test]
fn what_a_killed_run_leaves_is_removed_by_the_next_and_never_packed() {
    let sandbox = small_world();
    for left in [
        "console/.yostel.lock.yostel-new",
        "console/.yostel.toml.yostel-new",
        "station/releases/.unit.json.yostel-new",
        "station/archives/sha256/.archive.yostel-new",
        "made/rig-0.9.0/.yostel.toml.yostel-new",
    ] {
        sandbox.write(left, "half");
    }
    sandbox.run("console", "lock").expect(0);
    assert!(!sandbox.path("console/.yostel.lock.yostel-new").exists());
    assert!(!sandbox.path("console/.yostel.toml.yostel-new").exists());
    sandbox.write("made/rig-0.9.0/other/.yostel.lock.yostel-new", "half");
    sandbox.write("made/rig-0.9.0/yostel.toml", "[project]\nname = \"rig\"\nversion = \"0.9.1\"\n");
    sandbox.run("made/rig-0.9.0", "publish --to ../../station").expect(0);
    assert!(!sandbox.path("station/releases/.unit.json.yostel-new").exists());
    assert!(!sandbox.path("station/archives/sha256/.archive.yostel-new").exists());
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.run("console", "install").expect(0);
    let folder = folder_of(&sandbox, "rig");
    assert!(!sandbox.picture(&folder).iter().any(|line| line.contains("yostel-new")));
    sandbox.write("console/.yostel/.inventory.json.yostel-new", "half");
    sandbox.write("cache/projects/.x.json.yostel-new", "half");
    tamper(&sandbox, &format!("{folder}/share/a"), "b");
    sandbox.run("console", "install").expect(0);
    assert!(!sandbox.path("console/.yostel/.inventory.json.yostel-new").exists());
    assert!(!sandbox.path("cache/projects/.x.json.yostel-new").exists());
    assert!(!sandbox.path("console/.yostel/unfinished.json").exists());
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

#[test]
fn a_project_whose_path_holds_a_colon_says_so_instead_of_losing_its_programs() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for folder in ["a:b", "a\nb"] {
        sandbox.write(
            &format!("{folder}/console/yostel.toml"),
            sandbox.read("console/yostel.toml").replace("../station", "../../station"),
        );
        sandbox.write(&format!("{folder}/console/yostel.lock"), sandbox.read("console/yostel.lock"));
        sandbox.run(&format!("{folder}/console"), "install").expect(0);
        sandbox.run(&format!("{folder}/console"), "verify").expect(0);
    }
    for words in ["run -- gust-now", "env"] {
        sandbox.run("a:b/console", words).expect(2).says(&["holds `:`", "move the project to a folder without"]);
        sandbox.run("a\nb/console", words).expect(0);
    }
}

#[test]
fn help_that_cannot_be_written_is_not_fine() {
    if !std::path::Path::new("/dev/full").exists() {
        return;
    }
    let sandbox = sandbox();
    for words in ["--help", "--version", "lock --help", "registry list-nothing"] {
        let mut command = sandbox.command("", words);
        command.stdout(fs::OpenOptions::new().write(true).open("/dev/full").unwrap());
        let run = sandbox.finish(&mut command);
        assert_ne!(run.status, 0, "{words}");
    }
}

#[test]
fn an_older_yostel_keeps_what_it_does_not_know() {
    let sandbox = small_world();
    let mut document: serde_json::Value = serde_json::from_str(&sandbox.read("station/releases/unit.json")).unwrap();
    document["signatures"] = serde_json::json!({ "by": "Ida" });
    document["releases"][0]["owner"] = serde_json::json!(["the valley"]);
    document["releases"][0]["record"]["artifacts"][0]["mirrors"] = serde_json::json!(["far"]);
    document["releases"][0]["record"]["offers"]["manuals"] = serde_json::json!(["share/man"]);
    document["releases"][0]["statements"] = serde_json::json!([{ "says": "praised", "on": "2026-01-01", "by": 1.5 }]);
    let withdrawn = serde_json::json!({ "says": "withdrawn", "on": "2026-01-01T00:00:00Z", "why": "so", "until": 9 });
    document["releases"][1]["statements"] = serde_json::json!([withdrawn]);
    sandbox.write("station/releases/unit.json", document.to_string());
    sandbox.run("", "withdraw unit 1.0.0 --from station --why old").expect(0);
    publish(&sandbox, "unit 3.0.0", "", &[]);
    let after: serde_json::Value = serde_json::from_str(&sandbox.read("station/releases/unit.json")).unwrap();
    assert_eq!(after["signatures"], document["signatures"]);
    for field in ["owner", "record"] {
        assert_eq!(after["releases"][0][field], document["releases"][0][field], "{field}");
    }
    assert_eq!(after["releases"][0]["statements"][0], document["releases"][0]["statements"][0]);
    assert_eq!(after["releases"][0]["statements"][1]["says"], "withdrawn");
    assert_eq!(after["releases"][1]["statements"], document["releases"][1]["statements"]);
}

#[test]
fn text_from_outside_never_steers_the_terminal() {
    let sandbox = sandbox();
    let evil = "old\u{1b}[2J\r\u{9b}31m\u{202e}\u{7}\u{200b}x";
    let escaped = |c: char| c.escape_unicode().to_string();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    let mut command = sandbox.command("", "registry create station");
    command.args(["--name", evil]);
    sandbox.finish(&mut command).expect(0);
    publish(&sandbox, "unit 1.0.0", "", &[]);
    sandbox.write("made/unit-1.0.0/yostel.toml", "[project]\nname = \"unit\"\nversion = \"1.1.0\"\n");
    let mut command = sandbox.command("made/unit-1.0.0", "publish --to ../../station --deprecated");
    sandbox.finish(command.arg(evil)).expect(0);
    let mut command = sandbox.command("", "withdraw unit 1.0.0 --from station --why");
    sandbox.finish(command.arg(evil)).expect(0);
    project(&sandbox, "unit = \"^1\"", "");
    let raw = |c: char| c != '\n' && c != '\t' && (c.is_control() || ('\u{200b}'..='\u{202e}').contains(&c));
    for words in ["lock", "explain unit", "list", "audit", "add unit =1.0.0", "registry list ../station", "tree"] {
        for front in ["--color never", "--format json", ""] {
            let run = sandbox.run("console", &format!("{front} {words}"));
            assert!(!run.stdout.chars().chain(run.stderr.chars()).any(raw), "{front} {words}: {:?}", run.stdout);
            if front == "--format json" && !run.stdout.is_empty() {
                serde_json::from_str::<serde_json::Value>(&run.stdout).unwrap();
            }
        }
        let run = sandbox.run("console", &format!("--color always {words}"));
        let text = run.stdout.replace("\u{1b}[", "");
        assert!(!text.chars().any(raw) && !run.stdout.contains("[2J\r"), "{words}: {:?}", run.stdout);
    }
    let told = sandbox.run("", "registry list station").stdout;
    assert!(told.contains(&escaped('\u{9b}')) && told.contains(&escaped('\u{202e}')), "{told}");
}

#[test]
fn chains_of_needs_are_locked_drawn_and_explained_however_deep() {
    let sandbox = sandbox();
    let depth = if cfg!(debug_assertions) { 600 } else { 4000 };
    let digest = "0".repeat(64);
    for i in 0..depth {
        let next = format!("\"c{}\": \"^1\"", i + 1);
        let needs = if i + 1 < depth { next.as_str() } else { "" };
        let document = format!(
            "{{\"format\":1,\"name\":\"c{i}\",\"releases\":[{{\"record\":{{\"version\":\"1.0.0\",\"published\":\"2026-01-01T00:00:00Z\",\
             \"needs\":{{\"run\":{{{needs}}}}},\"artifacts\":[{{\"platform\":\"any\",\"digest\":\"sha256:{digest}\",\
             \"size\":1,\"tree\":\"sha256:{digest}\"}}]}}}}]}}"
        );
        sandbox.write(&format!("station/releases/c{i}.json"), document);
    }
    project(&sandbox, "c0 = \"^1\"", "");
    let began = Instant::now();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "tree").expect(0).stdout;
    assert!(told.contains("c98 1.0.0") && told.contains("(and what it needs)"), "{told}");
    sandbox.run("console", "--format json tree").expect(0);
    sandbox.run("console", &format!("explain c{}", depth - 1)).expect(0);
    sandbox.run("console", "list").expect(0);
    // All of them have the same files, which is a finding.
    sandbox.run("console", "audit").expect(1);
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
}

/// Runs a prepared command; returns the most memory that it was seen to take, in KiB.
fn with_peak(sandbox: &Sandbox, command: &mut Command) -> (yostel_testkit::Run, u64) {
    use std::process::Stdio;
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().unwrap().is_none() {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let now = text.lines().find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.parse().ok());
        peak = now.unwrap_or(0).max(peak);
        std::thread::sleep(Duration::from_micros(500));
    }
    let output = child.wait_with_output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let run = yostel_testkit::Run {
        status: output.status.code().unwrap_or(-1),
        stdout: text(&output.stdout),
        stderr: text(&output.stderr),
    };
    let _ = sandbox;
    (run, peak)
}

fn tar_header(name: &str, kind: u8, size: u64) -> Vec<u8> {
    let mut header = tar::Header::new_gnu();
    header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
    header.set_entry_type(tar::EntryType::new(kind));
    header.set_mode(0o644);
    header.set_size(size);
    header.set_cksum();
    header.as_bytes().to_vec()
}

#[test]
fn archives_that_want_memory_and_time_get_neither() {
    let sandbox = sandbox();
    let zstd = |bytes: &[u8]| zstd::encode_all(bytes, 3).unwrap();
    let zeros = zstd(&vec![0; 64 << 20]);
    // One frame of zeros, as often as it takes: kilobytes that unpack to gigabytes.
    let bomb = |head: &[u8], times: usize| [zstd(head), zeros.repeat(times)].concat();
    let dots = zstd(&tar_header("./", b'5', 0).repeat(100_000));
    let many: Vec<u8> = (0..300_000).flat_map(|i| tar_header(&format!("f{i}"), b'0', 0)).collect();
    let long: Vec<u8> = (0..40_000u32)
        .flat_map(|i| {
            let name = format!("{}{i:0>1000}", "d/".repeat(10));
            let mut name = name.as_bytes()[..1000].to_vec();
            // A part has at most 255 bytes.
            (0..1000).step_by(200).skip(1).for_each(|at| name[at] = b'/');
            let mut bytes = tar_header("././@LongLink", b'L', 1000);
            bytes.extend(&name);
            bytes.resize(bytes.len().next_multiple_of(512), 0);
            bytes.extend(tar_header("x", b'0', 0));
            bytes
        })
        .collect();
    let mut wide = zstd::Encoder::new(Vec::new(), 3).unwrap();
    wide.window_log(27).unwrap();
    std::io::copy(&mut &vec![7u8; 200 << 20][..], &mut wide).unwrap();
    let hostile: [(&str, Vec<u8>); 10] = [
        ("a name of 2 GiB", bomb(&tar_header("././@LongLink", b'L', 2 << 30), 32)),
        ("a target of 2 GiB", bomb(&tar_header("././@LongLink", b'K', 2 << 30), 32)),
        ("remarks of 2 GiB", bomb(&tar_header("remarks", b'x', 2 << 30), 32)),
        ("remarks on everything", bomb(&tar_header("remarks", b'g', 2 << 30), 32)),
        ("a folder of 2 GiB", bomb(&tar_header("d", b'5', 2 << 30), 32)),
        ("zeros after the end", bomb(&vec![0; 1024], 64)),
        ("20 million times the same folder", dots.repeat(200)),
        ("300,000 files", zstd(&many)),
        ("40 MB of names", zstd(&long)),
        ("a window of 128 MiB", wide.finish().unwrap()),
    ];
    for (what, archive) in hostile {
        fs::remove_dir_all(sandbox.path("cache")).ok();
        crate::refusing::plant(&sandbox, &archive);
        let began = Instant::now();
        let (run, peak) = with_peak(&sandbox, &mut sandbox.command("console", "install"));
        println!("{what}: {} bytes, {} KiB, {:?}", archive.len(), peak, began.elapsed());
        run.expect(4).says(&["trap 1.0.0 is refused", "next:"]);
        assert!(peak < 64 << 10, "{what}: {peak} KiB");
        assert!(!sandbox.path("cache/trees").exists(), "{what}");
    }
}

/// Runs a line with few open files permitted.
fn with_open_files(sandbox: &Sandbox, folder: &str, most: u32, words: &str) -> yostel_testkit::Run {
    sandbox.finish(&mut sandbox.shell(folder, &format!("ulimit -n {most} && exec yostel {words}")))
}

#[test]
fn an_install_of_1500_packages_needs_few_open_files() {
    let sandbox = sandbox();
    let registry = yostel_registry::Registry::open(&sandbox.path("station")).unwrap();
    let mut needs = String::new();
    for i in 0..1500 {
        let text = format!("[project]\nname = \"p{i}\"\nversion = \"1.0.0\"\n");
        sandbox.write("made/p/yostel.toml", &text);
        sandbox.write("made/p/share/a", format!("{i}\n"));
        let manifest = yostel_documents::Manifest::parse(&text).unwrap();
        let now = "2026-01-01T00:00:00Z".parse().unwrap();
        registry.publish(&sandbox.path("made/p"), &manifest, now, Default::default()).unwrap();
        needs.push_str(&format!("p{i} = \"^1\"\n"));
    }
    project(&sandbox, &needs, "");
    with_open_files(&sandbox, "console", 64, "lock").expect(0);
    let cold = with_open_files(&sandbox, "console", 64, "install").expect(0).stdout;
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    let warm = with_open_files(&sandbox, "console", 64, "install --offline").expect(0).stdout;
    assert_eq!(digest_of(&cold), digest_of(&warm));
    with_open_files(&sandbox, "console", 64, "verify").expect(0);
    with_open_files(&sandbox, "console", 64, "cache save kit.tar").expect(0);
    fs::remove_dir_all(sandbox.path("cache")).unwrap();
    with_open_files(&sandbox, "console", 64, "cache load kit.tar").expect(0);
    with_open_files(&sandbox, "console", 64, "cache verify").expect(0);
    with_open_files(&sandbox, "console", 64, "cache prune --keep-under 0B").expect(0);
}

#[test]
fn a_cache_that_may_only_be_read_serves_an_install() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.write("second/yostel.toml", sandbox.read("console/yostel.toml"));
    sandbox.write("second/yostel.lock", sandbox.read("console/yostel.lock"));
    // A mount of its own, read-only even for who may do everything; not every machine permits that.
    let line = "mount --bind ../cache ../cache && mount -o remount,bind,ro ../cache && exec yostel install";
    let mut command = Command::new("unshare");
    let inner = sandbox.shell("second", line);
    command.args(["--mount", "--map-root-user", "sh", "-c", line]).current_dir(sandbox.path("second")).env_clear();
    command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let Ok(output) = command.output() else { return };
    let (told, error) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    if !output.status.success() && (error.contains("mount") || error.contains("unshare")) {
        eprintln!("skipped: {error}");
        return;
    }
    assert!(output.status.success(), "{told}{error}");
    assert!(told.contains("the cache cannot note this install"), "{told}");
    sandbox.run("second", "verify").expect(0);
}

#[test]
fn modes_in_the_cache_do_not_depend_on_the_mask() {
    let mut seen = Vec::new();
    for mask in ["000", "027", "077"] {
        let sandbox = small_world();
        sandbox.run("console", "lock").expect(0);
        sandbox.finish(&mut sandbox.shell("console", &format!("umask {mask} && exec yostel install"))).expect(0);
        let mut modes = Vec::new();
        let mut open = vec![sandbox.path("cache")];
        while let Some(folder) = open.pop() {
            for entry in fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                let metadata = path.symlink_metadata().unwrap();
                let below = path.strip_prefix(sandbox.path("cache")).unwrap().display().to_string();
                // The names of records tell of the project's folder.
                if !below.starts_with("projects/") {
                    modes.push((below, metadata.permissions().mode() & 0o7777));
                }
                if metadata.is_dir() {
                    open.push(path);
                }
            }
        }
        modes.sort();
        seen.push(modes);
    }
    assert!(seen.windows(2).all(|pair| pair[0] == pair[1]), "{seen:?}");
    assert!(seen[0].len() > 20);
}

#[test]
fn a_look_at_the_cache_beside_a_prune_raises_no_alarm() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for _ in 0..8 {
        sandbox.run("console", "install").expect(0);
        fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
        fs::remove_dir_all(sandbox.path("cache/projects")).unwrap();
        let spawn = |words: &str| {
            let mut command = sandbox.command("", words);
            command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap()
        };
        let looks: Vec<_> =
            ["cache verify", "cache prune --keep-under 0B", "cache list", "cache stats", "cache verify"]
                .map(spawn)
                .into();
        for look in looks {
            let output = look.wait_with_output().unwrap();
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        }
    }
}

#[test]
fn what_came_along_gives_no_program_and_no_variable_that_loads_code() {
    let sandbox = sandbox();
    let package = |name: &str, needs: &str, offers: &str, program: &str, says: &str| {
        let manifest = format!(
            "[project]\nname = \"{name}\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}\n[offers]\nprograms = [\"bin\"]\n{offers}\n"
        );
        let folder = format!("made/{name}");
        sandbox.write(&format!("{folder}/yostel.toml"), manifest);
        sandbox.write(&format!("{folder}/bin/{program}"), format!("#!/bin/sh\n{says}\n"));
        let path = sandbox.path(&format!("{folder}/bin/{program}"));
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
        sandbox.run(&folder, "publish --to ../../station").expect(0);
    };
    package("deep", "", "", "ls", "echo the ls of deep");
    package("scale", "", "variables = { SCALE = \"bin\" }", "scale-now", "echo scale \"$@\"");
    package("gust", "scale = '^1'\ndeep = '^1'", "", "gust-now", "echo gust $(scale-now \"$1\") and $(ls)");
    package("tower", "gust = '^1'", "", "tower-now", "echo tower of $(gust-now \"$1\"); command -v scale-now; exit 3");
    project(&sandbox, "tower = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    // What the project needs itself is there, and finds what it needs; nothing else is on the path.
    let run = sandbox.run("console", "run -- tower-now '7 8'").expect(3);
    assert!(run.stdout.starts_with("tower of gust scale '7 and the ls of deep\n"), "{}", run.stdout);
    assert!(!run.stdout.contains("/scale-now"), "what a need needs is not a need: {}", run.stdout);
    for program in ["gust-now", "scale-now"] {
        sandbox.run("console", &format!("run -- {program}")).expect(2).says(&["cannot be run"]);
    }
    let real = sandbox.finish(&mut sandbox.shell("console", "yostel run -- sh -c 'ls /'")).expect(0).stdout;
    assert!(!real.contains("deep") && real.contains("tmp"), "{real}");
    // Variables of what came along stay.
    let told = sandbox.run("console", "env").expect(0).stdout;
    assert!(told.contains("export SCALE=") && told.contains("launch/tower/1.0.0"), "{told}");
    sandbox.run("console", "verify").expect(0);
    let state = sandbox.picture("console/.yostel");
    assert!(!state.iter().any(|line| line.starts_with("launch") && line.contains("SANDBOX")), "{state:?}");
    // A launcher that somebody changed is made again.
    tamper(&sandbox, "console/.yostel/launch/tower/1.0.0/tower-now", "#!/bin/sh\necho evil\n");
    sandbox.run("console", "run -- tower-now 1").expect(3);
    // A program of the project's own choice may come before one of the machine, which is told.
    project(&sandbox, "deep = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let run = sandbox.run("console", "run -- ls").expect(0);
    assert_eq!(run.stdout, "the ls of deep\n");
    run.says(&["`ls` is that of deep 1.0.0, which comes before /"]);
    assert_eq!(sandbox.run("console", "-q run -- ls").expect(0).stderr, "");
    for variable in ["LD_PRELOAD", "BASH_ENV", "HOME", "IFS", "GIT_SSH_COMMAND", "YOSTEL_CACHE", "PYTHONSTARTUP"] {
        let name = format!("evil-{}", variable.to_lowercase().replace('_', "-"));
        package(&name, "", &format!("variables = {{ {variable} = \"bin\" }}"), "x", "true");
        publish(&sandbox, &format!("through-{name} 1.0.0"), &format!("{name} = '^1'"), &[]);
        project(&sandbox, &format!("through-{name} = \"^1\""), "");
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", "install").expect(0);
        let run = sandbox.run("console", "run -- true").expect(2);
        run.says(&[&format!("{name} 1.0.0 offers {variable}"), &format!("trusted-variables = [\"{name}\"]")]);
        let manifest = sandbox.read("console/yostel.toml");
        sandbox.write("console/yostel.toml", format!("{manifest}\n[policy]\ntrusted-variables = [\"{name}\"]\n"));
        assert!(sandbox.run("console", "env").expect(0).stdout.contains(&format!("export {variable}=")));
    }
}

#[test]
fn launchers_find_their_way_whatever_a_package_is_called_and_however_many_ask_at_once() {
    let sandbox = sandbox();
    publish(&sandbox, "tool 1.0.0", "", &[("bin/tool", "#!/bin/sh\necho tool \"$@\"\n")]);
    let names: Vec<String> = (0..60).map(|number| format!("bin/launch{number}")).collect();
    let programs: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "#!/bin/sh\ntool of launch\n")).collect();
    // Its folder of launchers is `launch/launch`, and that of the other `launch/launch+launch`.
    publish(&sandbox, "launch 1.0.0", "tool = '^1'", &programs);
    publish(&sandbox, "launch/launch 1.0.0", "tool = '^1'", &[("bin/launch", "#!/bin/sh\ntool of both\n")]);
    project(&sandbox, "launch = \"^1\"\n\"launch/launch\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    for (program, says) in [("launch", "tool of both\n"), ("launch59", "tool of launch\n")] {
        assert_eq!(sandbox.run("console", &format!("run -- {program}")).expect(0).stdout, says);
    }
    for _ in 0..5 {
        fs::remove_dir_all(sandbox.path("console/.yostel/launch")).unwrap();
        // One that was killed while it wrote.
        sandbox.write("console/.yostel/launch/launch/1.0.0/.launch7.yostel-new", "#!/bin/sh\n");
        let mut runs: Vec<_> = (0..8)
            .map(|_| sandbox.command("console", "run -- launch7").stdout(std::process::Stdio::piped()).spawn().unwrap())
            .collect();
        for run in runs.drain(..) {
            let output = run.wait_with_output().unwrap();
            assert!(output.status.success() && output.stdout == b"tool of launch\n", "{output:?}");
        }
        assert!(!sandbox.path("console/.yostel/launch/launch/1.0.0/.launch7.yostel-new").exists());
    }
    // One that was damaged is put right.
    let launcher = sandbox.path("console/.yostel/launch/launch/1.0.0/launch7");
    fs::set_permissions(&launcher, fs::Permissions::from_mode(0o644)).unwrap();
    sandbox.run("console", "run -- launch7").expect(0);
}

#[test]
fn what_stands_where_a_file_is_written_aside_is_replaced_or_named() {
    let sandbox = small_world();
    let aside = sandbox.path("console/.yostel.lock.yostel-new");
    let fifo = || assert!(Command::new("mkfifo").arg(&aside).status().unwrap().success());
    let closed = || {
        fs::write(&aside, "of one that was killed").unwrap();
        fs::set_permissions(&aside, fs::Permissions::from_mode(0o444)).unwrap();
    };
    let link = || symlink("/etc/hostname", &aside).unwrap();
    for put in [&fifo as &dyn Fn(), &closed, &link] {
        fs::remove_file(sandbox.path("console/yostel.lock")).ok();
        put();
        sandbox.run("console", "lock").expect(0);
        assert!(!aside.exists());
    }
    fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    fs::create_dir(&aside).unwrap();
    sandbox.run("console", "lock").expect(7).says(&[".yostel.lock.yostel-new", "Is a directory"]);
    assert!(!sandbox.path("console/yostel.lock").exists());
}

#[test]
fn folders_thousands_of_levels_deep_are_in_nobodys_way() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    // Deeper than a path can say, so made from the bottom up.
    let deep = |at: &str| {
        let (start, beside) = (sandbox.path(at), sandbox.path("beside"));
        let levels = "d/".repeat(1000);
        fs::create_dir_all(start.join("d")).unwrap();
        for _ in 0..3 {
            fs::create_dir_all(beside.join(&levels)).unwrap();
            fs::rename(start.join("d"), beside.join(&levels).join("d")).unwrap();
            fs::rename(&beside, start.join("d")).unwrap();
        }
    };
    deep("console/.yostel/aside");
    let gust = folder_of(&sandbox, "gust");
    deep(&format!("{gust}/foreign"));
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(told.contains("foreign"), "{told}");
    sandbox.run("console", "install").expect(0);
    assert!(!sandbox.path(&gust).join("foreign").exists() && !sandbox.path("console/.yostel/aside").exists());
    sandbox.run("console", "verify").expect(0);
    deep("made/tool/x");
    sandbox.write("made/tool/yostel.toml", "[project]\nname = \"tool\"\nversion = \"1.0.0\"\n");
    let run = sandbox.run("made/tool", "publish --to ../../station");
    assert!([0, 2].contains(&run.status) && run.stderr.len() < 2000, "{}: {}", run.status, run.stderr);
}

#[test]
fn files_of_eight_gigabytes_are_not_read_where_a_few_bytes_should_be() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let patched = sandbox.read("console/yostel.toml") + "[alter]\ngust = { patch = \"gust.patch\", why = \"so\" }\n";
    let in_cache = |below: &str| {
        let mut files: Vec<String> = sandbox.picture(&format!("cache/{below}")).into_iter().collect();
        files.retain(|line| line.contains(": "));
        format!("cache/{below}/{}", files[0].split(':').next().unwrap())
    };
    let cases: [(&str, &str, i32); 11] = [
        ("console/.yostel/inventory.json", "install", 0),
        ("console/.yostel/unfinished.json", "install", 0),
        (&in_cache("notes"), "install", 0),
        (&in_cache("projects"), "install", 0),
        (&in_cache("notes"), "cache list", 0),
        ("station/registry.json", "lock --fresh", 5),
        ("station/releases/unit.json", "lock --fresh", 5),
        ("station/releases/gust.json", "-C ../made/gust-2.1.0 publish --to ../../station", 7),
        ("console/yostel.toml", "lock", 7),
        ("console/yostel.lock", "install", 7),
        ("console/gust.patch", "lock", 2),
    ];
    for (path, words, status) in cases {
        let before = fs::read(sandbox.path(path)).ok();
        let manifest = sandbox.read("console/yostel.toml");
        if path.ends_with(".patch") {
            sandbox.write("console/yostel.toml", &patched);
        }
        fs::OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(false)
            .open(sandbox.path(path))
            .unwrap()
            .set_len(8 << 30)
            .unwrap();
        let program = env!("CARGO_BIN_EXE_yostel");
        let limited = sandbox.shell("console", &format!("ulimit -v 1000000; exec {program} {words}"));
        let run = sandbox.finish(&mut { limited }).expect(status);
        assert!(status == 0 || run.stderr.contains("it is longer than"), "{path}: {}", run.stderr);
        fs::remove_file(sandbox.path(path)).ok();
        before.into_iter().for_each(|before| sandbox.write(path, before));
        sandbox.write("console/yostel.toml", manifest);
    }
    sandbox.run("console", "verify").expect(0);
}

#[test]
fn a_path_with_a_line_break_quotes_and_blanks_is_a_path() {
    let sandbox = small_world();
    let name = "a\n b'\"$(touch evil)`touch evil`\\é";
    fs::rename(sandbox.path("console"), sandbox.path(name)).unwrap();
    for words in ["lock", "install", "verify", "list", "alter gust", "alter gust --drop", "cache list", "tree"] {
        let run = sandbox.run(name, words).expect(0);
        assert!(!run.stdout.contains("a\n b"), "{words}: {}", run.stdout);
    }
    assert!(sandbox.run(name, "run -- gust-now").expect(0).stdout.starts_with("gust 2.1.0"));
    let told = sandbox.finish(&mut sandbox.shell(name, "eval \"$(yostel env)\"; gust-now")).expect(0).stdout;
    assert!(told.starts_with("gust 2.1.0"), "{told}");
    assert!(!sandbox.path(name).join("evil").exists() && !sandbox.path("evil").exists());
}

#[test]
fn a_file_system_that_runs_no_programs_holds_an_install() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let script = "mount -t tmpfs -o noexec tmpfs ../other || exit 99
        cp -r . ../other && cd ../other && sed -i 's|../station|'$OLDPWD'/../station|' yostel.toml || exit 98
        $YOSTEL install && $YOSTEL verify && $YOSTEL install --quick || exit 97
        $YOSTEL run -- gust-now";
    fs::create_dir(sandbox.path("other")).unwrap();
    let mut command = Command::new("unshare");
    command.args(["--user", "--map-root-user", "--mount", "sh", "-c", script]).current_dir(sandbox.path("console"));
    let inner = sandbox.command("console", "");
    command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let run = sandbox.finish(command.env("YOSTEL", inner.get_program()));
    if run.status == 99 || run.stderr.contains("unshare failed") {
        eprintln!("skipped: this machine allows no mounts of one's own");
        return;
    }
    run.expect(2).says(&["gust-now", "Permission denied", "next:"]);
}

#[test]
fn a_cache_of_another_user_serves_an_install() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let mine = ["theirs/home", "theirs/console"];
    mine.iter().for_each(|folder| fs::create_dir_all(sandbox.path(folder)).unwrap());
    for file in ["yostel.toml", "yostel.lock"] {
        let text = sandbox.read(&format!("console/{file}")).replace("../station", "../../station");
        sandbox.write(&format!("theirs/console/{file}"), text);
    }
    fs::set_permissions(sandbox.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    let given = Command::new("chown").args(["-R", "65534:65534"]).arg(sandbox.path("theirs")).output();
    if !given.is_ok_and(|output| output.status.success()) {
        eprintln!("skipped: only root can be another user");
        return;
    }
    let as_other = |words: &str| {
        let inner = sandbox.command("theirs/console", words);
        let mut command = Command::new("setpriv");
        command.args(["--reuid", "65534", "--regid", "65534", "--clear-groups"]).arg(sandbox.path("yostel"));
        command.args(inner.get_args()).current_dir(sandbox.path("theirs/console")).env_clear();
        command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
        sandbox.finish(command.env("HOME", sandbox.path("theirs/home")))
    };
    // Where the tests are built, not everybody may look.
    fs::copy(env!("CARGO_BIN_EXE_yostel"), sandbox.path("yostel")).unwrap();
    let before = sandbox.picture("cache");
    let run = as_other("install").expect(0);
    assert!(
        run.stdout.contains("Installed 3 packages") && run.stdout.contains("the cache cannot note this install"),
        "{}",
        run.stdout
    );
    as_other("verify").expect(0);
    as_other("cache verify").expect(0);
    assert!(as_other("run -- gust-now").expect(0).stdout.starts_with("gust 2.1.0"));
    as_other("cache prune --keep-under 0B").expect(7).says(&["next:"]);
    assert_eq!(sandbox.picture("cache"), before);
    // What the other user made is taken as it is, and no better.
    let file = sandbox
        .path("theirs/console")
        .join(folder_of(&sandbox, "gust").trim_start_matches("console/"))
        .join("bin/gust-now");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).unwrap();
    fs::write(&file, "other").unwrap();
    sandbox.run("theirs/console", "verify").expect(4);
    sandbox.run("theirs/console", "install").expect(0);
    sandbox.run("theirs/console", "verify").expect(0);
}
