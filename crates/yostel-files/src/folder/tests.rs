//! Folders that are held, and what is reached from them.

use std::os::unix::fs::symlink;

use rustix::io::Errno;

use super::*;

#[test]
fn nothing_is_reached_through_a_link_by_either_way_of_opening() {
    let world = tempfile::tempdir().unwrap();
    let at = |path: &str| world.path().join(path);
    std::fs::create_dir_all(at("root/a/b")).unwrap();
    std::fs::create_dir_all(at("outside/b")).unwrap();
    for path in ["root/a/b/file", "outside/b/file", "outside/file"] {
        std::fs::write(at(path), path).unwrap();
    }
    symlink("../outside", at("root/way")).unwrap();
    symlink("a", at("root/inside")).unwrap();
    symlink("../../../outside/file", at("root/a/b/link")).unwrap();
    // The folder itself is reached as its user names it.
    symlink("root", at("named")).unwrap();
    let root = Folder::open(&at("named")).unwrap();
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    for (path, reached) in [
        ("a/b/file", true),
        ("a/b", true),
        ("way/file", false),
        ("way/b/file", false),
        ("inside/b/file", false),
        ("a/b/link", false),
        ("way", false),
        ("a/b/file/below", false),
        ("a/none", false),
    ] {
        let path = Path::new(path);
        assert_eq!(root.open_below(path, flags, Mode::empty()).is_ok(), reached, "{}", path.display());
        assert_eq!(
            step_by_step(&root.handle, path, flags, Mode::empty()).is_ok(),
            reached,
            "{}, by steps",
            path.display()
        );
    }
    for path in ["", "/", "..", "a/../a/b/file", "./a", "/etc/hostname"] {
        assert!(root.open_below(Path::new(path), flags, Mode::empty()).is_err(), "{path:?}");
    }
    assert_eq!(root.read_link("way").unwrap(), "../outside");
    // What is removed is the link, and what is made is made beside it.
    root.remove("way").unwrap();
    assert!(at("outside/file").is_file() && !root.exists("way"));
    symlink("../outside", at("root/way")).unwrap();
    assert!(root.make_folders("way/new").is_err() && root.write_loosely("way/new", "").is_err());
    assert!(root.write_atomically("way/file", b"evil").is_err() && root.write_atomically("a/b/link", b"evil").is_err());
    assert_eq!(std::fs::read_to_string(at("outside/file")).unwrap(), "outside/file");
    root.remove("a").unwrap();
    assert!(at("outside/b/file").is_file());
}

#[test]
fn a_limit_of_a_mebibyte_is_told_as_one() {
    let world = tempfile::tempdir().unwrap();
    let path = world.path().join("text");
    std::fs::write(&path, vec![b'a'; (1 << 20) + 1]).unwrap();
    for (most, told) in [(1 << 20, "1 MiB"), ((1 << 20) - 1, "1048575 bytes")] {
        assert_eq!(read_text_of(&path, most).unwrap_err().to_string(), format!("it is longer than {told}"));
    }
    assert_eq!(read_text_of(&path, (1 << 20) + 1).unwrap().len(), (1 << 20) + 1);
}

/// Refuses the first change of a name with this error, and counts them.
#[derive(Debug)]
struct RefusesFirst(i32, std::sync::atomic::AtomicUsize);

impl crate::Watch for RefusesFirst {
    fn before(&self, step: &crate::Step<'_>) -> io::Result<()> {
        let renames = matches!(step, crate::Step::Rename(..));
        match renames && self.1.fetch_add(1, std::sync::atomic::Ordering::Relaxed) == 0 {
            true => Err(io::Error::from_raw_os_error(self.0)),
            false => Ok(()),
        }
    }
}

#[test]
fn only_where_two_names_cannot_be_exchanged_is_what_was_there_set_aside() {
    for (errno, replaced) in [(Errno::NOSYS, true), (Errno::INVAL, true), (Errno::NOTSUP, true), (Errno::IO, false)] {
        let world = tempfile::tempdir().unwrap();
        for (file, text) in [("made", "new"), ("place", "old")] {
            std::fs::write(world.path().join(file), text).unwrap();
        }
        let watch = std::sync::Arc::new(RefusesFirst(errno.raw_os_error(), 0.into()));
        let folder = Folder::open_on(&Disk::watched_by(watch.clone()), world.path()).unwrap();
        assert_eq!(folder.put_in_place("made", &folder, "place").is_ok(), replaced, "{errno}");
        let read = |file: &str| std::fs::read_to_string(world.path().join(file)).ok();
        let expected = if replaced { (None, "new", Some("old")) } else { (Some("new"), "old", None) };
        let (made, place, old) = expected;
        assert_eq!(
            (read("made"), read("place"), read("made.old")),
            (made.map(str::to_owned), Some(place.to_owned()), old.map(str::to_owned))
        );
        assert_eq!(watch.1.load(std::sync::atomic::Ordering::Relaxed), if replaced { 3 } else { 1 });
    }
}

#[test]
fn a_tree_deeper_than_open_files_and_longer_than_a_path_is_walked_copied_and_removed_in_order() {
    let world = tempfile::tempdir().unwrap();
    let root = Folder::open(world.path()).unwrap();
    let mut at = root.make_folder("d").unwrap();
    for _ in 0..2100 {
        let handle =
            at.try_make_folder(Path::new("d")).and_then(|()| at.open_below(Path::new("d"), REACH, Mode::empty()));
        at = Folder { handle: Arc::new(handle.unwrap()), ..at };
    }
    at.write_loosely("file", "text").unwrap();
    for name in ["d/c", "d/d/a/a", "d/z", "d/e"] {
        root.make_folders(name).unwrap();
    }
    let mut seen = Vec::new();
    root.walk(|folder, at, _| {
        assert!(folder.path().ends_with(at));
        seen.push(at.to_owned());
        Ok::<_, FileError>(())
    })
    .unwrap();
    assert!(seen.len() == 2107 && seen.is_sorted(), "those above come before those below, in order");
    let bottom = PathBuf::from(vec!["d"; 2101].join("/"));
    assert_eq!(root.read_text(bottom.join("file"), 9).unwrap(), "text");
    assert!(root.read_text(bottom.join("file"), 3).unwrap_err().cause.to_string().contains("longer than 3 bytes"));
    symlink("../d", world.path().join("d/link")).unwrap();
    let copy = tempfile::tempdir().unwrap();
    let to = Folder::open(copy.path()).unwrap();
    root.folder("d").unwrap().copy_into(&to, |_, at| Ok::<_, FileError>(at != Path::new("z"))).unwrap();
    let without_top = PathBuf::from(vec!["d"; 2100].join("/"));
    assert_eq!(to.read_text(without_top.join("file"), 9).unwrap(), "text");
    assert_eq!(to.read_link("link").unwrap(), Path::new("../d"));
    let copied: Vec<_> = to.entries().unwrap().into_iter().map(|entry| entry.name).collect();
    assert_eq!(copied, ["c", "d", "e", "link"], "all but what was not accepted, of what is in d");
    root.remove("d").unwrap();
    to.remove("d").unwrap();
    assert!(root.entries().unwrap().is_empty());
}
