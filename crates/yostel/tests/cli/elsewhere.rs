//! Packages that no registry has: a fix that is a commit, one archive at an address, a colleague's folder. The accidents
//! this prevents: a branch that moved between two machines; a repository that is gone on the day of the release; a
//! lockfile that only its author can install.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::symlink;
use std::process::{Command, Stdio};

use yostel_testkit::Sandbox;

use crate::{git, publish, sandbox};

const HEAD: &str = "[project]\nname = \"console\"\nversion = \"0.4.0\"\n\n[sources.station]\nfolder = \"../station\"\n";

fn needs(sandbox: &Sandbox, needs: &str) {
    sandbox.write("console/yostel.toml", format!("{HEAD}\n[needs.run]\n{needs}\n"));
}

/// Commits the package `clock` at a version in `repo/packages/clock`; returns the commit.
fn commit(sandbox: &Sandbox, version: &str) -> String {
    if !sandbox.path("repo/.git").exists() {
        fs::create_dir_all(sandbox.path("repo")).unwrap();
        git(sandbox, "repo", &["init", "--quiet", "--initial-branch=main"]);
    }
    let manifest = format!("[project]\nname = \"clock\"\nversion = \"{version}\"\n[needs.run]\nscale = \"^1\"\n");
    sandbox.write("repo/packages/clock/yostel.toml", manifest + "[offers]\nprograms = [\"bin\"]\n");
    sandbox.write("repo/packages/clock/bin/clock", format!("#!/bin/sh\necho clock {version}\n"));
    sandbox.write("repo/README", "not part of the package\n");
    git(sandbox, "repo", &["add", "--all"]);
    git(sandbox, "repo", &["update-index", "--chmod=+x", "packages/clock/bin/clock"]);
    git(sandbox, "repo", &["commit", "--quiet", "-m", version]);
    git(sandbox, "repo", &["rev-parse", "HEAD"])
}

/// A console that takes the clock from a branch.
fn world() -> (Sandbox, String) {
    let sandbox = sandbox();
    publish(&sandbox, "scale 1.0.0", "", &[]);
    let first = commit(&sandbox, "1.0.0");
    needs(&sandbox, "clock = { git = \"../repo\", branch = \"main\", inside = \"packages/clock\" }");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    (sandbox, first)
}

fn remove(sandbox: &Sandbox, folder: &str) {
    let mut command = Command::new("sh");
    command.args(["-c", &format!("chmod -R u+w {folder} && rm -rf {folder}")]).current_dir(sandbox.path(""));
    assert!(command.status().unwrap().success());
}

#[test]
fn a_commit_is_locked_and_outlives_its_repository_in_the_cache_alone() {
    let (sandbox, first) = world();
    let lockfile = sandbox.read("console/yostel.lock");
    let from = "from = { git = \"../repo\", branch = \"main\", inside = \"packages/clock\", commit = ";
    assert!(lockfile.contains(&format!("{from}\"{first}\" }}")), "{lockfile}");
    assert_eq!(sandbox.run("console", "run -- clock").expect(0).stdout, "clock 1.0.0\n");
    // What the commit needs is there too; what is beside the package is not.
    assert!(lockfile.contains("{ who = \"clock 1.0.0\", accept = \"^1\" }"));
    let folder = sandbox.run("console", "where clock").expect(0).stdout;
    assert!(!folder.contains("README") && folder.contains("packages/clock/1.0.0-"));
    let digest = |run: yostel_testkit::Run| run.stdout.lines().last().unwrap().to_owned();
    let before = digest(sandbox.run("console", "install").expect(0));
    remove(&sandbox, "repo");
    remove(&sandbox, "console/.yostel");
    assert_eq!(digest(sandbox.run("console", "install --offline").expect(0)), before);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "cache save kit.tar").expect(0);
    remove(&sandbox, "cache");
    remove(&sandbox, "console/.yostel");
    let picture = sandbox.picture("console");
    let run = sandbox.run("console", "install").expect(5);
    run.says(&["clock: git cannot reach", "[SANDBOX]/console/../repo", &first]);
    sandbox.run("console", "install --offline").expect(5).says(&["the cache does not hold clock 1.0.0"]);
    assert_eq!(sandbox.picture("console"), picture);
    sandbox.run("console", "cache load kit.tar").expect(0);
    assert_eq!(digest(sandbox.run("console", "install --offline").expect(0)), before);
    // Its archive is enough to lock it beside something new.
    remove(&sandbox, "cache/trees");
    let clock = "clock = { git = \"../repo\", branch = \"main\", inside = \"packages/clock\" }";
    needs(&sandbox, &format!("{clock}\nscale = \"^1\""));
    sandbox.run("console", "lock").expect(0);
}

