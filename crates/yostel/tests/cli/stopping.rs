//! Ctrl-C: the program ends in order, with status 130, and nothing is half-done.
//! The accident this prevents: an impatient person, a folder full of halves, and a build that trusts them.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::net::TcpListener;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use yostel_testkit::Sandbox;

use crate::{project, publish, sandbox, small_world};

fn begin(sandbox: &Sandbox, words: &str) -> Child {
    sandbox.command("console", words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Sends what Ctrl-C sends; where these tests were begun by something that ignores that, what ends a session.
fn interrupt(child: &Child) {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| u64::from_str_radix(line.strip_prefix("SigIgn:")?.trim(), 16).ok());
    let is_ignored = mask.is_some_and(|mask| mask & 0b10 != 0);
    let signal = if is_ignored { "-TERM" } else { "-INT" };
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
}

/// Waits for the end; returns the status and what was said.
fn end(mut child: Child) -> (Option<i32>, String) {
    let began = Instant::now();
    while child.try_wait().unwrap().is_none() {
        assert!(began.elapsed() < Duration::from_secs(20), "it does not stop");
        std::thread::sleep(Duration::from_millis(5));
    }
    let mut said = String::new();
    child.stdout.take().unwrap().read_to_string(&mut said).unwrap();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    (child.wait().unwrap().code(), said)
}

#[test]
fn who_waits_for_another_process_stops_waiting() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "remove rig").expect(0);
    sandbox.run("console", "lock").expect(0);
    let before = sandbox.picture("console");
    let guard = File::open(sandbox.path("console/.yostel/guard")).unwrap();
    guard.lock().unwrap();
    for (words, says) in [("install", "error: stopped"), ("--format json install", "\"stopped\"")] {
        let mut child = begin(&sandbox, words);
        let mut line = String::new();
        BufReader::new(child.stderr.take().unwrap()).read_line(&mut line).unwrap();
        assert_eq!(line, "waiting: another yostel is at work in this project\n");
        interrupt(&child);
        child.stderr = None;
        let status = child.wait_with_output().unwrap();
        let said = String::from_utf8_lossy(&status.stdout).into_owned();
        assert_eq!(status.status.code(), Some(130), "{said}");
        assert!(!words.contains("json") || said.contains(says), "{said}");
        assert_eq!(sandbox.picture("console"), before);
    }
    guard.unlock().unwrap();
    sandbox.run("console", "install").expect(0);
}

#[test]
fn who_waits_to_edit_says_so_stops_when_told_to_and_goes_on_when_it_may() {
    let sandbox = small_world();
    let before = sandbox.picture("console");
    let folder = File::open(sandbox.path("console")).unwrap();
    folder.lock().unwrap();
    let waits = |words: &str| {
        let mut child = begin(&sandbox, words);
        let mut line = String::new();
        let mut stderr = BufReader::new(child.stderr.take().unwrap());
        stderr.read_line(&mut line).unwrap();
        assert_eq!(line, "waiting: another yostel is at work in this project\n", "{words}");
        (child, stderr)
    };
    for words in ["add unit", "remove gust"] {
        let (child, stderr) = waits(words);
        interrupt(&child);
        let status = child.wait_with_output().unwrap().status;
        assert_eq!(status.code(), Some(130), "{words}");
        drop(stderr);
        assert_eq!(sandbox.picture("console"), before);
    }
    let (child, _stderr) = waits("add unit");
    folder.unlock().unwrap();
    assert!(child.wait_with_output().unwrap().status.success());
    assert!(sandbox.read("console/yostel.toml").contains("unit = "));
}

