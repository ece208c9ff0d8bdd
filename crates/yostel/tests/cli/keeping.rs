//! `cache list` and `cache prune`: who uses what, and what goes without harm to anyone.
//! The accident this prevents: room is made, and somebody's install is broken by it.

use std::os::unix::fs::PermissionsExt;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{nothing_in_cache, project, sealed, small_world};

/// Runs at a day, counted from the day on which everything was published.
fn on_day(sandbox: &Sandbox, day: u64, folder: &str, words: &str) -> String {
    let mut command = sandbox.command(folder, words);
    sandbox.finish(command.env("SOURCE_DATE_EPOCH", (1_790_000_000 + day * 86_400).to_string())).expect(0).stdout
}

fn releases(told: &str, list: &str) -> Vec<String> {
    let value: Value = serde_json::from_str(told).unwrap();
    let name = |entry: &Value| format!("{} {}", entry["package"].as_str().unwrap(), entry["version"].as_str().unwrap());
    value[list].as_array().unwrap().iter().map(name).collect()
}

/// A project that used gust 2.1.0 at first and uses gust 2.0.0 from day 10 on.
fn moved_on() -> Sandbox {
    let sandbox = small_world();
    on_day(&sandbox, 0, "console", "lock");
    on_day(&sandbox, 0, "console", "install");
    project(&sandbox, "gust = \"=2.0.0\"\nrig = \"^0.9\"", "");
    on_day(&sandbox, 10, "console", "lock");
    on_day(&sandbox, 10, "console", "install");
    sandbox
}

#[test]
fn the_list_says_who_brought_what_and_who_uses_it() {
    let sandbox = moved_on();
    let told = on_day(&sandbox, 12, "console", "cache list");
    let line = |start: &str| told.lines().find(|line| line.trim_start().starts_with(start)).unwrap_or(&told).to_owned();
    assert!(line("gust     2.0.0").contains("2 days ago   console"), "{told}");
    assert!(line("gust     2.1.0").contains("12 days ago  nobody"), "{told}");
    assert_eq!(on_day(&sandbox, 12, "console", "cache list gust").lines().count(), 3);
    // What is known of an archive is no part of it: it may be lost, and comes back.
    std::fs::remove_dir_all(sandbox.path("cache/notes")).unwrap();
    assert!(on_day(&sandbox, 12, "console", "cache list").contains("(archive)"));
    std::fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    on_day(&sandbox, 12, "console", "install");
    let told = on_day(&sandbox, 12, "console", "--format json cache list gust");
    assert_eq!(releases(&told, "entries"), ["gust 2.0.0"], "of the other nobody knows any more what it is");
}

#[test]
fn what_lay_unused_goes_and_what_a_project_uses_stays() {
    let sandbox = moved_on();
    let before = sandbox.picture("cache");
    let told = on_day(&sandbox, 40, "console", "--format json cache prune --unused-for 30d --preview");
    assert_eq!(releases(&told, "gone"), ["gust 2.1.0"]);
    assert_eq!(sandbox.picture("cache"), before, "looking removes nothing");
    let told = on_day(&sandbox, 20, "console", "cache prune --unused-for 30d");
    assert!(told.starts_with("Nothing to remove; "), "{told}");
    let told = on_day(&sandbox, 40, "console", "cache prune --unused-for 30d");
    assert!(told.starts_with("1 release removed, ") && told.contains("last used 40 days ago"), "{told}");
    sandbox.run("", "cache verify").expect(0);
    // The rest is in use, however old it is and however little may be kept.
    let told = on_day(&sandbox, 400, "console", "--format json cache prune --unused-for 1d --keep-under 0B");
    assert!(releases(&told, "gone").is_empty() && told.contains("\"still-over\": true"), "{told}");
    sandbox.run("console", "verify").expect(0);
    // A project that is gone uses nothing.
    std::fs::remove_dir_all(sandbox.path("console")).unwrap();
    let told = on_day(&sandbox, 400, "", "--format json cache prune --keep-under 0B");
    assert_eq!(releases(&told, "gone").len(), 3);
    assert!(told.contains("\"left-bytes\": 0"), "{told}");
}

