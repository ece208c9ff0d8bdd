//! `install`, `verify`, `run`, `env`, `where`. The accident this prevents: two machines with other trees.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::time::SystemTime;

use crate::{digest_of, folder_of, project, publish, small_world, tamper};

#[test]
fn the_same_lock_gives_the_same_tree_everywhere_bit_for_bit() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let first = sandbox.run("console", "install").expect(0).stdout;
    assert!(first.contains("Installed 3 packages: 3 fetched"), "{first}");
    sandbox.write("far/yostel.toml", sandbox.read("console/yostel.toml"));
    sandbox.write("far/yostel.lock", sandbox.read("console/yostel.lock"));
    let second = sandbox.run("far", "install --cache ../cache-far").expect(0).stdout;
    assert_eq!(digest_of(&first), digest_of(&second));
    assert_eq!(sandbox.picture("console/.yostel"), sandbox.picture("far/.yostel"));
    assert_eq!(digest_of(&sandbox.run("far", "verify --cache ../cache-far").expect(0).stdout), digest_of(&first));
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    let third = sandbox.run("console", "install --offline").expect(0).stdout;
    assert!(third.contains("3 from the cache") && digest_of(&third) == digest_of(&first), "{third}");
    assert_eq!(sandbox.picture("console/.yostel"), sandbox.picture("far/.yostel"));
}

#[test]
fn files_are_shared_with_the_cache_and_read_only() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let program = sandbox.path(&folder_of(&sandbox, "gust")).join("bin/gust-now").metadata().unwrap();
    assert_eq!((program.nlink(), program.mode() & 0o777), (2, 0o555));
    let table = sandbox.path(&folder_of(&sandbox, "unit")).join("share/unit.txt").metadata().unwrap();
    assert_eq!((table.nlink(), table.mode() & 0o777, table.mtime()), (2, 0o444, 315_619_200));
}

#[test]
fn with_nothing_to_do_no_file_is_opened() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    // Content of the same length, with the old time put back: only who opens the file can tell.
    let path = sandbox.path(&folder_of(&sandbox, "gust")).join("bin/gust-now");
    let before = path.metadata().unwrap();
    let content = fs::read_to_string(&path).unwrap().replace("gust", "GUST");
    tamper(&sandbox, &format!("{}/bin/gust-now", folder_of(&sandbox, "gust")), &content);
    let file = fs::File::options().append(true).open(&path).unwrap();
    file.set_modified(SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(before.mtime().unsigned_abs())).unwrap();
    fs::set_permissions(&path, before.permissions()).unwrap();
    let told = sandbox.run("console", "install").expect(0).stdout;
    assert!(told.starts_with("3 packages installed; nothing to do."), "{told}");
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(told.contains("changed  bin/gust-now"), "{told}");
}

#[test]
fn what_was_changed_missing_or_extra_is_named_and_put_back() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let digest = digest_of(&sandbox.run("console", "install").expect(0).stdout);
    let good = sandbox.picture("console/.yostel");
    tamper(&sandbox, &format!("{}/bin/gust-now", folder_of(&sandbox, "gust")), "#!/bin/sh\necho 99\n");
    for file in ["share/a", "share/deep/b"] {
        fs::remove_file(sandbox.path(&format!("{}/{file}", folder_of(&sandbox, "rig")))).unwrap();
    }
    fs::create_dir(sandbox.path(&format!("{}/empty", folder_of(&sandbox, "rig")))).unwrap();
    sandbox.write(&format!("{}/share/new", folder_of(&sandbox, "unit")), "new");
    fs::remove_file(sandbox.path("console/.yostel/reach/projects/console/run/gust")).unwrap();
    let told = sandbox.run("console", "verify").expect(4).stdout;
    for line in [
        "6 files are not as the lockfile has them",
        "rig 0.9.0   extra    empty/",
        "gust 2.1.0  changed  bin/gust-now",
        "rig 0.9.0   missing  share/deep/b",
        "unit 1.1.0  extra    share/new",
        ".yostel     missing  reach/projects/console/run/gust",
        "rig 0.9.0   missing  share/a",
    ] {
        assert!(told.contains(line), "{line} in {told}");
    }
    let told = sandbox.run("console", "install").expect(0).stdout;
    assert!(told.contains("put back: gust 2.1.0 had been changed here (bin/gust-now)"), "{told}");
    assert!(told.contains("put back: the cache's copy of gust 2.1.0 had been changed"), "{told}");
    assert_eq!(digest_of(&told), digest);
    assert_eq!(sandbox.picture("console/.yostel"), good);
    sandbox.run("console", "cache verify").expect(0);
}

