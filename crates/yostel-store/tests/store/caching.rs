//! The cache and installs from it.

use std::fs;
use std::io::{self, Cursor, Read};
use std::os::unix::fs::{MetadataExt, PermissionsExt};

use yostel_documents::{ArchiveDigest, PackageName};
use yostel_store::{AdmitError, Cache, Project, PruneRule, TreeDifference, Trust, UnpackConfig};

use crate::{admit, packed, plan, tree_files};

#[test]
fn a_stream_that_breaks_lies_or_never_ends_leaves_nothing() {
    struct Breaking(usize);
    impl Read for Breaking {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            if self.0 == 0 {
                return Err(io::Error::other("the line went dead"));
            }
            let n = self.0.min(buffer.len());
            self.0 -= n;
            Ok(n)
        }
    }
    let folder = tempfile::tempdir().unwrap();
    let (bytes, artifact) = packed(&[("a", "a")]);
    let root = folder.path().join("cache");
    {
        let cache = Cache::open(&root);
        let broken = cache.stage_archive(&artifact, &mut Breaking(10), |_| {});
        assert!(matches!(broken, Err(AdmitError::Read { bytes: 10, .. })));
        let endless = cache.stage_archive(&artifact, &mut io::repeat(0), |_| {});
        assert!(matches!(endless, Err(AdmitError::ArchiveDiffers { .. })));
        let mut other = bytes.clone();
        other[0] ^= 1;
        let other = cache.stage_archive(&artifact, &mut Cursor::new(other), |_| {});
        assert!(matches!(other, Err(AdmitError::ArchiveDiffers { .. })));
        // Staged and not committed: thrown away.
        drop(cache.stage_archive(&artifact, &mut Cursor::new(&bytes), |_| {}).unwrap());
    }
    assert!(!root.exists());
}

#[test]
fn a_tree_that_was_touched_is_known_by_its_stamp_and_judged_by_its_content() {
    let folder = tempfile::tempdir().unwrap();
    let cache = Cache::open(folder.path());
    let (bytes, artifact) = packed(&[("share/a.txt", "a")]);
    admit(&cache, &bytes, &artifact);
    assert!(cache.is_tree_sound(artifact.tree));
    let file = tree_files(&cache, artifact.tree).join("share/a.txt");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
    assert!(cache.is_tree_sound(artifact.tree), "same content, other permissions of no account");
    fs::write(&file, "b").unwrap();
    assert!(!cache.is_tree_sound(artifact.tree));
    let staged = cache.stage_tree(&artifact, None, UnpackConfig::default(), None).unwrap();
    cache.commit(vec![], vec![staged]).unwrap();
    assert!(cache.is_tree_sound(artifact.tree));
    assert_eq!(fs::read_to_string(&file).unwrap(), "a");
    fs::write(tree_files(&cache, artifact.tree).with_file_name("listing"), "yostel-tree 1\n").unwrap();
    fs::remove_file(file.parent().unwrap().parent().unwrap().parent().unwrap().join("stamp")).unwrap();
    assert!(!cache.is_tree_sound(artifact.tree), "a listing that is not its own vouches for nothing");
}

