//! `alter`: local changes that others get too. The accidents this prevents: a change in the shared cache that every project
//! on the machine gets, and a change on one machine that nobody else has.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;
use std::time::{Duration, Instant};

use yostel_testkit::Sandbox;

use crate::{digest_of, folder_of, project, publish, small_world};

/// A small world that is installed, with `gust` open for changes and its program changed.
fn opened() -> Sandbox {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "alter gust").expect(0);
    let program = sandbox.read("console/altered/gust/bin/gust-now");
    sandbox.write("console/altered/gust/bin/gust-now", program.replace("echo gust", "echo strong gust"));
    sandbox
}

fn keep(sandbox: &Sandbox, why: &str) {
    let mut command = sandbox.command("console", "alter gust --keep --why");
    sandbox.finish(command.arg(why)).expect(0);
}

#[test]
fn an_open_package_is_used_at_once_and_the_cache_is_untouched() {
    let sandbox = opened();
    assert_eq!(sandbox.run("console", "run -- gust-now").expect(0).stdout, "strong gust 2.1.0\n");
    sandbox.run("", "cache verify").expect(0);
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(told.contains("gust is open for changes in altered/gust") && told.contains("alter gust --keep"), "{told}");
    assert!(told.contains("+ echo strong gust 2.1.0"), "{told}");
    // An install leaves it as it is, whatever else it does, and says so.
    fs::remove_dir_all(sandbox.path("console/.yostel/packages/rig")).unwrap();
    let told = sandbox.run("console", "install").expect(0).stdout;
    assert!(told.contains("gust is open for changes"), "{told}");
    assert_eq!(sandbox.run("console", "run -- gust-now").expect(0).stdout, "strong gust 2.1.0\n");
    // A copy that somebody removed by hand leaves the package as it is locked.
    fs::rename(sandbox.path("console/altered"), sandbox.path("console/kept")).unwrap();
    assert!(sandbox.run("console", "verify").expect(4).stdout.contains("missing"));
    assert!(sandbox.run("console", "install").expect(0).stdout.contains("1 from the cache"));
    assert_eq!(sandbox.run("console", "run -- gust-now").expect(0).stdout, "gust 2.1.0\n");
    fs::rename(sandbox.path("console/kept"), sandbox.path("console/altered")).unwrap();
    sandbox.run("console", "alter gust").expect(0);
    // Even after everything installed was removed, what somebody wrote is there.
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    sandbox.run("console", "install").expect(0);
    assert_eq!(sandbox.run("console", "run -- gust-now").expect(0).stdout, "gust 2.1.0\n");
    let told = sandbox.run("console", "alter gust").expect(0).stdout;
    assert!(told.contains("open for changes already"), "{told}");
    assert_eq!(sandbox.run("console", "run -- gust-now").expect(0).stdout, "strong gust 2.1.0\n");
}

#[test]
fn an_emptied_cache_takes_nothing_from_who_is_changing_a_package() {
    let sandbox = opened();
    for task in ["--show", "--keep --why urgent", "--drop"] {
        fs::remove_dir_all(sandbox.path("cache")).unwrap();
        let told = sandbox.run("console", &format!("alter gust {task}")).expect(0).stdout;
        assert!(told.contains("+echo strong gust 2.1.0") || task != "--show", "{told}");
    }
    sandbox.run("console", "verify").expect(0);
    sandbox.run("console", "alter gust").expect(0);
    sandbox.write("console/altered/gust/new", "new");
    fs::remove_dir_all(sandbox.path("cache")).unwrap();
    sandbox.run("console", "alter gust --drop").expect(0);
    assert!(sandbox.read("console/altered/gust~dropped.patch").contains("+new"));
    sandbox.run("console", "verify").expect(0);
}