#[test]
fn an_install_moves_with_its_lock_and_leaves_nothing_of_the_old_one() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    project(&sandbox, "gust = \"^3\"", "");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "install").expect(0).stdout;
    assert!(told.contains("2 fetched") && told.contains("3 removed"), "{told}");
    let names: Vec<String> = sandbox
        .picture("console/.yostel/packages")
        .into_iter()
        .filter(|l| l.matches('/').count() == 2 && l.ends_with('/'))
        .collect();
    assert_eq!(names.len(), 2, "one folder per package: {names:?}");
    let links: Vec<String> =
        sandbox.picture("console/.yostel/reach").into_iter().filter(|line| line.contains("->")).collect();
    assert!(links[0].starts_with("projects/console/run/gust -> ../../../../packages/gust/3.0.0-"), "{links:?}");
    assert!(links[1].starts_with("releases/gust/3.0.0/run/unit -> ../../../../../packages/unit/2.0.0-"), "{links:?}");
    assert_eq!(links.len(), 2, "each sees only what it declared: {links:?}");
    sandbox.run("console", "verify").expect(0);
}

#[test]
fn a_command_runs_with_the_packages_and_its_own_exit_status() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "run -- gust-now").expect(6).says(&["not installed here", "next: yostel install"]);
    sandbox.run("console", "install").expect(0);
    let told = sandbox.run("console", "run -- gust-now --and -v").expect(0).stdout;
    assert_eq!(told, "gust 2.1.0 --and -v\n");
    sandbox.run("console", "run sh -c true").expect(0);
    let mut failing = sandbox.command("console", "run -- sh -c");
    assert_eq!(sandbox.finish(failing.arg("exit 42")).status, 42);
    sandbox.run("console", "run -- nowhere-to-be-found").expect(2).says(&["`nowhere-to-be-found` cannot be run"]);
    let exports = sandbox.run("console", "env").expect(0).stdout;
    assert!(exports.starts_with("export PATH='[SANDBOX]/console/.yostel/packages/gust/2.1.0-"), "{exports}");
    sandbox.run("console", "where gusr").expect(2).says(&["gusr is not part of this project", "gust exists"]);
}

#[test]
fn commands_work_from_any_folder_of_the_project() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    fs::create_dir_all(sandbox.path("console/src/deep")).unwrap();
    sandbox.run("console/src/deep", "install").expect(0);
    assert!(sandbox.path("console/.yostel/inventory.json").is_file());
    sandbox.run("", "-C console verify").expect(0);
    sandbox.run("", "verify").expect(2).says(&["there is no yostel.toml in [SANDBOX] or above it"]);
    sandbox.run("", "-C nowhere verify").expect(2).says(&["there is no folder [SANDBOX]/nowhere"]);
}

#[test]
fn an_archive_that_rotted_in_the_cache_is_fetched_anew() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    fs::remove_dir_all(sandbox.path("cache/trees")).unwrap();
    for entry in fs::read_dir(sandbox.path("cache/archives/sha256")).unwrap() {
        let path = entry.unwrap().path();
        let mut bytes = fs::read(&path).unwrap();
        bytes[60] ^= 1;
        fs::write(&path, bytes).unwrap();
    }
    let told = sandbox.run("console", "cache verify").expect(4).stdout;
    assert!(told.contains("3 problems in the cache") && !told.contains("by hand"), "{told}");
    let told = sandbox.run("console", "install").expect(0).stdout;
    assert!(told.contains("3 fetched"), "{told}");
    sandbox.run("console", "cache verify").expect(0);
    // What is nobody's is for whoever put it there.
    sandbox.write("cache/trees/mine/text", "mine");
    let told = sandbox.run("console", "cache verify").expect(4).stdout;
    assert!(
        told.contains("cache/trees/mine was not made by the cache, or cannot be read\nnext: remove by hand"),
        "{told}"
    );
    fs::remove_dir_all(sandbox.path("cache/trees/mine")).unwrap();
    sandbox.run("console", "cache verify").expect(0);
    sandbox.run("console", "verify").expect(0);
}