#[test]
fn installing_again_does_nothing_and_a_change_is_seen() {
    let folder = tempfile::tempdir().unwrap();
    let cache = Cache::open(folder.path().join("cache"));
    let (bytes, artifact) = packed(&[("share/a.txt", "a"), ("b", "b")]);
    admit(&cache, &bytes, &artifact);
    let root = folder.path().join("project");
    fs::create_dir(&root).unwrap();
    let plan = plan("kit", &artifact);
    let project = Project::at(&root).unwrap();
    assert!(!project.is_current(&plan, &cache));
    let held = project.clone().hold(|| panic!("nobody else is here")).unwrap();
    let done = held.apply(&plan, &cache, || {}).unwrap();
    assert_eq!((done.placed.len(), done.copied), (1, 0));
    assert!(project.is_current(&plan, &cache));
    assert_eq!(project.inventory().unwrap(), plan.inventory());
    let link = root.join(".yostel/reach/projects/console/run/kit/b");
    assert_eq!(fs::read_to_string(&link).unwrap(), "b", "the link leads to the package");
    assert_eq!(held.apply(&plan, &cache, || {}).unwrap(), Default::default(), "a second time does nothing");

    fs::remove_file(&link).unwrap();
    assert!(!project.is_current(&plan, &cache));
    let report = project.verify(&plan, &cache, Trust::Nothing, || true).unwrap();
    assert_eq!(report, [(Some(PackageName::parse("kit").unwrap()), vec![TreeDifference::Missing("b".into())])]);
    let done = held.apply(&plan, &cache, || {}).unwrap();
    assert_eq!(done.replaced.len(), 1);
    assert!(project.verify(&plan, &cache, Trust::Nothing, || true).unwrap().is_empty());

    // Without the record the project is read instead of trusted, and nothing is placed anew.
    fs::remove_dir_all(folder.path().join("cache/projects")).unwrap();
    assert!(!project.is_current(&plan, &cache));
    assert_eq!(held.apply(&plan, &cache, || {}).unwrap(), Default::default());
    assert!(project.is_current(&plan, &cache));
}

#[test]
fn an_inventory_that_was_edited_is_no_inventory() {
    let (_, artifact) = packed(&[("a", "a")]);
    let text = plan("kit", &artifact).inventory().write();
    assert!(yostel_store::Inventory::parse(&text).is_some());
    assert!(yostel_store::Inventory::parse(&text.replace("kit", "kat")).is_none());
    assert!(yostel_store::Inventory::parse("{").is_none());
}

#[test]
fn without_hard_links_files_are_copied() {
    // The temporary folder of the system and shared memory are different file systems on most machines.
    let Ok(shared) = tempfile::tempdir_in("/dev/shm") else { return };
    let here = tempfile::tempdir().unwrap();
    let cache = Cache::open(shared.path());
    let (bytes, artifact) = packed(&[("a", "a")]);
    admit(&cache, &bytes, &artifact);
    if fs::hard_link(cache.root().join("archives/sha256").join(artifact.digest.to_hex()), here.path().join("probe"))
        .is_ok()
    {
        return;
    }
    let plan = plan("kit", &artifact);
    let held = Project::at(here.path()).unwrap().hold(|| true).unwrap();
    assert_eq!(held.apply(&plan, &cache, || {}).unwrap().copied, 1);
    assert!(held.project().is_current(&plan, &cache));
    assert!(held.project().verify(&plan, &cache, Trust::Nothing, || true).unwrap().is_empty());
}

/// Tells that it waits, the first time that it is asked.
fn tells_once(told: &std::sync::mpsc::Sender<&'static str>) -> impl FnMut() -> bool {
    let mut first = true;
    move || {
        if std::mem::take(&mut first) {
            told.send("waits").unwrap();
        }
        true
    }
}

#[test]
fn who_does_not_want_to_wait_any_longer_does_not() {
    let folder = tempfile::tempdir().unwrap();
    let cache = Cache::open(folder.path().join("cache"));
    let in_use = cache.use_with_others(|| true).unwrap();
    let wanted = [ArchiveDigest::of(b"one")];
    let claim = cache.claim(wanted, || true).unwrap();
    let mut asked = 0;
    let mut twice = || {
        asked += 1;
        asked < 3
    };
    let other = Cache::open(folder.path().join("cache"));
    assert!(other.claim(wanted, &mut twice).unwrap_err().is_stop());
    assert_eq!(asked, 3, "it is asked again and again");
    let rule = PruneRule { keep_under: Some(0), ..PruneRule::default() };
    assert!(other.prune(rule, || false).unwrap_err().is_stop());
    drop((claim, in_use));
    other.prune(rule, || false).unwrap();
}

