use proptest::prelude::*;

use super::*;

fn text(content: &str) -> TreeFile {
    TreeFile { kind: EntryKind::File, content: content.as_bytes().to_vec() }
}

fn between(before: Option<&TreeFile>, after: Option<&TreeFile>) -> Patch {
    Patch { files: FilePatch::between("share/a b.txt", before, after).unwrap().into_iter().collect() }
}

#[test]
fn a_patch_is_what_diff_u_writes() {
    let old = text("one\ntwo\nthree\nfour\nfive\nsix\nseven\neight\nnine\n");
    let new = text("one\ntwo\nthree\nfour\n5\nsix\nseven\neight\nnine\nten");
    let patch = FilePatch::between("a.txt", Some(&old), Some(&new)).unwrap().unwrap();
    let written = Patch { files: vec![patch] }.write();
    assert_eq!(
        written,
        "diff --git a/a.txt b/a.txt\n--- a/a.txt\n+++ b/a.txt\n@@ -2,8 +2,9 @@\n two\n three\n four\n-five\n+5\n six\n \
         seven\n eight\n nine\n+ten\n\\ No newline at end of file\n"
    );
    let gone = between(Some(&text("x\n")), None).write();
    assert!(
        gone.contains("deleted file mode 100644\n--- a/share/a b.txt\t\n+++ /dev/null\n@@ -1 +0,0 @@\n-x\n"),
        "{gone}"
    );
    let made = between(None, Some(&TreeFile { kind: EntryKind::Program, ..text("x\n") })).write();
    assert!(made.contains("new file mode 100755\n--- /dev/null\n+++ b/share/a b.txt\t\n@@ -0,0 +1 @@\n+x\n"), "{made}");
    let mode = between(Some(&text("x")), Some(&TreeFile { kind: EntryKind::Program, ..text("x") })).write();
    assert!(mode.ends_with("old mode 100644\nnew mode 100755\n"), "{mode}");
    assert_eq!(FilePatch::between("a", Some(&text("x")), Some(&text("x"))).unwrap(), None);
    assert_eq!(FilePatch::between("a", None, Some(&text("\0"))), Err(NotText("a".into())));
}

#[test]
fn a_hunk_is_found_where_its_lines_moved_and_nowhere_else() {
    let patch = Patch::parse("--- x\n+++ x\n@@ -3,3 +3,3 @@\n left\n-12\n+14\n right\n").unwrap();
    let apply = |content: &str| patch.files[0].apply(Some(&text(content)));
    let moved = apply("new\nlines\nabove\n\n1\n2\nleft\n12\nright\n").unwrap().unwrap();
    assert!(moved.content.ends_with(b"left\n14\nright\n"));
    let nearest = apply("left\n12\nright\nleft\n12\nright\n").unwrap().unwrap();
    assert_eq!(String::from_utf8(nearest.content).unwrap(), "left\n12\nright\nleft\n14\nright\n", "the nearer one");
    let Err(Rejected { path, reason: RejectedReason::Hunk { hunk, found } }) = apply("1\n2\nleft\n13\nright\n") else {
        panic!()
    };
    assert_eq!(found, ["left\n", "13\n", "right\n"]);
    assert_eq!((path.as_str(), hunk.at), ("x", 3));
    // An empty line may have lost its space, wherever it is.
    let bare = Patch::parse("--- x\n+++ x\n@@ -1,3 +1,3 @@\n\n-12\n+14\n\n").unwrap();
    assert_eq!(bare.files[0].apply(Some(&text("\n12\n\n"))).unwrap().unwrap().content, b"\n14\n\n");
    let kept = apply("1\n2\nleft\n12\nright\n").unwrap().unwrap();
    assert_eq!(kept.kind, EntryKind::File);
    let program = TreeFile { kind: EntryKind::Program, ..text("1\n2\nleft\n12\nright\n") };
    assert_eq!(
        patch.files[0].apply(Some(&program)).unwrap().unwrap().kind,
        EntryKind::Program,
        "a mode not told stays"
    );
}

#[test]
fn what_does_not_fit_is_rejected_with_its_reason() {
    let reason = |patch: &Patch, file: Option<&TreeFile>| patch.files[0].apply(file).unwrap_err().reason;
    let (old, new) = (text("a\n"), text("b\n"));
    assert_eq!(reason(&between(Some(&old), Some(&new)), None), RejectedReason::Missing);
    assert_eq!(reason(&between(None, Some(&new)), Some(&old)), RejectedReason::AlreadyThere);
    let link = TreeFile { kind: EntryKind::Link, ..text("a\n") };
    assert_eq!(reason(&between(Some(&old), Some(&new)), Some(&link)), RejectedReason::OtherKind);
    assert_eq!(
        reason(&between(Some(&old), None), Some(&text("a\nmore\n"))),
        RejectedReason::OtherKind,
        "more would go"
    );
    let bytes = TreeFile { content: vec![0xff], ..text("") };
    assert_eq!(reason(&between(Some(&old), Some(&new)), Some(&bytes)), RejectedReason::NotText);
}