#[test]
fn every_machine_makes_the_same_archive_of_a_commit() {
    let (sandbox, _) = world();
    let before = sandbox.read("console/yostel.lock");
    remove(&sandbox, "cache");
    fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    git(&sandbox, "repo", &["config", "core.autocrlf", "true"]);
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}

#[test]
fn a_branch_that_moves_is_followed_only_when_asked() {
    let (sandbox, first) = world();
    let second = commit(&sandbox, "1.1.0");
    sandbox.run("console", "lock").expect(0);
    needs(&sandbox, "scale = \"*\"\nclock = { git = \"../repo\", branch = \"main\", inside = \"packages/clock\" }");
    sandbox.run("console", "lock").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains(&first));
    let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(told.contains("1.0.0 -> 1.1.0"), "{told}");
    assert!(sandbox.read("console/yostel.lock").contains(&second));
    // Another commit at the same version is a move too.
    sandbox.write("repo/packages/clock/note", "new");
    git(&sandbox, "repo", &["add", "--all"]);
    git(&sandbox, "repo", &["commit", "--quiet", "-m", "note"]);
    let told = sandbox.run("console", "lock --fresh").expect(0).stdout;
    assert!(told.contains(&format!("1.1.0, git {} -> git ", &second[..12])), "{told}");
    // A tag and a commit say what they mean.
    git(&sandbox, "repo", &["tag", "-a", "v1.0.0", "-m", "first", &first]);
    needs(&sandbox, "clock = { git = \"../repo\", tag = \"v1.0.0\", inside = \"packages/clock\" }");
    sandbox.run("console", "install").expect(6).says(&["clock is locked as git ../repo branch main", "tag v1.0.0"]);
    sandbox.run("console", "lock").expect(0);
    assert!(sandbox.read("console/yostel.lock").contains(&format!("commit = \"{first}\"")));
    needs(&sandbox, &format!("clock = {{ git = \"../repo\", at = \"{second}\", inside = \"packages/clock\" }}"));
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    assert_eq!(sandbox.run("console", "run -- clock").expect(0).stdout, "clock 1.1.0\n");
}