#[test]
fn packages_come_in_as_links_as_one_link_or_as_files_and_the_digest_is_the_same() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let digest = |words: &str| digest_of(&sandbox.run("console", words).expect(0).stdout);
    let folder = |name: &str| {
        let found = std::fs::read_dir(sandbox.path(&format!("console/.yostel/packages/{name}"))).unwrap();
        found.map(|entry| entry.unwrap().path()).next().unwrap()
    };
    let file = || folder("gust").join("yostel.toml");
    let linked = digest("install");
    assert!(file().metadata().unwrap().nlink() > 1);
    let told = sandbox.run("console", "install --self-contained").expect(0).stdout;
    assert!(told.contains("7 files of their own; nothing leads out of the project"), "{told}");
    assert_eq!(digest_of(&told), linked);
    assert_eq!((file().metadata().unwrap().nlink(), folder("gust").is_symlink()), (1, false), "a file of its own");
    assert_eq!(digest("install --whole-trees"), linked);
    assert!(folder("gust").is_symlink() && folder("gust").join("yostel.toml").is_file());
    assert!(sandbox.run("console", "install --whole-trees").expect(0).stdout.contains("nothing to do"));
    sandbox.run("console", "verify").expect(0);
    sandbox.run("console", "cache prune --keep-under 0B").expect(0);
    sandbox.run("console", "verify").expect(0);
    assert_eq!(digest("install"), linked);
    assert!(!folder("gust").is_symlink() && file().metadata().unwrap().nlink() > 1);
    // What is self-contained needs no cache.
    digest("install --self-contained");
    std::fs::remove_dir_all(sandbox.path("cache")).unwrap();
    sandbox.run("console", "verify").expect(0);
    sandbox.run("console", "install --self-contained --whole-trees").expect(2);
    // Nor may it lead into a cache that this one knows nothing of.
    sandbox.run("console", "--cache ../other install").expect(0);
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    sandbox.run("console", "--cache ../other install").expect(0);
    assert!(file().metadata().unwrap().nlink() > 1);
    digest("install --self-contained");
    assert_eq!(file().metadata().unwrap().nlink(), 1);
}

#[test]
fn a_quick_install_trusts_the_record_and_nothing_that_is_not_recorded() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let quick = || sandbox.run("console", "install --quick").expect(0).stdout;
    assert!(quick().starts_with("Installed 3 packages"), "nothing is recorded yet");
    let whole = sandbox.run("console", "install").expect(0).stdout;
    assert_eq!(quick(), whole);
    // A file that is gone is not missed by the quick one; by the other it is.
    let gust =
        std::fs::read_dir(sandbox.path("console/.yostel/packages/gust")).unwrap().next().unwrap().unwrap().path();
    std::fs::remove_file(gust.join("yostel.toml")).unwrap();
    assert_eq!(quick(), whole);
    assert!(sandbox.run("console", "install").expect(0).stdout.contains("put back"));
    // Another lockfile, another platform, another inventory, another way: each is looked at.
    sandbox.run("console", "install --platform linux/riscv64").expect(0);
    assert!(quick().contains("digest"));
    std::fs::remove_file(sandbox.path("console/.yostel/inventory.json")).unwrap();
    assert!(quick().starts_with("Installed 3 packages"));
    assert!(sandbox.run("console", "install --quick --self-contained").expect(0).stdout.starts_with("Installed 3"));
    project(&sandbox, "gust = \"=2.0.0\"\nrig = \"^0.9\"", "");
    sandbox.run("console", "install --quick").expect(6);
}