#[test]
fn the_folders_of_the_last_patch_go_with_it() {
    let sandbox = small_world();
    publish(&sandbox, "valley/deep/chime 1.0.0", "", &[("share/tone", "low\n")]);
    project(&sandbox, "\"valley/deep/chime\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let opened = sandbox.run("console", "alter valley/deep/chime").expect(0).stdout;
    assert!(opened.contains("altered/valley_/deep_/chime"), "{opened}");
    sandbox.write("console/altered/valley_/deep_/chime/share/tone", "high\n");
    sandbox.run("console", "alter valley/deep/chime --keep --why louder").expect(0);
    assert!(sandbox.path("console/patches/valley/deep/chime.patch").exists());
    sandbox.run("console", "alter valley/deep/chime --drop").expect(0);
    assert!(!sandbox.path("console/patches").exists(), "none of its folders is left");
}

#[test]
fn a_kept_change_is_locked_and_everyone_gets_it() {
    let sandbox = opened();
    sandbox.write("console/altered/gust/share/new.txt", "new\n");
    fs::set_permissions(sandbox.path("console/altered/gust/share/new.txt"), fs::Permissions::from_mode(0o755)).unwrap();
    let before = (sandbox.read("console/yostel.toml"), digest_of(&sandbox.run("console", "install").expect(0).stdout));
    let shown = sandbox.run("console", "alter gust --show").expect(0).stdout;
    sandbox.run("console", "alter gust --keep").expect(2).says(&["a reason is missing (--why \"…\")", "--why"]);
    keep(&sandbox, "sounds  more\nurgent");
    let patch = sandbox.read("console/patches/gust.patch");
    assert_eq!(patch, format!("gust 2.1.0: sounds more urgent\n\n{shown}"));
    assert!(!sandbox.path("console/altered").exists());
    // Neither the copy nor a link to it is left, and asking what another version would move does not tell of the patch.
    let link = sandbox.path("console/.yostel/packages/gust/2.1.0");
    assert!(!link.is_symlink(), "{}", link.display());
    let told = sandbox.run("console", "explain unit --instead 1.0.0").expect(0).stdout;
    assert!(told.contains("it alone would move") && !told.contains("changed"), "{told}");
    let manifest = sandbox.read("console/yostel.toml");
    let entry = "[alter]\ngust = { patch = \"patches/gust.patch\", why = \"sounds more urgent\" }\n";
    assert_eq!(manifest, format!("{}\n{entry}", before.0));
    let digest = digest_of(&sandbox.run("console", "verify").expect(0).stdout);
    assert_ne!(digest, before.1, "the patch is part of what is installed");
    // Another machine, with nothing but what is committed: manifest, lockfile, patch.
    for file in ["yostel.toml", "yostel.lock", "patches/gust.patch"] {
        sandbox.write(&format!("far/{file}"), sandbox.read(&format!("console/{file}")));
    }
    let far = sandbox.run("far", "install --cache ../cache-far").expect(0).stdout;
    assert_eq!(digest_of(&far), digest);
    assert_eq!(sandbox.picture("far/.yostel"), sandbox.picture("console/.yostel"));
    assert_eq!(sandbox.run("far", "run --cache ../cache-far -- gust-now").expect(0).stdout, "strong gust 2.1.0\n");
    assert!(sandbox.run("far", "install --quick --cache ../cache-far").expect(0).stdout.contains("nothing to do"));
    sandbox.run("", "cache verify --cache cache-far").expect(0);
    // The general program for such patches makes the same files of the release's.
    publish_tree_and_patch(&sandbox, &patch);
    // Dropped, everything is as it was.
    sandbox.run("console", "alter gust --drop").expect(0);
    assert_eq!(sandbox.read("console/yostel.toml"), before.0);
    assert_eq!(digest_of(&sandbox.run("console", "verify").expect(0).stdout), before.1);
    assert!(!sandbox.path("console/patches").exists());
    sandbox.run("console", "alter gust --drop").expect(2).says(&["it is not open for changes"]);
}

/// Applies a patch with version control, where it is at hand, and compares with what is installed.
#[test]
fn what_is_locked_with_a_patch_is_told_while_the_lockfile_is_stale_unless_the_patch_is_gone() {
    let sandbox = opened();
    keep(&sandbox, "louder");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", manifest.replace("gust = \"^2\"", "gust = \"^3\""));
    let told = sandbox.run("console", "list").expect(0).stdout;
    assert!(told.contains("changed here"), "{told}");
    sandbox.write("console/yostel.toml", manifest);
    sandbox.run("console", "alter unit").expect(0);
    sandbox.write("console/altered/unit/share/unit.txt", "other");
    let mut command = sandbox.command("console", "alter unit --keep --why");
    sandbox.finish(command.arg("so")).expect(0);
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", manifest.replace("gust = \"^2\"", "gust = \"^3\""));
    let told = sandbox.run("console", "list").expect(0).stdout;
    assert!(told.contains("changed here"), "{told}");
    // Of two patches, one is enough to be missed.
    let manifest = sandbox.read("console/yostel.toml");
    let without: String = manifest.split_inclusive('\n').filter(|line| !line.contains("patches/unit.patch")).collect();
    assert_ne!(without, manifest);
    sandbox.write("console/yostel.toml", without);
    sandbox.run("console", "list").expect(6);
}