#[test]
fn a_repository_that_does_not_have_it_is_told_and_nothing_changes() {
    let (sandbox, first) = world();
    let refused = |need: &str, says: &[&str]| {
        needs(&sandbox, need);
        let before = sandbox.picture("console");
        let status = if says[0].starts_with("manifest:") { 2 } else { 5 };
        sandbox.run("console", "lock").expect(status).says(&says[1..]);
        assert_eq!(sandbox.picture("console"), before);
    };
    refused("clock = { git = \"../gone\" }", &["", "clock: git cannot reach", "git cannot reach"]);
    refused("clock = { git = \"../repo\", branch = \"next\" }", &["", "../repo has no branch next"]);
    refused("clock = { git = \"../repo\", tag = \"v9\" }", &["", "../repo has no tag v9"]);
    let commit_gone = "0123456789012345678901234567890123456789";
    let need = format!("clock = {{ git = \"../repo\", at = \"{commit_gone}\" }}");
    refused(&need, &["", commit_gone]);
    refused("clock = { git = \"../repo\", inside = \"nowhere\" }", &["", "has no folder nowhere"]);
    refused("clock = { git = \"../repo\", at = \"abc123\" }", &["manifest:", "a whole commit"]);
    refused("clock = { git = \"--upload-pack=touch x\" }", &["manifest:", "does not begin with `-`"]);
    refused(
        "clock = { branch = \"main\", accept = \"*\" }",
        &["manifest:", "`branch` means something only beside `git`"],
    );
    refused("clock = { git = \"../repo\", tag = \"a\", branch = \"b\" }", &["manifest:", "contradict each other"]);
    fs::create_dir_all(sandbox.path("empty")).unwrap();
    git(&sandbox, "empty", &["init", "--quiet"]);
    refused("clock = { git = \"../empty\" }", &["", "../empty has no commit"]);
    // The whole repository is no package of that name: it has no manifest, and so no version but 0.0.0.
    needs(&sandbox, "clock = { git = \"../repo\", accept = \"^1\" }");
    sandbox.run("console", "lock").expect(3).says(&["console needs clock ^1"]);
    needs(&sandbox, "cluck = { git = \"../repo\", inside = \"packages/clock\" }");
    sandbox.run("console", "lock").expect(2).says(&["it holds clock", "need it as clock"]);
    // A history that was made anew.
    let need = format!("clock = {{ git = \"../repo\", at = \"{first}\", inside = \"packages/clock\" }}");
    needs(&sandbox, &need);
    sandbox.run("console", "lock").expect(0);
    remove(&sandbox, "cache");
    remove(&sandbox, "repo");
    commit(&sandbox, "1.0.1");
    sandbox.run("console", "install").expect(5).says(&[&first]);
    // A link out of the package is not packed.
    symlink("/etc/passwd", sandbox.path("repo/packages/clock/out")).unwrap();
    git(&sandbox, "repo", &["add", "--all"]);
    git(&sandbox, "repo", &["commit", "--quiet", "-m", "out"]);
    needs(&sandbox, "clock = { git = \"../repo\", inside = \"packages/clock\" }");
    let run = sandbox.run("console", "lock");
    assert!(run.status != 0 && run.stderr.contains("a link that points out of the package"), "{}", run.stderr);
}

#[test]
fn a_commit_stands_in_for_a_release_everywhere_whatever_is_asked() {
    let sandbox = sandbox();
    publish(&sandbox, "scale 1.0.0", "", &[]);
    publish(&sandbox, "clock 0.9.0", "", &[]);
    publish(&sandbox, "tower 1.0.0", "clock = '^0.9'", &[]);
    commit(&sandbox, "1.0.0");
    needs(&sandbox, "tower = \"^1\"");
    sandbox.run("console", "lock").expect(0);
    let before = sandbox.read("console/yostel.lock");
    let swap = "[swap]\nclock = { git = \"../repo\", inside = \"packages/clock\", why = \"the leap second\" }\n";
    sandbox.write("console/yostel.toml", format!("{HEAD}\n[needs.run]\ntower = \"^1\"\n\n{swap}"));
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("tower 1.0.0 needs clock ^0.9 and gets clock 1.0.0"), "{told}");
    sandbox.run("console", "install").expect(0);
    assert!(sandbox.path("console/.yostel/reach/releases/tower/1.0.0/run/clock/bin/clock").exists());
    assert!(sandbox.run("console", "list").expect(0).stdout.contains("git "));
    // Taking it back leaves no trace.
    needs(&sandbox, "tower = \"^1\"");
    sandbox.run("console", "install").expect(6).says(&["clock is locked as git ../repo"]);
    sandbox.run("console", "lock").expect(0);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
}

