//! Archives made to do harm, in each of the formats: refused or tamed, as docs/formats.md §5 lists them, and nothing is
//! ever written outside the folder.

use std::fs;
use std::io::{Cursor, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use yostel_documents::Listing;
use yostel_store::{AdmitError, UnpackConfig, UnpackRefusal, unpack};
use zip::write::SimpleFileOptions;

/// One entry as a tar header or a zip directory tells it.
#[derive(Clone)]
pub(crate) struct Evil<'a> {
    path: &'a [u8],
    kind: tar::EntryType,
    mode: u32,
    content: &'a [u8],
}

pub(crate) fn file<'a>(path: &'a str, content: &'a str) -> Evil<'a> {
    Evil { path: path.as_bytes(), kind: tar::EntryType::Regular, mode: 0o644, content: content.as_bytes() }
}

pub(crate) fn link<'a>(path: &'a str, target: &'a str) -> Evil<'a> {
    Evil { kind: tar::EntryType::Symlink, ..file(path, target) }
}

pub(crate) fn folder(path: &str) -> Evil<'_> {
    Evil { kind: tar::EntryType::Directory, mode: 0o755, ..file(path, "") }
}

/// Writes headers byte by byte: the library's own writer refuses most of what is tried here.
pub(crate) fn tar_of(entries: &[Evil<'_>]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for entry in entries {
        if entry.path.len() > 100 {
            tar_entry(&mut bytes, b"././@LongLink", tar::EntryType::GNULongName, 0o644, b"", entry.path);
        }
        let name = &entry.path[..entry.path.len().min(100)];
        match entry.kind {
            tar::EntryType::Symlink | tar::EntryType::Link => {
                tar_entry(&mut bytes, name, entry.kind, entry.mode, entry.content, b"");
            }
            kind => tar_entry(&mut bytes, name, kind, entry.mode, b"", entry.content),
        }
    }
    bytes.extend([0; 1024]);
    bytes
}

pub(crate) fn tar_entry(
    bytes: &mut Vec<u8>,
    name: &[u8],
    kind: tar::EntryType,
    mode: u32,
    target: &[u8],
    content: &[u8],
) {
    let mut header = tar::Header::new_gnu();
    header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name);
    header.as_gnu_mut().unwrap().linkname[..target.len()].copy_from_slice(target);
    header.set_entry_type(kind);
    header.set_mode(mode);
    header.set_size(content.len() as u64);
    header.set_cksum();
    bytes.extend(header.as_bytes());
    bytes.extend(content);
    bytes.extend(vec![0; content.len().next_multiple_of(512) - content.len()]);
}

/// A link whose target is too long for a header, as GNU tar writes it.
fn long_link(target: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    tar_entry(&mut bytes, b"././@LongLink", tar::EntryType::GNULongLink, 0o644, b"", target.as_bytes());
    tar_entry(&mut bytes, b"way", tar::EntryType::Symlink, 0o777, b"", b"");
    bytes.extend([0; 1024]);
    bytes
}

pub(crate) fn zstd_of(bytes: &[u8]) -> Vec<u8> {
    zstd::encode_all(bytes, 1).unwrap()
}

