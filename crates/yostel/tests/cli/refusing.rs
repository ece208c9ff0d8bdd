//! Bad input of every kind: a clear error with its place and next step, the right exit status, and project, lock and
//! cache as they were.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::Command;

use yostel_documents::ArchiveDigest;
use yostel_testkit::{Run, Sandbox};

use crate::{folder_of, nothing_in_cache, project, sandbox, small_world};

/// Runs a command that must fail and asserts that nothing in the sandbox changed.
#[track_caller]
fn refused(sandbox: &Sandbox, words: &str, status: i32, says: &[&str]) {
    let before = sandbox.picture("");
    let run = sandbox.run("console", words).expect(status).says(says);
    assert!(run.stderr.contains("next:"), "no next step in:\n{}", run.stderr);
    assert_eq!(sandbox.picture(""), before, "something changed");
}

#[test]
fn a_manifest_that_is_not_right_names_line_column_and_remedy() {
    let sandbox = small_world();
    let good = sandbox.read("console/yostel.toml");
    let cases: [(&str, &str, &[&str]); 9] = [
        ("[needs.run]", "[needs.run", &["this is not TOML", "at yostel.toml:5:", "5 | [needs.run"]),
        (
            "[needs.run]",
            "[need.run]",
            &["the manifest has no key `need`", "at yostel.toml:5:2", "write `needs` instead of `need`"],
        ),
        ("folder", "folder_", &["a source has no key `folder_`", "write `folder` instead"]),
        ("\"^2\"", "2", &["`gust` should be a constraint in quotes", "at yostel.toml:6:8", "but it is a whole number"]),
        ("\"^2\"", "\"2.1\"", &["a bare version can be read in two ways", "write \"2.1.*\"", "write \"^2.1\""]),
        ("\"^2\"", "\">=2 <3\"", &["joined by `,`", "at yostel.toml:6:9", "^^^^^"]),
        ("gust =", "Gust =", &["`Gust` cannot be a name", "write gust"]),
        ("\"0.4.0\"", "\"0.4\"", &["`0.4` is not a version", "write \"0.4.0\""]),
        ("[project]", "[projekt]", &["has no key `projekt`", "the manifest lacks `project`"]),
    ];
    for (from, to, says) in cases {
        sandbox.write("console/yostel.toml", good.replacen(from, to, 1));
        refused(&sandbox, "lock", 2, says);
    }
}

#[test]
fn an_impossible_constraint_is_a_collision_with_itself() {
    let sandbox = small_world();
    project(&sandbox, "gust = \">=2, <1\"", "");
    refused(&sandbox, "lock", 3, &["console needs gust >=2, <1: no release can meet that", "yostel.toml:6"]);
    project(&sandbox, "gust = \"^9\"", "");
    refused(&sandbox, "lock", 3, &["console needs gust ^9, which no release meets"]);
    project(&sandbox, "gust = \"=2.1\"", "");
    refused(&sandbox, "lock", 2, &["leaves numbers out", "yostel.toml:6", "write \"2.1.*\""]);
}

#[test]
fn an_unknown_package_is_named_with_the_nearest_one() {
    let sandbox = small_world();
    project(&sandbox, "guts = \"^2\"", "");
    refused(
        &sandbox,
        "lock",
        2,
        &["no source has guts (asked: station)", "yostel.toml:6: console needs guts ^2", "gust exists"],
    );
}

#[test]
fn a_source_that_is_not_there_or_no_registry_says_which() {
    let sandbox = small_world();
    fs::rename(sandbox.path("station"), sandbox.path("kept")).unwrap();
    refused(
        &sandbox,
        "lock",
        5,
        &[
            "source station: there is no folder",
            "next: yostel sources add station FOLDER, with the registry's folder",
            "  or: yostel sources remove station",
        ],
    );
    fs::create_dir(sandbox.path("station")).unwrap();
    refused(&sandbox, "lock", 5, &["source station: [SANDBOX]/station is not a registry", "yostel registry create"]);
    sandbox.write("station/registry.json", r#"{"format": 9, "name": "x"}"#);
    refused(&sandbox, "lock", 5, &["the registry has format 9", "use a newer yostel"]);
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\n[needs.run]\ngust = \"^2\"\n");
    refused(&sandbox, "lock", 2, &["the manifest names no source", "next: yostel sources add NAME FOLDER"]);
}