fn publish_tree_and_patch(sandbox: &Sandbox, patch: &str) {
    sandbox.write("by-hand.patch", patch);
    let made = sandbox.path("made/gust-2.1.0");
    let applied = Command::new("git")
        .args(["apply", "--unsafe-paths", "-p1"])
        .arg(sandbox.path("by-hand.patch"))
        .current_dir(&made)
        .status();
    if applied.is_ok_and(|status| status.success()) {
        assert_eq!(sandbox.picture("made/gust-2.1.0"), sandbox.picture(&folder_of(sandbox, "gust")));
    }
}

#[test]
fn a_patch_that_does_not_fit_stops_the_lock_and_shows_the_hunk() {
    let sandbox = opened();
    keep(&sandbox, "urgent");
    publish(&sandbox, "gust 2.2.0", "unit = '^1'", &[("bin/gust-now", "#!/bin/sh\nprintf 'gust 2.2.0\\n'\n")]);
    let before = sandbox.picture("");
    let said = sandbox.run("console", "lock --fresh").expect(2);
    said.says(&[
        "the patch of gust does not fit: these lines of `bin/gust-now` are not as it expects them",
        "at patches/gust.patch:6:1",
        "-echo gust 2.1.0",
        "+echo strong gust 2.1.0",
        "there it has:\n   #!/bin/sh\n   printf 'gust 2.2.0",
        "the lockfile is as it was",
        "yostel alter gust --drop",
    ]);
    let kept = |lines: Vec<String>| lines.into_iter().filter(|line| line.starts_with("console/")).collect::<Vec<_>>();
    assert_eq!(kept(sandbox.picture("")), kept(before));
    sandbox.run("console", "install").expect(0);
    // A release that the lines still stand in, elsewhere, takes the patch along.
    let script = "#!/bin/sh\n# new\n# lines\necho gust 2.1.0 \"$@\"\n";
    publish(&sandbox, "gust 2.3.0", "unit = '^1'", &[("bin/gust-now", script)]);
    sandbox.run("console", "lock --fresh").expect(2);
    let shorter =
        "--- a/bin/gust-now\n+++ b/bin/gust-now\n@@ -2 +2 @@\n-echo gust 2.1.0 \"$@\"\n+echo strong gust \"$@\"\n";
    sandbox.write("console/patches/gust.patch", shorter);
    sandbox.run("console", "install").expect(6).says(&["another patch than the one that is there now", "yostel lock"]);
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.run("console", "install").expect(0);
    assert_eq!(sandbox.run("console", "run -- gust-now 7").expect(0).stdout, "strong gust 7\n");
}