pub(crate) fn gzip_of(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

/// Nothing where a zip file cannot say it.
pub(crate) fn zip_of(entries: &[Evil<'_>]) -> Option<Vec<u8>> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for entry in entries {
        let name = std::str::from_utf8(entry.path).ok()?;
        let options = SimpleFileOptions::default().unix_permissions(entry.mode);
        match entry.kind {
            tar::EntryType::Regular => {
                writer.start_file(name, options).ok()?;
                writer.write_all(entry.content).unwrap();
            }
            tar::EntryType::Symlink => {
                writer.add_symlink(name, std::str::from_utf8(entry.content).ok()?, options).ok()?;
            }
            tar::EntryType::Directory => writer.add_directory(name, options).ok()?,
            _ => return None,
        }
    }
    Some(writer.finish().unwrap().into_inner())
}

/// Unpacks into a folder inside another, and checks that only the one was written.
pub(crate) fn try_unpack(bytes: &[u8], config: UnpackConfig, look: impl FnOnce(&Path)) -> Result<Listing, AdmitError> {
    let outer = tempfile::tempdir().unwrap();
    fs::write(outer.path().join("outside"), "untouched").unwrap();
    let into = outer.path().join("in");
    fs::create_dir(&into).unwrap();
    let outcome = unpack(bytes, &into, config);
    look(&into);
    assert_eq!(fs::read_to_string(outer.path().join("outside")).unwrap(), "untouched");
    assert_eq!(fs::read_dir(outer.path()).unwrap().count(), 2, "nothing beside the folder");
    outcome
}

/// All formats that can tell these entries must come to the same refusal.
#[track_caller]
pub(crate) fn refused(what: &str, entries: &[Evil<'_>], as_this: impl Fn(&UnpackRefusal) -> bool) -> String {
    let tar = tar_of(entries);
    let mut said = String::new();
    for bytes in [Some(zstd_of(&tar)), Some(gzip_of(&tar)), zip_of(entries)].into_iter().flatten() {
        match try_unpack(&bytes, UnpackConfig::default(), |_| {}) {
            Err(AdmitError::Refused(refusal)) if as_this(&refusal) => said = refusal.to_string(),
            other => panic!("{what}: {other:?}"),
        }
    }
    assert!(!said.chars().any(char::is_control), "{what}: entry names are told escaped: {said:?}");
    said
}

#[test]
fn what_would_leave_the_folder_is_refused() {
    use UnpackRefusal::{BelowLink, Kind, Leaves, Link};
    for path in ["/etc/passwd", "../outside", "a/../../outside", "a/..", "./../outside"] {
        refused(path, &[file(path, "evil")], |refusal| matches!(refusal, Leaves(_)));
    }
    for target in ["/etc", "../outside", "a/../../outside", ""] {
        refused(target, &[link("way", target)], |refusal| matches!(refusal, Link { .. }));
    }
    let far = "a/".repeat(600);
    for bytes in zip_of(&[link("way", &far)]).into_iter().chain([gzip_of(&long_link(&far))]) {
        let refusal = try_unpack(&bytes, UnpackConfig::default(), |_| {});
        assert!(matches!(refusal, Err(AdmitError::Refused(UnpackRefusal::Name { .. }))), "{refusal:?}");
    }
    refused("a file through a link", &[folder("b"), link("way", "b"), file("way/c", "evil")], |refusal| {
        matches!(refusal, BelowLink(_))
    });
    refused("a link in place of a folder", &[file("b/c", ""), link("b", "d")], |refusal| {
        matches!(refusal, UnpackRefusal::Twice(..))
    });
    refused("a file below a file", &[file("b", ""), file("b/c", "")], |refusal| matches!(refusal, BelowLink(_)));
    for (kind, word) in [
        (tar::EntryType::Link, "a hard link"),
        (tar::EntryType::Fifo, "a pipe"),
        (tar::EntryType::Char, "a device"),
        (tar::EntryType::Block, "a device"),
        (tar::EntryType::new(b'V'), "of an unknown kind"),
    ] {
        let entry = Evil { kind, content: b"../outside", ..file("way", "") };
        refused(word, &[entry], |refusal| matches!(refusal, Kind { kind, .. } if *kind == word));
    }
    let sparse = Evil { kind: tar::EntryType::GNUSparse, ..file("holes", "") };
    refused("a sparse file", &[sparse], |refusal| matches!(refusal, Kind { .. } | UnpackRefusal::Malformed(_)));
}

#[test]
fn names_that_some_system_cannot_hold_or_tell_apart_are_refused() {
    use UnpackRefusal::{Name, Twice};
    let long = "n".repeat(256);
    let deep = "d/".repeat(600) + "x";
    for path in ["a\nb", "a\u{1b}[31mb", "a\\b", "a//b", "a/./b", &long, &deep, "a\u{7f}"] {
        let said = refused(path, &[file(path, "")], |refusal| matches!(refusal, Name { .. }));
        assert!(said.contains("cannot be named so"), "{said}");
    }
    refused("not UTF-8", &[Evil { path: b"a\xffb", ..file("", "") }], |r| {
        matches!(r, Name { reason: "it is not UTF-8", .. })
    });
    for (one, other) in [("a/Read", "a/read"), ("A/x", "a/y"), ("\u{c9}t\u{e9}", "\u{e9}t\u{e9}")] {
        refused(one, &[file(one, ""), file(other, "")], |refusal| matches!(refusal, Twice(..)));
    }
    // One name in two Unicode forms: composed, and letter with accent.
    refused("two forms", &[file("caf\u{e9}", "1"), file("cafe\u{301}", "2")], |refusal| matches!(refusal, Twice(..)));
    let twice = [file("a", "1"), file("a", "2")];
    for bytes in [zstd_of(&tar_of(&twice)), gzip_of(&tar_of(&twice))] {
        let refusal = try_unpack(&bytes, UnpackConfig::default(), |_| {});
        assert!(matches!(refusal, Err(AdmitError::Refused(Twice(..)))), "{refusal:?}");
    }
}

#[test]
fn rights_owners_and_times_are_tamed() {
    let entries = [
        Evil { mode: 0o6755, ..file("bin/root-me", "#!/bin/sh\n") },
        Evil { mode: 0o1777, ..file("sticky", "") },
        Evil { mode: 0o000, ..file("secret", "s") },
        folder("empty"),
        link("also", "bin/root-me"),
    ];
    let tar = tar_of(&entries);
    for bytes in [zstd_of(&tar), gzip_of(&tar), zip_of(&entries).unwrap()] {
        let listing = try_unpack(&bytes, UnpackConfig::default(), |into| {
            let mode = |path: &str| into.join(path).metadata().unwrap().permissions().mode() & 0o7777;
            assert_eq!((mode("bin/root-me"), mode("sticky"), mode("secret")), (0o555, 0o555, 0o444));
            assert_eq!(into.join("secret").metadata().unwrap().mtime(), 315_619_200);
        })
        .unwrap();
        assert_eq!(listing.entries.len(), 4, "empty folders do not count: {listing:?}");
    }
}

#[test]
fn a_bomb_is_refused_before_it_fills_anything() {
    let too_much = |outcome: Result<Listing, AdmitError>, word: &str| match outcome {
        Err(AdmitError::Refused(UnpackRefusal::TooMuch { unit, .. })) => assert_eq!(unit, word),
        other => panic!("{other:?}"),
    };
    // 10 GB of zeros in less than a megabyte: frames of zeros, one after the other.
    let mut head = Vec::new();
    let mut header = tar::Header::new_gnu();
    header.set_path("zeros").unwrap();
    header.set_size(10 << 30);
    header.set_cksum();
    head.extend(header.as_bytes());
    let mut bomb = zstd_of(&head);
    let zeros = zstd_of(&vec![0; 64 << 20]);
    (0..160).for_each(|_| bomb.extend(&zeros));
    assert!(bomb.len() < 1 << 20, "{}", bomb.len());
    too_much(
        try_unpack(&bomb, UnpackConfig::default(), |into| {
            assert!(!into.join("zeros").exists(), "not a byte of it was written");
        }),
        "bytes",
    );
    // Many files, each small enough, grow beyond what such an archive can honestly hold.
    let zeros = "\0".repeat(1 << 20);
    let names: Vec<String> = (0..100).map(|n| format!("zeros{n}")).collect();
    let many: Vec<Evil<'_>> = names.iter().map(|name| file(name, &zeros)).collect();
    let tar = tar_of(&many);
    let strict = UnpackConfig { growth: 1, ..UnpackConfig::default() };
    let lenient = UnpackConfig { growth: 1 << 20, ..strict };
    for bytes in [zstd_of(&tar), gzip_of(&tar), zip_of(&many).unwrap()] {
        too_much(try_unpack(&bytes, strict, |_| {}), "bytes");
        assert_eq!(try_unpack(&bytes, lenient, |_| {}).unwrap().entries.len(), 100);
    }
    // Files without number, and folders without number.
    let few = UnpackConfig { entries: 20, ..UnpackConfig::default() };
    let names: Vec<String> = (0..30).map(|n| format!("f{n}/")).collect();
    let folders: Vec<Evil<'_>> = names.iter().map(|name| folder(name)).collect();
    for entries in [&many[..30], &folders] {
        let small: Vec<Evil<'_>> = entries.iter().map(|entry| Evil { content: b"", ..entry.clone() }).collect();
        for bytes in [zstd_of(&tar_of(&small)), zip_of(&small).unwrap()] {
            too_much(try_unpack(&bytes, few, |_| {}), "files and folders");
        }
    }
    // The limit itself is within the limit.
    let just = UnpackConfig { entries: 30, ..UnpackConfig::default() };
    for bytes in [zstd_of(&tar_of(&folders)), zip_of(&folders).unwrap()] {
        try_unpack(&bytes, just, |_| {}).unwrap();
    }
    // A window that would take gigabytes of memory.
    let mut encoder = zstd::Encoder::new(Vec::new(), 1).unwrap();
    encoder.long_distance_matching(true).unwrap();
    encoder.window_log(28).unwrap();
    encoder.write_all(&tar_of(&[file("a", "a")])).unwrap();
    let wide = encoder.finish().unwrap();
    let refusal = try_unpack(&wide, UnpackConfig::default(), |_| {});
    assert!(matches!(refusal, Err(AdmitError::Refused(UnpackRefusal::Malformed(_)))), "{refusal:?}");
}

/// An entry with this header type and content, as `tar_entry` writes it.
fn raw(kind: u8, name: &[u8], content: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::new();
    tar_entry(&mut bytes, name, tar::EntryType::new(kind), 0o644, b"", content);
    bytes
}

fn remark(key: &str, value: &str) -> Vec<u8> {
    let rest = format!(" {key}={value}\n");
    let length = (rest.len()..).find(|length| length.to_string().len() + rest.len() == *length).unwrap();
    raw(b'x', b"remarks", format!("{length}{rest}").as_bytes())
}

#[test]
fn what_two_readers_could_take_for_two_things_is_refused() {
    let end = vec![0; 1024];
    let file = |name: &[u8]| raw(b'0', name, b"content");
    let long = |name: &[u8]| raw(b'L', b"././@LongLink", name);
    for (what, parts) in [
        ("two names", vec![long(b"one"), long(b"two"), file(b"x")]),
        ("a name told in two ways", vec![long(b"one"), remark("path", "two"), file(b"x")]),
        ("two sizes", vec![remark("size", "3"), file(b"x")]),
        ("a size below nothing", vec![remark("size", "-1"), file(b"x")]),
        ("a sparse file", vec![remark("GNU.sparse.major", "1"), file(b"x")]),
        ("a name for nothing", vec![file(b"x"), long(b"one")]),
        ("a name for everything", vec![raw(b'g', b"g", b"11 path=all\n"), file(b"x")]),
        ("a folder with content", vec![raw(b'5', b"d", b"content")]),
        ("a link with content", vec![raw(b'2', b"l", b"content")]),
    ] {
        let bytes = [parts.concat(), end.clone()].concat();
        let refusal = try_unpack(&gzip_of(&bytes), UnpackConfig::default(), |_| {});
        assert!(matches!(refusal, Err(AdmitError::Refused(_))), "{what}: {refusal:?}");
    }
    // What all take for the same is fine.
    let bytes = [remark("path", "named"), file(b"x"), remark("size", "7"), file(b"y"), end].concat();
    let listing = try_unpack(&gzip_of(&bytes), UnpackConfig::default(), |_| {}).unwrap();
    assert_eq!(listing.entries.keys().collect::<Vec<_>>(), ["named", "y"]);
}

#[test]
fn streams_that_are_cut_padded_or_followed_by_something_are_refused() {
    let entries = [file("a.txt", "some text, some more text"), file("b.txt", "other")];
    let tar = tar_of(&entries);
    for whole in [gzip_of(&tar), zip_of(&entries).unwrap()] {
        for length in 0..whole.len() {
            let outcome = try_unpack(&whole[..length], UnpackConfig::default(), |_| {});
            assert!(matches!(outcome, Err(AdmitError::Refused(_))), "{length} of {}: {outcome:?}", whole.len());
        }
        let followed = [&whole[..], b"and more"].concat();
        assert!(try_unpack(&followed, UnpackConfig::default(), |_| {}).is_err(), "data after its end");
    }
    let zip = zip_of(&entries).unwrap();
    let preceded = [b"#!/bin/sh\n", &zip[..]].concat();
    assert!(matches!(
        try_unpack(&preceded, UnpackConfig::default(), |_| {}),
        Err(AdmitError::Refused(UnpackRefusal::UnknownFormat))
    ));
    // A directory of the 64-bit kind could be of any length.
    let mut endless = zip.clone();
    let at = endless.len() - 12;
    endless[at..at + 2].copy_from_slice(&[0xff; 2]);
    let refusal = try_unpack(&endless, UnpackConfig::default(), |_| {});
    assert!(matches!(refusal, Err(AdmitError::Refused(UnpackRefusal::TooMuch { limit: 65_534, .. }))), "{refusal:?}");
    let hidden = [&tar[..], b"hidden after the end".as_slice()].concat();
    for bytes in [zstd_of(&hidden), gzip_of(&hidden)] {
        assert!(try_unpack(&bytes, UnpackConfig::default(), |_| {}).is_err());
    }
    let padded = [&tar[..], &[0; 10_240]].concat();
    assert_eq!(try_unpack(&gzip_of(&padded), UnpackConfig::default(), |_| {}).unwrap().entries.len(), 2);
    let mut lying = tar.clone();
    lying[124..135].copy_from_slice(b"00000077777");
    assert!(try_unpack(&zstd_of(&lying), UnpackConfig::default(), |_| {}).is_err(), "a size that is not so");
    for text in ["", "PK", "a page that says there is no such file"] {
        assert!(try_unpack(text.as_bytes(), UnpackConfig::default(), |_| {}).is_err());
    }
}

#[test]
fn the_same_files_are_the_same_tree_in_every_format() {
    let folder = tempfile::tempdir().unwrap();
    let entries =
        [Evil { mode: 0o755, ..file("bin/go", "#!/bin/sh\n") }, file("share/\u{fc}.txt", "text"), link("l", "bin")];
    let tar = tar_of(&entries);
    // What version control puts before the files says nothing of them.
    let mut remarked = Vec::new();
    tar_entry(&mut remarked, b"pax_global_header", tar::EntryType::XGlobalHeader, 0o644, b"", b"19 comment=1234567\n");
    remarked.extend(&tar);
    let all = [zstd_of(&tar), gzip_of(&tar), gzip_of(&remarked), zip_of(&entries).unwrap()];
    let trees: Vec<Listing> =
        all.iter().map(|bytes| try_unpack(bytes, UnpackConfig::default(), |_| {}).unwrap()).collect();
    assert!(trees.iter().all(|tree| *tree == trees[0] && tree.entries.len() == 3), "{trees:?}");
    // As other programs write them, where they are at hand.
    fs::create_dir_all(folder.path().join("in/share")).unwrap();
    fs::write(folder.path().join("in/share/a.txt"), "text").unwrap();
    let archive = folder.path().join("a.tar.gz");
    let made = std::process::Command::new("tar")
        .args(["-C"])
        .arg(folder.path().join("in"))
        .arg("-czf")
        .arg(&archive)
        .arg(".")
        .status();
    if made.is_ok_and(|status| status.success()) {
        let into = folder.path().join("out");
        fs::create_dir(&into).unwrap();
        let listing = unpack(&fs::read(&archive).unwrap(), &into, UnpackConfig::default()).unwrap();
        assert_eq!(listing.entries.keys().collect::<Vec<_>>(), ["share/a.txt"]);
    }
}