#[test]
fn verify_puts_back_exactly_what_is_broken_in_project_and_cache() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let installed = digest_of(&sandbox.run("console", "install").expect(0).stdout);
    let relative = format!("{}/yostel.toml", folder_of(&sandbox, "gust"));
    let file = sandbox.path(&relative);
    let (text, before) = (fs::read_to_string(&file).unwrap(), fs::metadata(&file).unwrap());
    // Same length, same time, through the hard link that the cache shares: only reading finds it.
    tamper(&sandbox, &relative, &text.replace("gust", "tsug"));
    fs::File::options().append(true).open(&file).unwrap().set_modified(before.modified().unwrap()).unwrap();
    fs::set_permissions(&file, before.permissions()).unwrap();
    assert!(sandbox.run("console", "install").expect(0).stdout.contains("nothing to do"));
    sandbox.run("console", "verify --quick").expect(0);
    // The cache's copy was changed with it, so what the file should hold is read from the archive.
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(told.contains("yostel.toml: changed\n"), "{told}");
    assert!(told.contains("2 - name = \"gust\"\n") && told.contains("  + name = \"tsug\"\n"), "{told}");
    let document: serde_json::Value =
        serde_json::from_str(&sandbox.run("console", "verify --format json").expect(4).stdout).unwrap();
    assert!(document["changes"][0]["patch"].as_str().unwrap().contains("-name = \"gust\"\n+name = \"tsug\""));
    sandbox.run("", "cache verify").expect(4);
    let told = sandbox.run("console", "verify --put-back").expect(0).stdout;
    assert!(told.contains("1 file is not as the lockfile has it") && told.contains("put back:"), "{told}");
    assert_eq!(digest_of(&told), installed);
    assert_eq!(fs::read_to_string(&file).unwrap(), text);
    sandbox.run("console", "verify").expect(0);
    sandbox.run("", "cache verify").expect(0);
    // What was touched by ordinary means, the quick one finds too, and reads no more than that package.
    fs::remove_file(sandbox.path(&format!("{}/share/unit.txt", folder_of(&sandbox, "unit")))).unwrap();
    let told = sandbox.run("console", "verify --quick").expect(4).stdout;
    assert!(
        told.contains("missing") && told.contains("share/unit.txt") && told.contains("verify --put-back"),
        "{told}"
    );
    sandbox.run("console", "verify --quick --put-back").expect(0);
    assert!(
        sandbox.run("console", "verify --put-back").expect(0).stdout.contains("every file is as the lockfile has it")
    );
}

#[test]
fn a_registry_may_hold_other_archives_than_publish_writes() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let digest = sandbox.run("console", "install").expect(0).stdout;
    // The same files of gust 2.1.0 in gzip and of unit 1.1.0 in a zip file, told by their documents.
    for (package, version, ending) in [("gust", "2.1.0", "tar.gz"), ("unit", "1.1.0", "zip")] {
        let document = sandbox.read(&format!("station/releases/{package}.json"));
        let mut document: serde_json::Value = serde_json::from_str(&document).unwrap();
        let releases = document["releases"].as_array_mut().unwrap();
        let release = releases.iter_mut().find(|release| release["record"]["version"] == version).unwrap();
        let artifact = &mut release["record"]["artifacts"][0];
        let old = artifact["digest"].as_str().unwrap().replace("sha256:", "");
        let old = sandbox.path(&format!("station/archives/sha256/{old}.tar.zst"));
        let tar = zstd::decode_all(fs::File::open(&old).unwrap()).unwrap();
        let bytes = if ending == "zip" { zip_of(&tar) } else { gzip_of(&tar) };
        let new = yostel_documents::ArchiveDigest::of(&bytes);
        sandbox.write(&format!("station/archives/sha256/{}.{ending}", new.to_hex()), &bytes);
        artifact["digest"] = new.to_string().into();
        artifact["size"] = bytes.len().into();
        fs::remove_file(old).unwrap();
        sandbox.write(&format!("station/releases/{package}.json"), document.to_string());
    }
    fs::remove_dir_all(sandbox.path("cache")).unwrap();
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    sandbox.run("console", "lock --fresh").expect(0);
    let again = sandbox.run("console", "install").expect(0).stdout;
    let line = |text: &str| text.lines().find(|line| line.contains("digest")).map(str::to_owned);
    assert_eq!(line(&again), line(&digest), "the same files, the same tree");
    sandbox.run("console", "verify").expect(0);
}