#[test]
fn a_broken_release_document_names_file_line_and_column() {
    let sandbox = small_world();
    let text = sandbox.read("station/releases/unit.json");
    for (from, to, says) in [
        ("\"size\"", "\"siez\"", "missing field `size`"),
        ("\"version\": \"1.1.0\"", "\"version\": \"1.1\"", "release `1.1`: `1.1` is not a version"),
        ("\"name\": \"unit\"", "\"name\": \"other\"", "it is about `other`, not about unit"),
        ("{", "", "line 2, column"),
    ] {
        sandbox.write("station/releases/unit.json", text.replacen(from, to, 1));
        refused(
            &sandbox,
            "lock",
            5,
            &["source station: its document of unit is broken", "station/releases/unit.json", says],
        );
    }
}

fn archive_of(sandbox: &Sandbox, package: &str) -> PathBuf {
    let lock = sandbox.read("console/yostel.lock");
    let block = lock.split("[[chosen]]").find(|block| block.contains(&format!("name = \"{package}\""))).unwrap();
    let digest = block.split("digest = \"sha256:").nth(1).unwrap().split('"').next().unwrap();
    sandbox.path(&format!("station/archives/sha256/{digest}.tar.zst"))
}

#[test]
fn a_flipped_bit_or_a_cut_archive_stops_the_install_and_leaves_no_trace() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let path = archive_of(&sandbox, "gust");
    let good = fs::read(&path).unwrap();
    let mut flipped = good.clone();
    flipped[good.len() / 2] ^= 1;
    fs::write(&path, &flipped).unwrap();
    let locked = path.file_name().unwrap().to_str().unwrap().split('.').next().unwrap().to_owned();
    let found = ArchiveDigest::of(&flipped).to_string();
    let says = [
        "gust 2.1.0 is not the archive that was locked",
        &format!("locked sha256:{locked}"),
        &format!("found  {found}"),
        "from   source station, [SANDBOX]/station",
    ];
    refused(&sandbox, "install", 4, &says);
    assert!(nothing_in_cache(&sandbox) && !sandbox.path("console/.yostel").exists(), "no trace");
    fs::write(&path, &good[..good.len() - 7]).unwrap();
    refused(&sandbox, "install", 4, &["gust 2.1.0 is not the archive that was locked", "it was cut short"]);
    fs::remove_file(&path).unwrap();
    refused(&sandbox, "install", 5, &["source station: it has no archive sha256:"]);
    fs::write(&path, &good).unwrap();
    sandbox.run("console", "install").expect(0);
    // With something installed already, that stays as it was too.
    project(&sandbox, "gust = \"^3\"", "");
    sandbox.run("console", "lock").expect(0);
    fs::write(archive_of(&sandbox, "unit"), "nothing").unwrap();
    refused(&sandbox, "install", 4, &["unit 2.0.0 is not the archive that was locked"]);
    refused(
        &sandbox,
        "install --offline",
        5,
        &["the cache does not hold gust 3.0.0 and unit 2.0.0", "without --offline"],
    );
}

/// One entry of a hostile archive: raw name, kind, link target.
type Entry<'a> = (&'a [u8], tar::EntryType, &'a str);