#[test]
fn the_least_recently_used_go_first() {
    let sandbox = moved_on();
    std::fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    std::fs::rename(sandbox.path("console"), sandbox.path("elsewhere")).unwrap();
    let told = on_day(&sandbox, 12, "", "--format json cache list");
    let entries: Value = serde_json::from_str(&told).unwrap();
    let bytes = |e: &Value| e["archive-bytes"].as_u64().unwrap() + e["tree-bytes"].as_u64().unwrap();
    let all: u64 = entries["entries"].as_array().unwrap().iter().map(bytes).sum();
    let told = on_day(&sandbox, 12, "", &format!("--format json cache prune --keep-under {}B", all - 1));
    assert_eq!(releases(&told, "gone"), ["gust 2.1.0"]);
    sandbox.run("", "cache prune").expect(2).says(&["--unused-for", "--keep-under"]);
    sandbox.run("", "cache prune --preview").expect(2).says(&["--unused-for"]);
    sandbox.run("", "cache prune --keep-under 10").expect(2).says(&["10GiB"]);
    sandbox.run("", "cache prune --unused-for soon").expect(2).says(&["30d"]);
}

#[test]
fn a_prune_beside_installs_breaks_none_of_them() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for i in 0..3 {
        for file in ["yostel.toml", "yostel.lock"] {
            sandbox.write(&format!("copy{i}/{file}"), sandbox.read(&format!("console/{file}")));
        }
    }
    let spawn = |folder: &str, words: &str| {
        let mut command = sandbox.command(folder, words);
        command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap()
    };
    for _ in 0..8 {
        (0..3).for_each(|i| drop(std::fs::remove_dir_all(sandbox.path(&format!("copy{i}/.yostel")))));
        let mut children: Vec<_> = (0..3).map(|i| spawn(&format!("copy{i}"), "install")).collect();
        children.extend((0..3).map(|_| spawn("", "cache prune --keep-under 0B")));
        for mut child in children {
            assert!(child.wait().unwrap().success());
        }
        (0..3).for_each(|i| drop(sandbox.run(&format!("copy{i}"), "verify").expect(0)));
        sandbox.run("", "cache verify").expect(0);
    }
}

/// A second machine: the same project and no sources.
fn elsewhere(sandbox: &Sandbox) -> Sandbox {
    let other = Sandbox::new(env!("CARGO_BIN_EXE_yostel"));
    for file in ["yostel.toml", "yostel.lock"] {
        other.write(&format!("console/{file}"), sandbox.read(&format!("console/{file}")));
    }
    std::fs::copy(sandbox.path("kit.tar"), other.path("kit.tar")).unwrap();
    other
}

#[test]
fn a_kit_tells_what_it_cannot_carry_and_is_refused_when_it_must_be_complete() {
    let sandbox = small_world();
    sandbox.write("hook/yostel.toml", "[project]\nname = \"hook\"\nversion = \"1.0.0\"\n");
    sandbox.run("console", "add hook --path ../hook").expect(0);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "cache save --complete ../kit.tar").expect(2).says(&["only this machine has hook"]);
    assert!(!sandbox.path("kit.tar").exists());
    let told = sandbox.run("console", "cache save ../kit.tar").expect(0).stdout;
    assert!(
        told.contains("3 archives and") && told.contains("note: hook is not inside: it is the folder ../hook\n"),
        "{told}"
    );
    let told = sandbox.run("console", "--format json cache save ../kit.tar").expect(0).stdout;
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!(told["left-out"][0]["folder"], "../hook");
    sandbox.run("console", "remove hook").expect(0);
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "cache save --complete ../kit.tar").expect(0).stdout;
    assert!(!told.contains("note:"), "{told}");
}

#[test]
fn a_kit_carries_everything_to_a_machine_without_a_network() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "cache save --offline ../kit.tar").expect(5).says(&["the cache does not hold", "gust"]);
    assert!(!sandbox.path("kit.tar").exists());
    let told = sandbox.run("console", "cache save ../kit.tar").expect(0).stdout;
    assert!(told.starts_with("3 archives and the lockfile saved in "), "{told}");
    let first = std::fs::read(sandbox.path("kit.tar")).unwrap();
    sandbox.run("console", "cache save --offline ../kit.tar").expect(0);
    let mode = std::fs::metadata(sandbox.path("kit.tar")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o644, "others may carry it too");
    sandbox.run("console", "cache save /dev/null/kit.tar").expect(7).says(&["error: cannot write in /dev/null"]);
    assert!(first == std::fs::read(sandbox.path("kit.tar")).unwrap(), "the same lockfile, the same bytes");
    let here = crate::digest_of(&sandbox.run("console", "install").expect(0).stdout);
    let other = elsewhere(&sandbox);
    other.run("console", "install --offline").expect(5);
    let load = || other.run("", "cache load kit.tar").expect(0).stdout;
    assert_eq!(load(), "3 archives loaded, all new.\nnext: in the project, yostel install --offline\n");
    assert_eq!(crate::digest_of(&other.run("console", "install --offline").expect(0).stdout), here);
    assert!(load().contains("the cache had them all"));
    assert!(other.run("", "cache list").expect(0).stdout.contains("kit.tar"), "who brought it");
}

