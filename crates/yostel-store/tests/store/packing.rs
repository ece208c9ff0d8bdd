//! Archives: deterministic out, suspicious in.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use proptest::prelude::*;
use yostel_store::{AdmitError, UnpackConfig, UnpackRefusal, unpack};

use crate::{compare, pack_to, packed, write_files};

#[test]
fn links_programs_and_files_survive_and_empty_folders_do_not() {
    let folder = tempfile::tempdir().unwrap();
    let (from, to) = (folder.path().join("in"), folder.path().join("out"));
    write_files(&from, &[("bin/run", "#!/bin/sh\n"), ("share/a b/ü.txt", "text")]);
    fs::set_permissions(from.join("bin/run"), fs::Permissions::from_mode(0o750)).unwrap();
    symlink("../share", from.join("bin/data")).unwrap();
    fs::create_dir(from.join("empty")).unwrap();
    let archive = folder.path().join("a.tar.zst");
    let made = pack_to(&from, &archive).unwrap();
    fs::create_dir(&to).unwrap();
    let listing = unpack(&fs::read(&archive).unwrap(), &to, UnpackConfig::default()).unwrap();
    assert_eq!(listing, made.listing);
    assert_eq!(listing.digest(), made.artifact.tree);
    let lines: Vec<String> =
        listing.write().lines().skip(1).map(|l| format!("{} {}", &l[..1], l.rsplit_once(' ').unwrap().1)).collect();
    assert_eq!(lines, ["l bin/data", "x bin/run", "f b/ü.txt"]);
    assert_eq!(to.join("bin/run").metadata().unwrap().permissions().mode() & 0o7777, 0o555);
    assert!(!to.join("empty").exists());
    assert!(compare(&to, &listing).is_empty());
    // What differs is told in the order of its paths, whatever it is.
    fs::write(to.join("a"), "extra").unwrap();
    fs::set_permissions(to.join("share/a b"), fs::Permissions::from_mode(0o755)).unwrap();
    fs::remove_file(to.join("share/a b/ü.txt")).unwrap();
    let differences = compare(&to, &listing);
    let paths: Vec<&str> = differences.iter().map(|one| one.path()).collect();
    assert_eq!(paths, ["a", "share/a b/ü.txt"]);
}

#[test]
fn a_bomb_is_stopped_at_the_limit() {
    let (bytes, _) = packed(&[("zeros", &"\0".repeat(3_000_000))]);
    assert!(bytes.len() < 2000);
    let to = tempfile::tempdir().unwrap();
    let small = UnpackConfig { bytes: 1_000_000, ..UnpackConfig::default() };
    let refused = unpack(&bytes, to.path(), small);
    assert!(
        matches!(refused, Err(AdmitError::Refused(UnpackRefusal::TooMuch { limit: 1_000_000, .. }))),
        "{refused:?}"
    );
    let (bytes, _) = packed(&[("a", ""), ("b", ""), ("c", "")]);
    let few = UnpackConfig { entries: 2, ..UnpackConfig::default() };
    let refused = unpack(&bytes, tempfile::tempdir().unwrap().path(), few);
    assert!(matches!(refused, Err(AdmitError::Refused(UnpackRefusal::TooMuch { unit: "files and folders", .. }))));
}

#[test]
fn every_cut_of_an_archive_is_refused() {
    let (bytes, _) = packed(&[("a.txt", "some text, some more text"), ("b.txt", "other")]);
    for length in 0..bytes.len() {
        let to = tempfile::tempdir().unwrap();
        let refused = unpack(&bytes[..length], to.path(), UnpackConfig::default());
        assert!(matches!(refused, Err(AdmitError::Refused(_))), "{length} of {}", bytes.len());
    }
    let mut longer = bytes.clone();
    longer.extend_from_slice(b"trailing");
    let refused = unpack(&longer, tempfile::tempdir().unwrap().path(), UnpackConfig::default());
    assert!(refused.is_err());
}

fn any_files() -> impl Strategy<Value = BTreeMap<String, Vec<u8>>> {
    let path = "[a-c]{1,2}(/[d-f]{1,2}){0,3}|[g-i]{60}/[j-l]{60}";
    prop::collection::btree_map(path, prop::collection::vec(any::<u8>(), 0..300), 0..8).prop_map(|files| {
        // A path cannot be both a file and a folder.
        let folders: Vec<String> = files.keys().cloned().collect();
        files
            .into_iter()
            .filter(|(path, _)| !folders.iter().any(|other| other.starts_with(&format!("{path}/"))))
            .collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn packing_is_deterministic_and_unpacking_gives_it_back(files in any_files()) {
        let folder = tempfile::tempdir().unwrap();
        let mut made = Vec::new();
        for (i, reversed) in [false, true].into_iter().enumerate() {
            let root = folder.path().join(format!("in{i}"));
            fs::create_dir(&root).unwrap();
            let mut order: Vec<_> = files.iter().collect();
            if reversed {
                order.reverse();
            }
            for (path, content) in order {
                let path = root.join(path);
                fs::create_dir_all(path.parent().unwrap()).unwrap();
                fs::write(path, content).unwrap();
            }
            let to = folder.path().join(format!("{i}.tar.zst"));
            made.push((pack_to(&root, &to).unwrap(), fs::read(&to).unwrap()));
        }
        prop_assert_eq!(&made[0].1, &made[1].1);
        prop_assert_eq!(&made[0].0.artifact, &made[1].0.artifact);
        let out = folder.path().join("out");
        fs::create_dir(&out).unwrap();
        let listing = unpack(&made[0].1, &out, UnpackConfig::default()).unwrap();
        prop_assert_eq!(listing.digest(), made[0].0.artifact.tree);
        for (path, content) in &files {
            prop_assert_eq!(&fs::read(out.join(path)).unwrap(), content);
        }
        prop_assert_eq!(listing.entries.len(), files.len());
    }

    #[test]
    fn a_damaged_archive_is_refused_or_gives_the_same_tree(at in 0usize..10_000, byte in any::<u8>()) {
        let (mut bytes, artifact) = packed(&[("a.txt", "some text, some more text"), ("bin/b", "other")]);
        let at = at % bytes.len();
        bytes[at] = byte;
        let outer = tempfile::tempdir().unwrap();
        let to = outer.path().join("in");
        fs::create_dir(&to).unwrap();
        if let Ok(listing) = unpack(&bytes, &to, UnpackConfig { window_log: 20, ..UnpackConfig::default() }) {
            // Without its checksum zstd lets a change of content pass; the digests are there for that.
            prop_assert!(listing.digest() == artifact.tree || compare(&to, &listing).is_empty());
        }
        prop_assert_eq!(fs::read_dir(outer.path()).unwrap().count(), 1, "nothing outside its folder");
    }
}