/// Puts a release `trap 1.0.0` with a hand-made archive into the registry, digests and all, and locks it.
fn set_trap(sandbox: &Sandbox, entries: &[Entry<'_>]) {
    let mut builder = tar::Builder::new(Vec::new());
    for (name, kind, target) in entries {
        let mut header = tar::Header::new_gnu();
        header.as_mut_bytes()[..name.len()].copy_from_slice(name);
        header.set_entry_type(*kind);
        header.set_mode(0o4755);
        let content: &[u8] = if kind.is_file() { b"trap" } else { b"" };
        header.set_size(content.len() as u64);
        if !target.is_empty() {
            header.as_mut_bytes()[157..157 + target.len()].copy_from_slice(target.as_bytes());
        }
        header.set_cksum();
        builder.append(&header, content).unwrap();
    }
    plant(sandbox, &zstd::encode_all(builder.into_inner().unwrap().as_slice(), 3).unwrap());
}

pub(crate) fn plant(sandbox: &Sandbox, archive: &[u8]) {
    let digest = ArchiveDigest::of(archive);
    sandbox.write(&format!("station/archives/sha256/{}.tar.zst", digest.to_hex()), archive);
    let document = serde_json::json!({
        "format": 1, "name": "trap",
        "releases": [{
            "record": {
                "version": "1.0.0", "published": "2026-01-01T00:00:00Z",
                "artifacts": [{ "platform": "any", "digest": digest.to_string(), "size": archive.len(), "tree": digest.to_string() }],
            },
        }],
    });
    sandbox.write("station/releases/trap.json", document.to_string());
    project(sandbox, "trap = \"^1\"", "");
    sandbox.run("console", "lock --fresh").expect(0);
}

#[test]
fn hostile_archives_are_refused_and_write_nothing_anywhere() {
    use tar::EntryType as Kind;
    let sandbox = sandbox();
    let file = Kind::Regular;
    let cases: [(&[Entry<'_>], &str); 16] = [
        (&[(b"../out", file, "")], "its entry `../out` would leave its folder"),
        (&[(b"a/../../out", file, "")], "would leave its folder"),
        (&[(b"/etc/out", file, "")], "its entry `/etc/out` would leave its folder"),
        (&[(b"in", Kind::Symlink, "../../out")], "its link `in` to `../../out` points out of the package"),
        (&[(b"in", Kind::Symlink, "/etc")], "its link `in` to `/etc` points out of the package"),
        (
            &[(b"in", Kind::Symlink, "."), (b"in/out", file, "")],
            "its entry `in/out` is below something that is not a folder",
        ),
        (&[(b"in", file, ""), (b"in/out", file, "")], "is below something that is not a folder"),
        (&[(b"in", Kind::Link, "/etc/passwd")], "its entry `in` is a hard link"),
        (&[(b"in", Kind::Char, "")], "is a device"),
        (&[(b"in", Kind::Fifo, "")], "is a pipe"),
        (&[(b"in", file, ""), (b"in", file, "")], "its entries `in` and `in` are the same file"),
        (&[(b"Readme", file, ""), (b"README", file, "")], "its entries `Readme` and `README` are the same file"),
        (&[(b"Dir/a", file, ""), (b"dir/b", file, "")], "are the same file on some systems"),
        (&[(b"a\x1b[31m", file, "")], "its entry `a\\u{1b}[31m` cannot be named so"),
        (&[(b"a\xff", file, "")], "it is not UTF-8"),
        (&[(b"a//b", file, "")], "it has an empty part"),
    ];
    for (entries, says) in cases {
        set_trap(&sandbox, entries);
        refused(&sandbox, "install", 4, &["trap 1.0.0 is refused", says, "from source station"]);
    }
    plant(&sandbox, b"this is no archive");
    refused(&sandbox, "install", 4, &["trap 1.0.0 is refused: it is neither a .tar.zst nor a .tar.gz nor a .zip"]);
    let whole = zstd::encode_all(&[0u8; 2048][..], 3).unwrap();
    plant(&sandbox, &whole[..whole.len() - 1]);
    refused(&sandbox, "install", 4, &["trap 1.0.0 is refused"]);
    // Nothing wrong inside, but not the files that the document promises.
    set_trap(&sandbox, &[(b"fine", file, "")]);
    refused(
        &sandbox,
        "install",
        4,
        &[
            "trap 1.0.0 does not unpack to the files that were locked",
            "locked tree sha256:",
            "found  tree sha256:",
            "next: yostel verify --lock,",
        ],
    );
}

#[test]
fn a_lock_edited_by_hand_or_merged_badly_is_never_guessed_at() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let good = sandbox.read("console/yostel.lock");
    sandbox.write("console/yostel.lock", good.replace("2.1.0", "2.0.0"));
    for command in ["lock", "install", "list", "verify"] {
        refused(
            &sandbox,
            command,
            4,
            &["the lockfile was changed by hand or merged badly", "at yostel.lock:3:1", "yostel lock --fresh"],
        );
    }
    sandbox.write(
        "console/yostel.lock",
        good.replacen("[[chosen]]", "<<<<<<< ours\n[[chosen]]\n=======\n>>>>>>> theirs\n", 1),
    );
    refused(&sandbox, "install", 4, &["the marks of an unfinished merge", "<<<<<<< ours"]);
    sandbox.write("console/yostel.lock", good.replace("format = 1", "format = 2"));
    refused(&sandbox, "install", 4, &["the lockfile has format 2"]);
    sandbox.write("console/yostel.lock", "");
    refused(&sandbox, "install", 4, &["yostel.lock has no seal"]);
    sandbox.run("console", "lock --fresh").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), good);
    fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    refused(&sandbox, "install", 6, &["there is no yostel.lock", "next: yostel lock"]);
}