#[test]
fn what_is_no_patch_names_the_line() {
    for (text, line, reason) in [
        ("--- a/x\n+++ b/x\n@@ nonsense @@\n", 3, "a hunk begins like"),
        ("--- a/x\n+++ b/x\n@@ -1,2 +1 @@\n-a\n", 5, "ends early"),
        ("--- a/x\n+++ b/x\n@@ -1 +1 @@\n-a\n-b\n", 5, "more or fewer lines"),
        // Of either kind, no more lines than the head says.
        ("--- a/x\n+++ b/x\n@@ -1,2 +1 @@\n a\n b\n", 5, "more or fewer lines"),
        ("--- a/x\n+++ b/x\n@@ -1 +1,2 @@\n a\n b\n", 5, "more or fewer lines"),
        ("--- a/x\n+++ b/x\n@@ -1,2 +1 @@\n a\n+b\n", 5, "more or fewer lines"),
        ("--- a/x\n+++ b/x\n@@ -1,2 +1 @@\n a\n\n", 5, "more or fewer lines"),
        ("--- a/x\n+++ b/x\n@@ -1 +1,2 @@\n a\n\n", 5, "more or fewer lines"),
        ("--- a/x\n+++ b/y\n@@ -1 +1 @@\n-a\n+b\n", 2, "renames"),
        ("--- a/../x\n+++ b/../x\n@@ -1 +1 @@\n-a\n+b\n", 1, "no package can have"),
        ("--- /dev/null\n+++ /etc/passwd\n@@ -0,0 +1 @@\n+b\n", 1, "no package can have"),
        ("diff --git a/x b/x\nnew file mode 160000\n", 2, "of this mode"),
        ("diff --git a/x b/x\nGIT binary patch\n", 2, "not text"),
        ("diff --git a/x b/y\nrename from x\n", 1, "one unquoted path twice"),
        ("diff --git a/x b/x\n--- a/y\n+++ b/y\n@@ -1 +1 @@\n-a\n+b\n", 3, "different files"),
        ("--- a/x\n+++ b/x\nmore\n", 3, "here should be a hunk"),
        ("--- a/x\n+++ b/x\n@@ -5 +5 @@\n-a\n+b\n@@ -1 +1 @@\n-a\n+b\n", 9, "out of order"),
    ] {
        let error = Patch::parse(text).unwrap_err();
        assert!(error.line == line && error.reason.contains(reason), "{text}: {error}");
    }
    let twice = "--- a/x\n+++ b/x\n@@ -1 +1 @@\n-a\n+b\n".repeat(2);
    // What is wrong with all of it is told at its beginning.
    let told = |text: &str| Patch::parse(text).unwrap_err();
    assert_eq!((told(&twice).line, told(&twice).reason), (1, "it changes one file twice"));
    let words = told("words alone\nare no patch\n");
    assert_eq!((words.line, words.reason), (1, "it changes no file"));
}

fn any_file() -> impl Strategy<Value = Option<TreeFile>> {
    let line = "[ab -+@]{0,2}\n|-- a\n|\\\\ No\n";
    let content = (prop::collection::vec(line, 0..14), prop::option::of("[ab]{1,2}"));
    let kind = prop_oneof![4 => Just(EntryKind::File), 1 => Just(EntryKind::Program)];
    prop::option::weighted(0.9, (kind, content)).prop_map(|file| {
        file.map(|(kind, (lines, last))| TreeFile {
            kind,
            content: (lines.concat() + &last.unwrap_or_default()).into_bytes(),
        })
    })
}

proptest! {
    #[test]
    fn a_patch_between_two_files_leads_from_one_to_the_other(before in any_file(), after in any_file()) {
        let Some(made) = FilePatch::between("dir/x y", before.as_ref(), after.as_ref()).unwrap() else {
            prop_assert_eq!(before, after);
            return Ok(());
        };
        prop_assert_eq!(&made.apply(before.as_ref()).unwrap(), &after);
        let text = Patch { files: vec![made.clone()] }.write();
        let mut read = Patch::parse(&text).unwrap();
        // The text tells no mode of a program whose mode stays.
        let read = read.files.pop().unwrap();
        prop_assert_eq!(&read.apply(before.as_ref()).unwrap(), &after, "{}", text);
        prop_assert_eq!(Patch { files: vec![read] }.write(), text);
    }

    #[test]
    fn no_text_makes_reading_panic(text in "(--- a/x\n|\\+\\+\\+ b/x\n|@@ -[0-9],[0-9] \\+[0-9] @@\n|diff --git a/x b/x\n|[ +-]a\n|\\\\ N\n|old mode 100644\n){0,12}") {
        if let Ok(patch) = Patch::parse(&text) {
            for file in &patch.files {
                file.apply(Some(&super::TreeFile { kind: EntryKind::File, content: b"a\na\n".to_vec() })).ok();
            }
        }
    }
}