#[test]
fn what_lies_in_a_folder_is_seen_as_it_is_and_never_shared() {
    let sandbox = sandbox();
    for version in ["1.0.0", "2.0.0"] {
        publish(&sandbox, &format!("scale {version}"), "", &[]);
    }
    publish(&sandbox, "tower 1.0.0", "grip = '^1'", &[]);
    let grip = |version: &str, needs: &str| {
        let manifest = format!("[project]\nname = \"grip\"\nversion = \"{version}\"\n[needs.run]\n{needs}\n");
        sandbox.write("grip/yostel.toml", manifest + "[offers]\nvariables = { GRIP = \"share\" }\n");
    };
    grip("1.0.0", "scale = '^1'\nhook = { path = '../hook' }");
    sandbox.write("grip/share/table", "one\n");
    sandbox.write("hook/note", "no manifest at all\n");
    sandbox.write("console/yostel.toml", format!("{HEAD}\n[needs.run]\ntower = \"^1\"\n"));
    let told = sandbox.run("console", "add grip --path ../grip").expect(0).stdout;
    assert!(told.contains("nobody else can install from the lockfile"), "{told}");
    assert!(sandbox.read("console/yostel.toml").contains("grip = { path = \"../grip\" }"));
    let told = sandbox.run("console", "lock").expect(0).stdout;
    assert!(told.contains("grip comes from path ../grip"), "{told}");
    let run = sandbox.run("console", "lock --shareable").expect(2);
    run.says(&["only this machine has grip (path ../grip) and hook (path ../hook)"]);
    sandbox.run("console", "install").expect(0);
    // Whoever needs it and gets it from there, and an edit is seen at once.
    sandbox.write("grip/share/table", "two\n");
    assert_eq!(sandbox.read("console/.yostel/reach/releases/tower/1.0.0/run/grip/share/table"), "two\n");
    assert_eq!(sandbox.read("console/.yostel/reach/releases/grip/1.0.0/run/hook/note"), "no manifest at all\n");
    let run = sandbox.finish(&mut sandbox.shell("console", "yostel run -- sh -c 'cat $GRIP/table'")).expect(0);
    assert_eq!(run.stdout, "two\n");
    sandbox.run("console", "verify").expect(0);
    sandbox.run("console", "alter grip").expect(2).says(&["its folder ../grip is used as it is", "change it there"]);
    // What it needs by now is noticed, and what it no longer needs is gone.
    grip("1.0.0", "scale = '^2'");
    sandbox.run("console", "install").expect(6).says(&["grip 1.0.0 needs ^2"]);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    assert!(!sandbox.read("console/yostel.lock").contains("hook"));
    grip("2.0.0", "");
    sandbox.run("console", "lock").expect(3).says(&["tower 1.0.0 needs grip ^1"]);
    grip("1.0.0", "");
    remove(&sandbox, "grip");
    sandbox.run("console", "lock").expect(2).says(&["grip cannot be taken from", "there is no such folder"]);
    sandbox.run("console", "add grip --path ../hook").expect(0);
    sandbox.write("hook/yostel.toml", "[project]\nname = \"hook\"\n");
    sandbox.run("console", "lock").expect(2).says(&["it holds hook", "need it as hook"]);
    let two = "grip = { path = \"../hook\" }\n[needs.test]\ngrip = { path = \"../grip\" }";
    needs(&sandbox, two);
    sandbox.run("console", "lock").expect(2).says(&["grip is taken from two places"]);
}

/// Serves one file over HTTP, as long as the test runs; returns the address.
fn serve(bytes: Vec<u8>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        // The first answer is that the server is not well.
        for (at, stream) in listener.incoming().enumerate() {
            let mut stream = stream.unwrap();
            let mut request = [0; 1024];
            let n = stream.read(&mut request).unwrap_or_default();
            let found = request[..n].starts_with(b"GET /table.tar.zst ");
            let status = match (at, found) {
                (0, _) => "503 Service Unavailable",
                (_, true) => "200 OK",
                (_, false) => "404 Not Found",
            };
            let body = if status.starts_with("200") { &bytes[..] } else { b"no" };
            let head = format!("HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len());
            stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body)).ok();
        }
    });
    format!("http://{address}")
}

