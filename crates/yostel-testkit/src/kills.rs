//! A process killed at any moment leaves cache and project as before or as after, and the next one goes on.

use std::fmt;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::Sandbox;

/// What the kills met.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct KillReport {
    /// Processes that were killed while they worked.
    pub killed: u64,
    /// Processes that were done before the kill.
    pub done_before: u64,
}

impl fmt::Display for KillReport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} killed at work, {} were done before; nothing was broken", self.killed, self.done_before)
    }
}

/// Kills `kills` processes of the program at work, in turn: a cold install, a warm one, a prune. After each, the next
/// install and a check of everything must succeed, and the install must have the digest it always has.
///
/// # Panics
/// When anything is broken; the message says after which kill.
pub fn kill_at_random(program: &Path, kills: u64, seed: u64) -> KillReport {
    let sandbox = Sandbox::new(program);
    sandbox.run("", "registry create depot --name depot").expect(0);
    let mut needs = String::new();
    for package in 0..8 {
        sandbox.write(
            &format!("made{package}/yostel.toml"),
            format!("[project]\nname = \"part{package}\"\nversion = \"1.0.0\"\n"),
        );
        for file in 0..25 {
            sandbox.write(
                &format!("made{package}/share/{}/{file}.txt", file % 5),
                format!("{package} {file}\n").repeat(40),
            );
        }
        sandbox.run(&format!("made{package}"), "publish --to ../depot").expect(0);
        needs.push_str(&format!("part{package} = \"^1\"\n"));
    }
    sandbox.write("console/yostel.toml", needs_text(&needs));
    sandbox.run("console", "lock").expect(0);
    let digest = |told: &str| told.lines().find_map(|line| line.trim().strip_prefix("digest ").map(str::to_owned));
    let began = Instant::now();
    let right = digest(&sandbox.run("console", "install").expect(0).stdout);
    let longest = began.elapsed().as_micros() as u64 + 2000;
    assert!(right.is_some(), "an install tells its digest");
    let mut random = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut below = |limit: u64| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        (random >> 11) % limit.max(1)
    };
    let mut report = KillReport::default();
    let mut turn = 0;
    while report.killed < kills {
        turn += 1;
        let gone = |what: &str| drop(std::fs::remove_dir_all(sandbox.path(what)));
        let words = match turn % 3 {
            0 => {
                gone("cache");
                gone("console/.yostel");
                "install"
            }
            1 => {
                gone("console/.yostel");
                "install"
            }
            _ => {
                gone("console");
                sandbox.write("console/yostel.toml", needs_text(&needs));
                sandbox.run("console", "lock").expect(0);
                "cache prune --keep-under 0B"
            }
        };
        let mut command = sandbox.command("console", words);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("the program starts");
        std::thread::sleep(Duration::from_micros(below(longest)));
        match child.try_wait() {
            Ok(Some(_)) => report.done_before += 1,
            _ => report.killed += 1,
        }
        child.kill().ok();
        child.wait().expect("it ends");
        let after = format!("after kill {} of `{words}`, seed {seed}", report.killed);
        let told = sandbox.run("console", "install").expect(0).stdout;
        assert_eq!(digest(&told), right, "{after}: another digest");
        sandbox.run("console", "verify").expect(0);
        sandbox.run("", "cache verify").expect(0);
        // An install that finds nothing to do looks no further; one that works tidies up.
        gone("console/.yostel");
        sandbox.run("console", "install").expect(0);
        for left in ["cache/aside", "cache/fetching", "console/.yostel/aside"] {
            // What was being made when the process died may be anybody's for an hour.
            let names = std::fs::read_dir(sandbox.path(left)).into_iter().flatten().flatten();
            let names: Vec<_> =
                names.map(|e| e.file_name()).filter(|n| !n.to_string_lossy().starts_with("new-")).collect();
            assert!(names.is_empty(), "{after}: {left} was left with {names:?}");
        }
    }
    report
}

fn needs_text(needs: &str) -> String {
    format!("[project]\nname = \"console\"\n[needs.run]\n{needs}[sources.depot]\nfolder = \"../depot\"\n")
}