fn gzip_of(tar: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    std::io::Write::write_all(&mut encoder, tar).unwrap();
    encoder.finish().unwrap()
}

fn zip_of(tar: &[u8]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for entry in tar::Archive::new(tar).entries().unwrap() {
        let mut entry = entry.unwrap();
        let mode = entry.header().mode().unwrap();
        let options = zip::write::SimpleFileOptions::default().unix_permissions(mode);
        writer.start_file(entry.path().unwrap().to_str().unwrap(), options).unwrap();
        std::io::copy(&mut entry, &mut writer).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// Publishes `probe 1.0.0` for platforms, and `probe 1.1.0` for the first of them alone.
fn publish_by_platform(sandbox: &yostel_testkit::Sandbox, platforms: &[&str]) {
    for (version, platforms) in [("1.0.0", platforms), ("1.1.0", &platforms[..1])] {
        sandbox.write("made/probe/yostel.toml", format!("[project]\nname = \"probe\"\nversion = \"{version}\"\n"));
        for platform in platforms {
            sandbox.write("made/probe/share/made-for", platform);
            let told =
                sandbox.run("made/probe", &format!("publish --to ../../station --platform {platform}")).expect(0);
            assert!(told.stdout.contains(&format!("for {platform}")), "{}", told.stdout);
        }
    }
}

#[test]
fn one_lock_serves_the_listed_platforms_and_each_gets_its_own_files() {
    let sandbox = small_world();
    publish_by_platform(&sandbox, &["linux/amd64", "linux/arm64", "darwin/arm64"]);
    project(&sandbox, "probe = \"^1\"\nunit = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    let listing = |platforms: &str| {
        let line = format!("version = \"0.4.0\"\nplatforms = [{platforms}]");
        sandbox.write("console/yostel.toml", manifest.replace("version = \"0.4.0\"", &line));
    };
    listing("\"linux/amd64\", \"linux/arm64\"");
    sandbox.run("console", "lock").expect(0);
    let lock = sandbox.read("console/yostel.lock");
    assert!(lock.contains("name = \"probe\"\nversion = \"1.0.0\""), "1.1.0 has nothing for linux/arm64:\n{lock}");
    assert!(lock.contains("\"linux/arm64\"") && lock.contains("\"any\"") && !lock.contains("darwin"), "{lock}");
    for platform in ["linux/amd64", "linux/arm64"] {
        sandbox.run("console", &format!("install --platform {platform}")).expect(0);
        let probe = fs::read_dir(sandbox.path("console/.yostel/packages/probe")).unwrap().next().unwrap().unwrap();
        assert_eq!(fs::read_to_string(probe.path().join("share/made-for")).unwrap(), platform);
    }
    sandbox.run("console", "install --platform darwin/arm64").expect(2).says(&[
        "probe 1.0.0 is locked for linux/amd64 and linux/arm64, not for darwin/arm64",
        "list \"darwin/arm64\" in platforms of [project]",
        "or: yostel install --platform linux/amd64",
    ]);
    // Fewer is no reason to lock again; more is.
    listing("\"linux/arm64\"");
    sandbox.run("console", "install --platform linux/arm64").expect(0);
    listing("\"linux/arm64\", \"darwin/arm64\"");
    sandbox.run("console", "install").expect(6).says(&["probe 1.0.0 is not locked for darwin/arm64"]);
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("platforms") && told.contains("now for darwin/arm64, linux/arm64"), "{told}");
    listing("\"linux/riscv64\"");
    let told = ["1.1.0 and 1.0.0 offer nothing for linux/riscv64", "yostel.toml:4: platforms = "];
    sandbox.run("console", "lock").expect(3).says(&told);
    listing("\"any\"");
    sandbox.run("console", "lock").expect(2).says(&["`platforms` cannot be `any`"]);
}

#[test]
fn a_release_takes_one_more_platform_and_never_other_files() {
    let sandbox = small_world();
    publish_by_platform(&sandbox, &["linux/amd64", "linux/arm64"]);
    sandbox.write("made/probe/yostel.toml", "[project]\nname = \"probe\"\nversion = \"1.0.0\"\n");
    let publish = |platform: &str| sandbox.run("made/probe", &format!("publish --to ../../station {platform}"));
    sandbox.write("made/probe/share/made-for", "linux/arm64");
    assert!(publish("--platform linux/arm64").expect(0).stdout.contains("published already"));
    publish("--platform linux/amd64").expect(4).says(&["probe 1.0.0 is published already, and differs in its files"]);
    publish("").expect(4).says(&["differs in the platforms it is for"]);
    publish("--platform any").expect(2).says(&["without --platform, it fits any"]);
    publish("--platform Linux").expect(2).says(&["like `linux/amd64`"]);
    sandbox.write(
        "made/probe/yostel.toml",
        "[project]\nname = \"probe\"\nversion = \"1.0.0\"\n[needs.run]\nunit = \"^1\"\n",
    );
    publish("--platform darwin/arm64").expect(4).says(&["differs in what it needs or offers"]);
}

#[test]
fn a_container_says_once_that_it_wants_files_of_its_own() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let mut command = sandbox.command("console", "install");
    let told = sandbox.finish(command.env("YOSTEL_SELF_CONTAINED", "true")).expect(0).stdout;
    assert!(told.contains("of their own; nothing leads out of the project"), "{told}");
    let file = sandbox.path(&format!("{}/yostel.toml", folder_of(&sandbox, "gust")));
    assert_eq!(fs::metadata(file).unwrap().nlink(), 1);
}