/// Publishes `gust 2.1.0` again with other content, behind the registry's back: its document tells of the new archive, and
/// the old one is gone.
fn publish_again(sandbox: &Sandbox) {
    sandbox.write("made/gust-2.1.0/bin/gust-now", "#!/bin/sh\necho gust 2.1.0 and a half \"$@\"\n");
    sandbox.write("made/gust-2.1.0/share/new.bin", b"\0\x01");
    sandbox.run("", "registry create other").expect(0);
    sandbox.run("made/gust-2.1.0", "publish --to ../../other --untried").expect(0);
    let read = |path: &str| serde_json::from_str::<serde_json::Value>(&sandbox.read(path)).unwrap();
    let (other, mut document) = (read("other/releases/gust.json"), read("station/releases/gust.json"));
    let releases = document["releases"].as_array_mut().unwrap();
    let release = releases.iter_mut().find(|release| release["record"]["version"] == "2.1.0").unwrap();
    let file = |digest: &serde_json::Value| format!("archives/sha256/{}.tar.zst", &digest.as_str().unwrap()[7..]);
    fs::remove_file(sandbox.path(&format!("station/{}", file(&release["record"]["artifacts"][0]["digest"])))).unwrap();
    release["record"]["artifacts"] = other["releases"][0]["record"]["artifacts"].clone();
    let new = file(&release["record"]["artifacts"][0]["digest"]);
    fs::copy(sandbox.path(&format!("other/{new}")), sandbox.path(&format!("station/{new}"))).unwrap();
    sandbox.write("station/releases/gust.json", document.to_string());
}

#[test]
fn a_release_published_again_is_recognised_and_what_differs_is_shown() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.write("far/yostel.toml", sandbox.read("console/yostel.toml"));
    sandbox.write("far/yostel.lock", sandbox.read("console/yostel.lock"));
    publish_again(&sandbox);
    // The cache has what was locked: the files are compared.
    project(&sandbox, "gust = \"^2\"\nunit = \"^1\"", "rig = \"^0.9\"");
    refused(
        &sandbox,
        "lock",
        4,
        &[
            "gust 2.1.0 was published again with different content",
            "seen   today, brought here from station by this project; last used today",
            "bin/gust-now: changed",
            "2 - echo gust 2.1.0 \"$@\"",
            "+ echo gust 2.1.0 and a half \"$@\"",
            "share/new.bin: new, which is not text",
            "can still be installed from the cache",
        ],
    );
    // Elsewhere nobody has it any more: an install says why it is gone.
    let far = sandbox.run("far", "install --cache ../cache-far").expect(4);
    let said =
        far.says(&["gust 2.1.0 was published again", "what differs cannot be told", "yostel cache load FILE here"]);
    assert!(!sandbox.path("cache-far").exists(), "{}", said.stderr);
    // What the cache has goes on working, and a kit carries it there.
    project(&sandbox, "gust = \"^2\"", "rig = \"^0.9\"");
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "cache save ../kit.tar").expect(0);
    sandbox.run("far", "cache load ../kit.tar --cache ../cache-far").expect(0);
    sandbox.run("far", "install --cache ../cache-far").expect(0);
    // Whoever decides to take it gets it.
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.run("console", "install").expect(0);
    assert!(sandbox.read(&format!("{}/bin/gust-now", folder_of(&sandbox, "gust"))).contains("and a half"));
}

/// Runs the program without the power to pass over permissions, which root otherwise has.
fn run_unprivileged(sandbox: &Sandbox, words: &str) -> Option<Run> {
    let inner = sandbox.command("console", words);
    let root = Command::new("id").arg("-u").output().is_ok_and(|output| output.stdout == b"0\n");
    let mut command = if root { Command::new("unshare") } else { Command::new(inner.get_program()) };
    if root {
        if !Command::new("unshare").args(["--user", "true"]).status().is_ok_and(|status| status.success()) {
            return None;
        }
        command.arg("--user").arg(inner.get_program());
    }
    command.args(inner.get_args()).current_dir(sandbox.path("console")).env_clear();
    command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
    Some(sandbox.finish(&mut command))
}