#[test]
fn a_kit_is_what_the_open_format_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "cache save ../kit.tar").expect(0);
    let mut files = std::collections::BTreeMap::new();
    let mut kit = tar::Archive::new(std::fs::File::open(sandbox.path("kit.tar")).unwrap());
    for entry in kit.entries().unwrap() {
        let mut entry = entry.unwrap();
        let mut content = Vec::new();
        std::io::Read::read_to_end(&mut entry, &mut content).unwrap();
        files.insert(entry.path().unwrap().display().to_string(), content);
    }
    let json = |path: &str| serde_json::from_slice::<Value>(&files[path]).unwrap();
    let blob = |descriptor: &Value| {
        let path = format!("blobs/{}", descriptor["digest"].as_str().unwrap().replace(':', "/"));
        assert_eq!(descriptor["size"].as_u64().unwrap(), files[&path].len() as u64);
        path
    };
    assert_eq!(json("oci-layout")["imageLayoutVersion"], "1.0.0");
    let index = json("index.json");
    assert_eq!((&index["schemaVersion"], index["manifests"].as_array().unwrap().len()), (&2.into(), 1));
    let manifest = json(&blob(&index["manifests"][0]));
    assert_eq!(files[&blob(&manifest["config"])], b"{}");
    let layers = manifest["layers"].as_array().unwrap();
    layers.iter().for_each(|layer| drop(blob(layer)));
    assert_eq!(files[&blob(&layers[0])], std::fs::read(sandbox.path("console/yostel.lock")).unwrap());
    assert_eq!(files.len(), 2 + 2 + layers.len(), "nothing else is in it");
}

#[test]
fn a_damaged_kit_is_refused_and_leaves_the_cache_as_it_was() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "cache save ../kit.tar").expect(0);
    let other = elsewhere(&sandbox);
    let whole = std::fs::read(other.path("kit.tar")).unwrap();
    let find = |text: &[u8]| whole.windows(text.len()).position(|window| window == text).unwrap();
    let with = |at: usize, byte: u8| {
        let mut kit = whole.clone();
        kit[at] ^= byte;
        kit
    };
    let zstd = find(&[0x28, 0xb5, 0x2f, 0xfd]);
    for (kit, said) in [
        (with(zstd + 20, 1), "has digest"),
        (with(find(b"schemaVersion") + 2, 1), "it is not a whole kit"),
        (whole[..whole.len() / 2].to_vec(), "cannot be used"),
        (b"no kit at all".to_vec(), "it is not a whole kit"),
        (Vec::new(), "it has no index.json"),
    ] {
        other.write("kit.tar", kit);
        other.run("", "cache load kit.tar").expect(4).says(&[said, "the cache is as it was"]);
        assert!(!other.path("cache").exists(), "{said}");
    }
    other.run("", "cache load nothing.tar").expect(7);
}

/// A kit made by hand: files by path, in this order.
fn kit_of(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut kit = tar::Builder::new(Vec::new());
    for (path, content) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(content.len() as u64);
        header.set_mode(0o644);
        // As an attacker would: past the checks of whoever writes archives.
        header.as_gnu_mut().unwrap().name[..path.len()].copy_from_slice(path.as_bytes());
        header.set_cksum();
        kit.append(&header, *content).unwrap();
    }
    kit.into_inner().unwrap()
}

fn digest(content: &[u8]) -> String {
    yostel_documents::ArchiveDigest::of(content).to_string()
}

/// A kit around a manifest with these layers, with these blobs beside it.
fn kit_with(artifact_type: &str, layers: &Value, blobs: &[&[u8]]) -> Vec<u8> {
    let manifest =
        serde_json::json!({ "schemaVersion": 2, "artifactType": artifact_type, "layers": layers }).to_string();
    let index = serde_json::json!({
        "schemaVersion": 2,
        "manifests": [{
            "mediaType": "application/vnd.oci.image.manifest.v1+json",
            "digest": digest(manifest.as_bytes()), "size": manifest.len(),
        }],
    })
    .to_string();
    let path = |content: &[u8]| format!("blobs/{}", digest(content).replace(':', "/"));
    let blobs: Vec<(String, &[u8])> = blobs.iter().map(|blob| (path(blob), *blob)).collect();
    let manifest_path = path(manifest.as_bytes());
    let mut files: Vec<(&str, &[u8])> = blobs.iter().map(|(path, blob)| (path.as_str(), *blob)).collect();
    // The index may come last: any order will do.
    files.push((&manifest_path, manifest.as_bytes()));
    files.push(("index.json", index.as_bytes()));
    kit_of(&files)
}