#[test]
fn what_ships_holds_nothing_that_only_tests_need() {
    let sandbox = small_world();
    // The test package brings something of its own, and its own tests would need more.
    publish(&sandbox, "probe 1.0.0", "", &[("share/probe", "p")]);
    sandbox.write(
        "made/rig/yostel.toml",
        "[project]\nname = \"rig\"\nversion = \"0.9.5\"\n[needs.run]\nprobe = \"^1\"\nunit = \"^1\"\n[needs.test]\n\"valley/bell\" = \"^1\"\n",
    );
    sandbox.run("made/rig", "publish --to ../../station").expect(0);
    sandbox.run("console", "lock").expect(0);
    assert!(!sandbox.read("console/yostel.lock").contains("valley/bell"), "tests of a package are its author's affair");
    let installed = |sandbox: &yostel_testkit::Sandbox| {
        let entries = fs::read_dir(sandbox.path("console/.yostel/packages")).unwrap();
        let mut names: Vec<String> = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    };
    sandbox.run("console", "install --for run").expect(0);
    assert_eq!(installed(&sandbox), ["gust", "unit"]);
    assert!(!sandbox.path("console/.yostel/reach/projects/console/test").exists());
    // What looks at the install knows what it is for.
    let verified = sandbox.run("console", "verify").expect(0).stdout;
    assert!(verified.starts_with("2 packages verified"), "{verified}");
    assert_eq!(sandbox.run("console", "run -- gust-now").expect(0).stdout, "gust 2.1.0\n");
    sandbox.run("console", "where rig").expect(6).says(&["not installed here"]);
    assert!(
        sandbox.run("console", "install --for run --quick").expect(0).stdout.contains("2 packages installed; nothing")
    );
    sandbox.run("console", "install --for test").expect(0);
    assert_eq!(installed(&sandbox), ["probe", "rig", "unit"]);
    sandbox.run("console", "install --for run --for test").expect(0);
    assert_eq!(installed(&sandbox), ["gust", "probe", "rig", "unit"]);
    assert!(
        sandbox.run("console", "install --quick").expect(0).stdout.starts_with("4 packages installed; nothing to do")
    );
    sandbox.run("console", "install --for tests").expect(2).says(&[
        "the project needs nothing for tests",
        "it has needs for run and test",
        "test exists",
    ]);
}