#[test]
fn a_project_that_cannot_be_written_says_so_and_stays() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let before = sandbox.picture("console");
    fs::set_permissions(sandbox.path("console"), fs::Permissions::from_mode(0o555)).unwrap();
    for words in ["install", "add unit ^1", "lock --fresh"] {
        if words.starts_with("lock") {
            fs::set_permissions(sandbox.path("console"), fs::Permissions::from_mode(0o755)).unwrap();
            project(&sandbox, "gust = \"=2.0.0\"", "");
            fs::set_permissions(sandbox.path("console"), fs::Permissions::from_mode(0o555)).unwrap();
        }
        let Some(run) = run_unprivileged(&sandbox, words) else {
            eprintln!("skipped: this machine lets root not give up its powers");
            break;
        };
        run.expect(7).says(&["Permission denied", "next: get permission to write there"]);
    }
    fs::set_permissions(sandbox.path("console"), fs::Permissions::from_mode(0o755)).unwrap();
    let lock_of = |picture: &[String]| picture.iter().find(|line| line.starts_with("yostel.lock")).cloned();
    let after = sandbox.picture("console");
    assert_eq!(lock_of(&after), lock_of(&before));
    assert_eq!(after.len(), before.len(), "no file came or went");
}

#[test]
fn a_full_disk_stops_the_install_and_leaves_nothing_half_made() {
    let sandbox = sandbox();
    let noise: String =
        (0..400_000u32).map(|i| char::from(b'!' + (i.wrapping_mul(2_654_435_761) >> 26) as u8)).collect();
    crate::publish(&sandbox, "large 1.0.0", "", &[("noise.txt", &noise)]);
    project(&sandbox, "large = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    fs::create_dir(sandbox.path("small-disk")).unwrap();
    let script = "mount -t tmpfs -o size=200k tmpfs \"$1\" || exit 99; \"$2\" --cache \"$1/cache\" install; status=$?; find \"$1\" -type f; exit $status";
    let inner = sandbox.command("console", "");
    let mut command = Command::new("unshare");
    command.args(["--user", "--map-root-user", "--mount", "sh", "-c", script, "sh"]);
    command.arg(sandbox.path("small-disk")).arg(inner.get_program()).current_dir(sandbox.path("console"));
    command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let before = sandbox.picture("console");
    let run = sandbox.finish(&mut command);
    if run.status == 99 || run.stderr.contains("unshare failed") {
        eprintln!("skipped: this machine allows no mounts of one's own");
        return;
    }
    let run = run.expect(7).says(&[
        "No space left on device",
        "next: make room on that disk",
        "nothing was left half-written",
    ]);
    assert_eq!(run.stdout, "", "files left in the cache");
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn two_sources_with_one_name_want_to_hear_whose_it_is() {
    let sandbox = small_world();
    sandbox.run("", "registry create other").expect(0);
    sandbox.run("made/gust-2.1.0", "publish --to ../../other --untried").expect(0);
    let text = sandbox.read("console/yostel.toml") + "\n[sources.other]\nfolder = \"../other\"\n";
    sandbox.write("console/yostel.toml", &text);
    refused(&sandbox, "lock", 2, &["source other: gust is also in station", "reserves = [\"gust\"]"]);
    sandbox.write(
        "console/yostel.toml",
        text.replace("folder = \"../station\"", "folder = \"../station\"\nreserves = [\"gust\"]"),
    );
    sandbox.run("console", "lock").expect(0);
}

#[test]
fn a_link_in_the_place_of_the_installed_packages_is_not_followed() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    fs::create_dir(sandbox.path("elsewhere")).unwrap();
    std::os::unix::fs::symlink("../elsewhere", sandbox.path("console/.yostel")).unwrap();
    sandbox.run("console", "install").expect(7).says(&["it is a link or a file, where a folder should be", "next:"]);
    assert_eq!(fs::read_dir(sandbox.path("elsewhere")).unwrap().count(), 0);
}