#[test]
fn one_of_two_fetches_and_the_other_waits_until_it_is_there() {
    let folder = tempfile::tempdir().unwrap();
    let cache = |_: usize| Cache::open(folder.path().join("cache"));
    let wanted = [ArchiveDigest::of(b"one"), ArchiveDigest::of(b"two")];
    let claim = cache(0).claim(wanted, || panic!("nobody else is there")).unwrap();
    let (told, heard) = std::sync::mpsc::channel();
    std::thread::scope(|scope| {
        for i in 1..3 {
            let told = told.clone();
            let cache = cache(i);
            scope.spawn(move || {
                // In another order: whoever takes them all in the order of digests cannot block another for ever.
                let claim = cache.claim([wanted[1], wanted[0]], tells_once(&told)).unwrap();
                told.send("has it").unwrap();
                drop(claim);
            });
        }
        let soon = std::time::Duration::from_secs(20);
        assert_eq!((heard.recv_timeout(soon), heard.recv_timeout(soon)), (Ok("waits"), Ok("waits")));
        assert!(heard.try_recv().is_err(), "not before the first is done");
        drop(claim);
        assert_eq!((heard.recv_timeout(soon), heard.recv_timeout(soon)), (Ok("has it"), Ok("has it")));
    });
    let elsewhere = cache(3).claim([ArchiveDigest::of(b"three")], || panic!("another archive is no reason to wait"));
    drop(elsewhere.unwrap());
    assert!(!folder.path().join("cache/fetching").exists());
}

#[test]
fn a_prune_waits_for_those_who_use_the_cache_and_they_for_it() {
    let folder = tempfile::tempdir().unwrap();
    let (bytes, artifact) = packed(&[("a", "alpha")]);
    let cache = Cache::open(folder.path().join("cache"));
    admit(&cache, &bytes, &artifact);
    cache.note_use(("kit", "1.0.0", "station"), &artifact, folder.path(), 1_000_000).unwrap();
    let soon = std::time::Duration::from_secs(20);
    let first = cache.use_with_others(|| panic!("nobody prunes")).unwrap();
    let second = cache.use_with_others(|| panic!("others who use it are no reason to wait")).unwrap();
    let (told, heard) = std::sync::mpsc::channel();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let rule = PruneRule { keep_under: Some(0), ..PruneRule::default() };
            let pruned = Cache::open(cache.root()).prune(rule, tells_once(&told)).unwrap();
            assert_eq!((pruned.gone.len(), pruned.left, pruned.still_over), (1, 0, false));
            told.send("pruned").unwrap();
        });
        assert_eq!(heard.recv_timeout(soon), Ok("waits"));
        drop(first);
        assert!(
            heard.recv_timeout(std::time::Duration::from_millis(50)).is_err() && cache.has_archive(artifact.digest)
        );
        drop(second);
        assert_eq!(heard.recv_timeout(soon), Ok("pruned"));
    });
    assert!(!cache.has_archive(artifact.digest) && !cache.has_tree(artifact.tree));
}

#[test]
fn a_note_that_is_damaged_costs_a_name_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let (bytes, artifact) = packed(&[("a", "alpha")]);
    let cache = Cache::open(folder.path().join("cache"));
    admit(&cache, &bytes, &artifact);
    let named = || cache.entries().unwrap()[0].note.as_ref().map(|note| format!("{} {}", note.package, note.version));
    assert_eq!(named(), None, "nobody said what it is");
    let note = || cache.note_use(("kit", "1.0.0", "station"), &artifact, folder.path(), 1_000_000).unwrap();
    note();
    assert_eq!(named().as_deref(), Some("kit 1.0.0"));
    let entry = &cache.entries().unwrap()[0];
    assert_eq!((entry.used, entry.archive_bytes, entry.tree_bytes), (1_000_000, bytes.len() as u64, 5));
    let file = fs::read_dir(cache.root().join("notes")).unwrap().next().unwrap().unwrap().path();
    for damage in ["", "{", "[]", "{\"package\": 7}"] {
        fs::write(&file, damage).unwrap();
        assert_eq!(named(), None, "{damage}");
        assert!(cache.is_tree_sound(artifact.tree));
        note();
        assert_eq!(named().as_deref(), Some("kit 1.0.0"));
    }
}