#[test]
fn a_patch_that_is_none_or_gone_says_so_with_its_place() {
    let sandbox = opened();
    keep(&sandbox, "urgent");
    let good = sandbox.read("console/patches/gust.patch");
    for (text, says) in [
        (good.replace("@@ -1,2", "@@ -1,9"), "patches/gust.patch is not a unified diff: the hunk ends early"),
        (good.replace("bin/gust-now", "../gust-now"), "no package can have a file with this path"),
        (
            good.replace("bin/gust-now", "bin/other"),
            "the patch of gust does not fit: `bin/other` is not there any more",
        ),
        (
            format!("{good}diff --git a/l b/l\nnew file mode 120000\n--- /dev/null\n+++ b/l\n@@ -0,0 +1 @@\n+/etc\n"),
            "the link `l` points out of the package",
        ),
        (format!("{good}--- /dev/null\n+++ b/BIN/x\n@@ -0,0 +1 @@\n+x\n"), "which stands in the way of another file"),
    ] {
        sandbox.write("console/patches/gust.patch", text);
        sandbox.run("console", "lock").expect(2).says(&[says, "next:"]);
    }
    fs::remove_file(sandbox.path("console/patches/gust.patch")).unwrap();
    sandbox.run("console", "install").expect(2).says(&["the patch of gust cannot be read", "patches/gust.patch back"]);
    sandbox.write("console/patches/gust.patch", good);
    sandbox.run("console", "install").expect(0);
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", manifest.replace("\"patches/gust.patch\"", "\"../gust.patch\""));
    sandbox.run("console", "install").expect(2).says(&["`patch` cannot be `../gust.patch`", "a file in the project"]);
    sandbox.write("console/yostel.toml", manifest.replace("gust = { patch", "unknown = { patch"));
    sandbox.run("console", "install").expect(6).says(&["gust is locked with a patch that [alter] does not name"]);
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("[alter] names unknown, which nothing needs: yostel alter unknown --drop"), "{told}");
    assert!(told.contains("without a patch again"), "{told}");
}

#[test]
fn what_cannot_be_kept_is_said_and_nothing_is_lost() {
    let sandbox = opened();
    sandbox.run("console", "alter gst").expect(2).says(&["gst is not part of this project", "gust exists"]);
    sandbox.run("console", "alter unit --show").expect(2).says(&["unit: it is not open for changes"]);
    sandbox.write("console/altered/gust/data.bin", [0, 1, 2]);
    sandbox
        .run("console", "alter gust --keep --why x")
        .expect(2)
        .says(&["a patch can hold text files of at most 1 MiB only", "changed, but not text: data.bin"]);
    fs::remove_file(sandbox.path("console/altered/gust/data.bin")).unwrap();
    std::os::unix::fs::symlink("/etc", sandbox.path("console/altered/gust/way")).unwrap();
    sandbox.run("console", "alter gust --keep --why x").expect(7).says(&["a link that points out of the package"]);
    fs::remove_file(sandbox.path("console/altered/gust/way")).unwrap();
    // The lock moves on while it is open.
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox
        .run("console", "alter gust --keep --why x")
        .expect(2)
        .says(&["it was opened at 2.1.0, and 2.0.0 is locked now", "--drop, which saves what was changed"]);
    let told = sandbox.run("console", "alter gust --drop").expect(0).stdout;
    assert!(told.contains("what was changed is in altered/gust~dropped.patch"), "{told}");
    assert!(sandbox.read("console/altered/gust~dropped.patch").contains("+echo strong gust 2.1.0"));
    sandbox.run("console", "verify").expect(0);
    // An unchanged copy is closed without leaving anything.
    fs::remove_dir_all(sandbox.path("console/altered")).unwrap();
    sandbox.run("console", "alter gust").expect(0);
    sandbox.run("console", "alter gust --keep --why x").expect(2).says(&["nothing was changed"]);
    sandbox.run("console", "alter gust --drop").expect(0);
    assert!(!sandbox.path("console/altered").exists());
    sandbox.run("console", "verify").expect(0);
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