#[test]
fn one_archive_at_an_address_is_the_one_with_its_digest_and_no_other() {
    let sandbox = sandbox();
    publish(&sandbox, "table 1.2.0", "", &[("share/table", "rows\n")]);
    let archives = fs::read_dir(sandbox.path("station/archives/sha256")).unwrap();
    let archive = archives.map(|entry| entry.unwrap().path()).next().unwrap();
    let bytes = fs::read(&archive).unwrap();
    let hex = archive.file_name().unwrap().to_str().unwrap().strip_suffix(".tar.zst").unwrap().to_owned();
    remove(&sandbox, "station");
    fs::create_dir_all(sandbox.path("files")).unwrap();
    fs::write(sandbox.path("files/table.tar.zst"), &bytes).unwrap();
    let head = "[project]\nname = \"console\"\n\n[needs.run]\n";
    sandbox.write("console/yostel.toml", head);
    // Without a digest, that of what is there now is written.
    let told = sandbox.run("console", "add table ^1 --archive ../files/table.tar.zst").expect(0).stdout;
    assert!(told.contains(&format!("with this digest is accepted: sha256:{hex}")), "{told}");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    assert_eq!(sandbox.read("console/.yostel/reach/projects/console/run/table/share/table"), "rows\n");
    let lockfile = sandbox.read("console/yostel.lock");
    assert!(lockfile.contains("from = { archive = \"../files/table.tar.zst\" }"), "{lockfile}");
    // Another digest, or the same bytes from elsewhere, are not what is locked.
    let locked = sandbox.read("console/yostel.toml");
    for (old, new) in [(hex.as_str(), "0".repeat(64)), ("../files/table.tar.zst", "../files/other.tar.zst".to_owned())]
    {
        assert!(locked.contains(old), "{locked}");
        sandbox.write("console/yostel.toml", locked.replace(old, &new));
        sandbox.run("console", "install").expect(6).says(&["yostel.lock no longer fits yostel.toml", "table"]);
    }
    sandbox.write("console/yostel.toml", &locked);
    // The same from a server that is not well at first.
    remove(&sandbox, "cache");
    let address = serve(bytes.clone());
    let over_http = |path: &str, hex: &str| {
        let need = format!("table = {{ archive = \"{address}/{path}\", digest = \"sha256:{hex}\" }}\n");
        sandbox.write("console/yostel.toml", format!("{head}{need}"));
    };
    over_http("table.tar.zst", &hex);
    sandbox.run("console", "lock").expect(0);
    remove(&sandbox, "cache");
    sandbox.run("console", "install").expect(0);
    let before = sandbox.picture("console/.yostel");
    remove(&sandbox, "cache");
    over_http("gone.tar.zst", &hex);
    sandbox.run("console", "lock").expect(5).says(&["table: ", "gone.tar.zst cannot be fetched", "404 Not Found"]);
    over_http("table.tar.zst", &"0".repeat(64));
    sandbox.run("console", "lock").expect(4).says(&[
        "table is not the archive with the digest that its need names",
        &"0".repeat(64),
        &hex,
    ]);
    // Other bytes at the same place are refused, and nothing comes of them.
    sandbox.write("files/table.tar.zst", "other bytes");
    let need = format!("table = {{ archive = \"../files/table.tar.zst\", digest = \"sha256:{hex}\" }}\n");
    sandbox.write("console/yostel.toml", format!("{head}{need}"));
    sandbox.run("console", "lock").expect(4).says(&["table"]);
    fs::remove_file(sandbox.path("files/table.tar.zst")).unwrap();
    sandbox.run("console", "lock").expect(5).says(&["../files/table.tar.zst cannot be fetched"]);
    assert_eq!(sandbox.picture("console/.yostel"), before);
    sandbox.write("console/yostel.toml", format!("{head}table = {{ archive = \"x\" }}\n"));
    sandbox.run("console", "lock").expect(2).says(&["a need lacks `digest`"]);
}

#[test]
fn a_repository_is_named_on_the_command_line() {
    let (sandbox, first) = world();
    needs(&sandbox, "");
    let told =
        sandbox.run("console", "add clock ^1 --git ../repo --branch main --inside packages/clock").expect(0).stdout;
    assert!(told.contains(&format!("Its commit today: {first}")), "{told}");
    let written = "clock = { accept = \"^1\", git = \"../repo\", branch = \"main\", inside = \"packages/clock\" }";
    assert!(sandbox.read("console/yostel.toml").contains(written), "{}", sandbox.read("console/yostel.toml"));
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "add clock --git ../repo --tag v3").expect(5).says(&["has no tag v3"]);
    sandbox.run("console", "add clock --git ../repo --at abc").expect(2).says(&["by its full hash"]);
    assert!(sandbox.read("console/yostel.toml").contains(written));
}