#[test]
fn a_server_that_says_nothing_is_not_waited_for_once_somebody_wants_to_stop() {
    let server = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/far.tar.gz", server.local_addr().unwrap());
    let sandbox = small_world();
    let digest = "0".repeat(64);
    project(&sandbox, &format!("far = {{ archive = \"{address}\", digest = \"sha256:{digest}\" }}"), "");
    let before = sandbox.picture("console");
    let child = begin(&sandbox, "lock");
    // It is connected, and waits for an answer.
    server.set_nonblocking(true).unwrap();
    let began = Instant::now();
    let _held = loop {
        match server.accept() {
            Ok(held) => break held,
            Err(_) => assert!(began.elapsed() < Duration::from_secs(20), "nobody asks"),
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    interrupt(&child);
    let (status, said) = end(child);
    assert_eq!(
        (status, said.as_str()),
        (Some(130), "error: stopped; nothing was left half-done\nnext: run the same command again to go on\n")
    );
    assert_eq!(sandbox.picture("console"), before);
}

#[test]
fn an_install_that_is_stopped_at_any_time_leaves_all_or_nothing() {
    let sandbox = sandbox();
    let mut needs = String::new();
    for i in 0..25 {
        let text = format!("{i}").repeat(40_000);
        let files: Vec<(String, &str)> = (0..30).map(|j| (format!("share/f{j}"), text.as_str())).collect();
        let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), *text)).collect();
        publish(&sandbox, &format!("p{i} 1.0.0"), "", &files);
        needs.push_str(&format!("p{i} = \"^1\"\n"));
    }
    project(&sandbox, &needs, "");
    sandbox.run("console", "lock").expect(0);
    let began = Instant::now();
    sandbox.run("console", "install").expect(0);
    let whole = began.elapsed();
    let (mut stopped, mut done) = (0, 0);
    for step in 0..12 {
        for folder in ["console/.yostel", "cache"] {
            let path = sandbox.path(folder);
            // Stopped early, it made neither.
            if !path.exists() {
                continue;
            }
            Command::new("chmod").args(["-R", "u+w"]).arg(&path).status().unwrap();
            std::fs::remove_dir_all(path).unwrap();
        }
        let child = begin(&sandbox, "install");
        std::thread::sleep(whole * step / 12);
        interrupt(&child);
        match end(child) {
            // Before it could say so, or after all was done.
            (None | Some(0), _) => done += 1,
            (Some(130), said) => {
                assert!(said.contains("stopped; nothing was left half-done"), "{said}");
                stopped += 1;
            }
            other => panic!("{other:?}"),
        }
        let aside =
            sandbox.picture("cache").into_iter().filter(|line| line.contains("aside/") && !line.ends_with("aside/"));
        assert_eq!(aside.collect::<Vec<_>>(), Vec::<String>::new(), "after {step} twelfths");
        let status = sandbox.run("console", "verify").status;
        assert!(status == 0 || status == 6, "installed whole or not at all: {status}");
    }
    assert!(stopped >= 3, "{stopped} of 12 were stopped, {done} ended");
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "cache verify").expect(0);
}

#[test]
fn a_signal_that_is_to_be_ignored_stays_ignored_and_any_other_ends_in_order() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let guard = File::open(sandbox.path("console/.yostel/guard")).unwrap();
    for (signal, ignored, status) in [("HUP", "HUP", 0), ("INT", "INT", 0), ("TERM", "HUP", 130), ("HUP", "INT", 130)] {
        // There is something to do.
        std::fs::remove_file(sandbox.path("console/.yostel/inventory.json")).unwrap();
        guard.lock().unwrap();
        let mut command = sandbox.shell("console", &format!("trap '' {ignored}; exec yostel install"));
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let mut said = BufReader::new(child.stderr.take().unwrap());
        let mut line = String::new();
        said.read_line(&mut line).unwrap();
        assert!(line.starts_with("waiting: "), "{line}");
        let sent = Command::new("kill").args([&format!("-{signal}"), &child.id().to_string()]).status().unwrap();
        assert!(sent.success());
        std::thread::sleep(Duration::from_millis(200));
        guard.unlock().unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(status), "{signal}, with {ignored} ignored");
        sandbox.run("console", "install").expect(0);
    }
}

#[test]
fn a_second_time_ends_it_at_once_and_the_next_run_finds_everything_whole() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    // A command that waits for a program which does not end, and would be waited for.
    sandbox.write("console/wait", "#!/bin/sh\ntrap '' INT\necho here\nsleep 30\n");
    std::fs::set_permissions(sandbox.path("console/wait"), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .unwrap();
    sandbox.run("console", "install").expect(0);
    let mut child = begin(&sandbox, "run --each -- ./wait");
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert_eq!(line, "here\n");
    interrupt(&child);
    std::thread::sleep(Duration::from_millis(100));
    interrupt(&child);
    let began = Instant::now();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(began.elapsed() < Duration::from_secs(10));
    sandbox.run("console", "verify").expect(0);
}