#[test]
fn releases_share_the_files_they_have_in_common_and_no_damage() {
    let folder = tempfile::tempdir().unwrap();
    let cache = Cache::open(folder.path());
    let same = "the same in both\n".repeat(10);
    let releases = [
        packed(&[("bin/go", &same), ("notes.txt", "one"), ("moved.txt", "a")]),
        packed(&[("bin/go", &same), ("notes.txt", "two"), ("other.txt", "a")]),
        packed(&[("bin/go", &same), ("notes.txt", "two"), ("third.txt", "a")]),
    ];
    let take_in = |number: usize| {
        let (bytes, artifact) = &releases[number];
        let like = cache.latest_trees().unwrap().get("kit").copied();
        let archive = cache.stage_archive(artifact, &mut Cursor::new(bytes), |_| {}).unwrap();
        let tree = cache.stage_tree(artifact, Some(&archive), UnpackConfig::default(), like).unwrap();
        cache.commit(vec![archive], vec![tree]).unwrap();
        let version = format!("1.{number}.0");
        cache.note_use(("kit", &version, "station"), artifact, folder.path(), 1000 + number as i64).unwrap();
        tree_files(&cache, artifact.tree)
    };
    let inode = |files: &std::path::Path, path: &str| fs::metadata(files.join(path)).unwrap().ino();
    let (first, second) = (take_in(0), take_in(1));
    assert_eq!(inode(&first, "bin/go"), inode(&second, "bin/go"));
    assert_ne!(inode(&first, "notes.txt"), inode(&second, "notes.txt"));
    let stats = cache.stats().unwrap();
    assert_eq!((stats.tree_bytes, stats.tree_bytes_shared), (2 * (same.len() as u64 + 4), same.len() as u64));
    // What was used later keeps the file, so removing the earlier frees only what is its own.
    let bytes: Vec<u64> = cache.entries().unwrap().iter().map(|entry| entry.tree_bytes).collect();
    assert_eq!(bytes, [4, same.len() as u64 + 4]);
    // A file that was changed is changed in both, and goes into no third.
    let file = second.join("bin/go");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(&file, "X".repeat(same.len())).unwrap();
    let third = take_in(2);
    assert_eq!(fs::read_to_string(third.join("bin/go")).unwrap(), same);
    assert_eq!(inode(&third, "notes.txt"), inode(&second, "notes.txt"));
    assert!(cache.is_tree_sound(releases[2].1.tree));
    assert!(!cache.is_tree_sound(releases[0].1.tree) && !cache.is_tree_sound(releases[1].1.tree));
    // Each is made good from its own archive.
    for (_, artifact) in &releases[..2] {
        let like = cache.latest_trees().unwrap().get("kit").copied();
        let tree = cache.stage_tree(artifact, None, UnpackConfig::default(), like).unwrap();
        cache.commit(vec![], vec![tree]).unwrap();
    }
    assert!(cache.verify(|| true).unwrap().problems.is_empty());
    assert_eq!(inode(&first, "bin/go"), inode(&third, "bin/go"), "and shares again");
    // A file of the same content that anybody could have written is not one of ours.
    fs::set_permissions(third.join("bin/go"), fs::Permissions::from_mode(0o644)).unwrap();
    let tree = cache.stage_tree(&releases[0].1, None, UnpackConfig::default(), Some(releases[2].1.tree)).unwrap();
    assert_ne!(inode(tree.files().unwrap().path(), "bin/go"), inode(&third, "bin/go"));
}