#[test]
fn what_only_its_author_has_is_not_published() {
    let sandbox = sandbox();
    sandbox.write("grip/yostel.toml", "[project]\nname = \"grip\"\nversion = \"1.0.0\"\n");
    let head = "[project]\nname = \"tower\"\nversion = \"1.0.0\"\n\n";
    sandbox.write("tower/yostel.toml", format!("{head}[needs.run]\ngrip = {{ path = \"../grip\" }}\n"));
    let before = sandbox.picture("station");
    let run = sandbox.run("tower", "publish --to ../station").expect(2);
    run.says(&["tower needs grip from path ../grip", "publish grip too"]);
    assert_eq!(sandbox.picture("station"), before);
    // For its tests, that is nobody else's affair.
    sandbox.write("tower/yostel.toml", format!("{head}[needs.test]\ngrip = {{ path = \"../grip\" }}\n"));
    sandbox.run("tower", "publish --to ../station").expect(0);
    assert!(!sandbox.read("station/releases/tower.json").contains("grip"));
}

/// A server of repositories that ends with the test.
struct Daemon(std::process::Child);

impl Drop for Daemon {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// Serves the sandbox's repositories; returns the address. Nothing where this machine's git has no server.
fn daemon(sandbox: &Sandbox) -> Option<(Daemon, String)> {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let program = Command::new("git").arg("--exec-path").output().ok()?;
    let program = std::path::PathBuf::from(String::from_utf8_lossy(&program.stdout).trim()).join("git-daemon");
    let mut command = Command::new(program);
    command.args(["--export-all", "--reuseaddr", "--listen=127.0.0.1", &format!("--port={port}")]);
    command.arg(format!("--base-path={}", sandbox.path("").display())).stdout(Stdio::null()).stderr(Stdio::null());
    let mut daemon = Daemon(command.spawn().ok()?);
    for _ in 0..100 {
        std::thread::sleep(std::time::Duration::from_millis(20));
        if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
            return Some((daemon, format!("git://127.0.0.1:{port}/repo")));
        }
        if daemon.0.try_wait().unwrap().is_some() {
            break;
        }
    }
    None
}

#[test]
fn a_server_hands_out_any_commit_of_its_history() {
    let sandbox = sandbox();
    publish(&sandbox, "scale 1.0.0", "", &[]);
    let first = commit(&sandbox, "1.0.0");
    commit(&sandbox, "1.1.0");
    let Some((daemon, address)) = daemon(&sandbox) else {
        eprintln!("skipped: git has no server here");
        return;
    };
    needs(&sandbox, &format!("clock = {{ git = \"{address}\", branch = \"main\", inside = \"packages/clock\" }}"));
    let refused = sandbox.run("console", "lock").expect(2);
    refused.says(&["is not asked: anybody on the way can read and change", "git-schemes = [\"git\"]"]);
    // One that no branch or tag names, and the tip of one.
    for (at, version) in [(format!("at = \"{first}\""), "1.0.0"), ("branch = \"main\"".into(), "1.1.0")] {
        let permitted = "[policy]\ngit-schemes = [\"git\"]";
        needs(&sandbox, &format!("clock = {{ git = \"{address}\", {at}, inside = \"packages/clock\" }}\n{permitted}"));
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", "install").expect(0);
        let told = sandbox.run("console", "run -- clock").expect(0).stdout;
        assert_eq!(told, format!("clock {version}\n"));
    }
    drop(daemon);
    remove(&sandbox, "cache");
    remove(&sandbox, "console/.yostel");
    sandbox.run("console", "install").expect(5).says(&["clock: git cannot reach", &address]);
}