#[test]
fn a_kit_with_evil_in_it_is_refused_and_leaves_no_trace() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let lock = sandbox.read("console/yostel.lock").into_bytes();
    let lock_layer_of = |lock: &[u8]| {
        serde_json::json!({
            "mediaType": "application/vnd.yostel.lock.v1+toml", "digest": digest(lock), "size": lock.len(),
        })
    };
    let lock_layer = lock_layer_of(&lock);
    // A lockfile with one more artifact, which has this content.
    let lock_with = |content: &[u8]| {
        let text = String::from_utf8(lock.clone()).unwrap();
        let (size, digest, tree) = (content.len(), digest(content), digest(b"tree"));
        let more = format!("{{ platform = \"vax/vms\", size = {size}, digest = \"{digest}\", tree = \"{tree}\" }},");
        sealed(&text.replacen("artifacts = [\n", &format!("artifacts = [\n  {more}\n"), 1)).into_bytes()
    };
    let archive_layer = |content: &[u8]| {
        serde_json::json!({
            "mediaType": "application/vnd.yostel.archive.v1", "digest": digest(content), "size": content.len(),
            "annotations": {
                "yostel.package": "gust", "yostel.version": "9.9.9", "yostel.platform": "vax/vms", "yostel.from": "station",
                "yostel.tree": digest(b"tree"),
            },
        })
    };
    let kit = "application/vnd.yostel.kit.v1";
    let with_gone = lock_with(b"gone");
    let evil: [(Vec<u8>, &str); 8] = [
        (kit_of(&[("blobs/sha256/../../../evil", b"evil")]), "is not a digest"),
        (kit_of(&[("index.json", b"{\"schemaVersion\": 2, \"manifests\": []}")]), "it should have one manifest"),
        (
            kit_with("application/vnd.other.v1", &serde_json::json!([lock_layer]), &[&lock]),
            "an image of something else",
        ),
        (kit_with(kit, &serde_json::json!([]), &[]), "it has no lockfile"),
        (kit_with(kit, &serde_json::json!([lock_layer]), &[]), "is missing"),
        (
            kit_with(kit, &serde_json::json!([lock_layer_of(&with_gone), archive_layer(b"gone")]), &[&with_gone]),
            "is missing",
        ),
        (
            kit_with(kit, &serde_json::json!([lock_layer, archive_layer(b"one")]), &[&lock, b"one"]),
            "its lockfile has no blob",
        ),
        (
            kit_with(
                kit,
                &serde_json::json!([{ "mediaType": "application/vnd.yostel.lock.v1+toml", "digest": digest(b"no lock"), "size": 7 }]),
                &[b"no lock"],
            ),
            "its lockfile",
        ),
    ];
    for (kit, said) in evil {
        sandbox.write("kit.tar", kit);
        sandbox.run("", "cache load kit.tar").expect(4).says(&[said, "the cache is as it was"]);
        assert!(nothing_in_cache(&sandbox) && !sandbox.path("evil").exists(), "{said}");
    }
    // What is beside the point is passed over; a blob that nobody names is not taken in.
    let with_one = lock_with(b"one");
    let layers = serde_json::json!([lock_layer_of(&with_one), archive_layer(b"one"), { "mediaType": "text/plain", "digest": digest(b"x"), "size": 1 }]);
    sandbox.write("kit.tar", kit_with(kit, &layers, &[&with_one, b"one", b"stowaway"]));
    sandbox.run("", "cache load kit.tar").expect(0);
    let told = sandbox.run("", "--format json cache list").expect(0).stdout;
    assert_eq!(releases(&told, "entries"), ["gust 9.9.9"]);
    // It is no archive, whatever the kit calls it; but who asks for that digest gets what has that digest.
    sandbox.run("", "cache verify").expect(0);
}

#[test]
fn what_projects_share_is_counted_for_what_they_have_and_not_for_copies() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let shared = |sandbox: &Sandbox| {
        let told = sandbox.run("", "cache stats --format json").expect(0).stdout;
        serde_json::from_str::<Value>(&told).unwrap()["shared-bytes"].as_u64().unwrap()
    };
    sandbox.run("console", "install").expect(0);
    let whole = shared(&sandbox);
    sandbox.run("console", "install --for test").expect(0);
    assert!(shared(&sandbox) < whole && shared(&sandbox) > 0);
    sandbox.run("console", "install").expect(0);
    // A changed package counts once, not with the release that it is made from.
    sandbox.run("console", "alter rig").expect(0);
    sandbox.write("console/altered/rig/share/a", "ab");
    sandbox.run("console", "alter rig --keep --why longer").expect(0);
    assert_eq!(shared(&sandbox), whole + 1);
    sandbox.run("console", "install --self-contained").expect(0);
    assert_eq!(shared(&sandbox), 0);
}
