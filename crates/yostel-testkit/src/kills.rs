//! A process killed at any moment leaves cache and project as before or as after, and the next one goes on.

use std::fmt;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::Sandbox;
use crate::random::Random;

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

/// What is killed, in turn.
const WORK: [&str; 13] = [
    "install cold",
    "install warm",
    "prune",
    "lock",
    "load",
    "publish",
    "withdraw",
    "alter",
    "keep",
    "add",
    "undo",
    "culprit",
    "settle",
];

/// Kills `kills` processes of the program at work, in turn: installs, a prune, a lock, a load, a publish, a withdrawal,
/// changes of a package, edits of a manifest. After each, what comes next must succeed, the install must have the digest
/// it always has, everything must be sound, and nothing may be left over.
///
/// # Panics
/// When anything is broken; the message says after which kill.
pub fn kill_at_random(program: &Path, kills: u64, seed: u64) -> KillReport {
    let world = KillWorld::new(program);
    let began = Instant::now();
    let right = world.check("at the beginning");
    let longest = began.elapsed().as_micros() as u64 + 2000;
    let mut random = Random::of(seed);
    let mut below = |limit: u64| random.below(limit);
    let mut report = KillReport::default();
    let mut turn = 0u64;
    while report.killed < kills {
        let what = WORK[(turn % WORK.len() as u64) as usize];
        turn += 1;
        let (folder, words) = world.prepare(what, turn);
        let mut command = world.sandbox.command(folder, &words);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("the program starts");
        // Most work is shorter than the longest.
        let limit = longest >> below(4);
        std::thread::sleep(Duration::from_micros(below(limit)));
        match child.try_wait() {
            Ok(Some(_)) => report.done_before += 1,
            _ => report.killed += 1,
        }
        child.kill().ok();
        child.wait().expect("it ends");
        let after = format!("after kill {} of `{what}`, seed {seed}", report.killed);
        world.tidy(turn);
        assert_eq!(world.check(&after), right, "{after}: another digest");
        world.no_leftovers(&after);
    }
    report
}

struct KillWorld {
    sandbox: Sandbox,
    manifest: String,
}

impl KillWorld {
    fn new(program: &Path) -> Self {
        let sandbox = Sandbox::new(program);
        sandbox.run("", "registry create station --name station").expect(0);
        let mut needs = String::new();
        for package in 0..8 {
            let manifest = format!("[project]\nname = \"part{package}\"\nversion = \"1.0.0\"\n");
            sandbox.write(&format!("made{package}/yostel.toml"), manifest);
            for file in 0..25 {
                let content = format!("{package} {file}\n").repeat(40);
                sandbox.write(&format!("made{package}/share/{}/{file}.txt", file % 5), content);
            }
            sandbox.run(&format!("made{package}"), "publish --to ../station").expect(0);
            needs.push_str(&format!("part{package} = \"^1\"\n"));
        }
        let clash = "[project]\nname = \"clash\"\nversion = \"1.0.0\"\n[needs.run]\npart0 = \"^2\"\n";
        sandbox.write("clash/yostel.toml", clash);
        sandbox.run("clash", "publish --to ../station --untried").expect(0);
        let manifest =
            format!("[project]\nname = \"console\"\n[needs.run]\n{needs}[sources.station]\nfolder = \"../station\"\n");
        sandbox.write("console/yostel.toml", &manifest);
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", "install").expect(0);
        sandbox.run("console", "cache save ../kit.tar").expect(0);
        Self { sandbox, manifest }
    }

    fn gone(&self, what: &str) {
        std::fs::remove_dir_all(self.sandbox.path(what)).ok();
    }

    /// Makes the world in which this is to be done; returns in which folder, and the words.
    fn prepare(&self, what: &str, turn: u64) -> (&'static str, String) {
        let sandbox = &self.sandbox;
        let extra = format!("[project]\nname = \"extra\"\nversion = \"1.0.{turn}\"\n");
        match what {
            "install cold" => {
                self.gone("cache");
                self.gone("console/.yostel");
                ("console", "install".into())
            }
            "install warm" => {
                self.gone("console/.yostel");
                ("console", "install".into())
            }
            "prune" => {
                self.gone("console");
                sandbox.write("console/yostel.toml", &self.manifest);
                sandbox.run("console", "lock").expect(0);
                ("console", "cache prune --keep-under 0B".into())
            }
            "lock" => ("console", "lock --fresh".into()),
            "load" => {
                self.gone("cache");
                ("console", "cache load ../kit.tar".into())
            }
            "publish" => {
                sandbox.write("extra/yostel.toml", extra);
                ("extra", "publish --backport --to ../station".into())
            }
            "withdraw" => {
                sandbox.write("extra/yostel.toml", extra);
                sandbox.run("extra", "publish --backport --to ../station").expect(0);
                ("", format!("withdraw extra 1.0.{turn} --from station --why x"))
            }
            "alter" => ("console", "alter part1".into()),
            "keep" => {
                sandbox.run("console", "alter part1").expect(0);
                sandbox.write("console/altered/part1/share/0/0.txt", "changed\n");
                ("console", "alter part1 --keep --why because".into())
            }
            "add" => ("console", "add clash ^1".into()),
            "undo" => {
                sandbox.run("console", "add clash ^1").expect(0);
                ("console", "undo".into())
            }
            "culprit" => {
                let lockfile = sandbox.read("console/yostel.lock");
                sandbox.write("good.lock", lockfile);
                ("console", "culprit ../good.lock -- true".into())
            }
            _ => {
                let collides = self.manifest.replace("[sources", "clash = \"^1\"\n[sources");
                sandbox.write("console/yostel.toml", collides);
                ("console", "settle 1".into())
            }
        }
    }

    /// Takes back what was done, by commands where there are some: each must work, whatever the kill left.
    fn tidy(&self, turn: u64) {
        let sandbox = &self.sandbox;
        let manifest = std::fs::read_to_string(sandbox.path("console/yostel.toml")).expect("the manifest is there");
        assert!(manifest.contains("part0"), "the manifest is whole: {manifest}");
        if sandbox.path("console/altered").exists() && sandbox.path("console/yostel.lock").exists() {
            // Open, half-open or closed: what there is can be dropped, or is said not to be there.
            let mut run = sandbox.run("console", "alter part1 --drop");
            if run.status == 6 {
                // Between manifest and lockfile: what it says to do next helps.
                sandbox.run("console", "lock").expect(0);
                run = sandbox.run("console", "alter part1 --drop");
            }
            assert!([0, 2].contains(&run.status), "{}{}", run.stdout, run.stderr);
        }
        sandbox.write("console/yostel.toml", &self.manifest);
        self.gone("console/altered");
        self.gone("console/patches");
        // Whoever writes to the registry next finds it whole.
        sandbox.write("extra/yostel.toml", format!("[project]\nname = \"extra\"\nversion = \"2.0.{turn}\"\n"));
        sandbox.run("extra", "publish --backport --to ../station").expect(0);
        sandbox.run("", "registry list station").expect(0);
    }

    /// Locks, installs and verifies; returns the digest.
    fn check(&self, when: &str) -> String {
        let sandbox = &self.sandbox;
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", "install").expect(0);
        sandbox.run("console", "verify").expect(0);
        sandbox.run("", "cache verify").expect(0);
        // An install that finds nothing to do looks no further; one that works tidies up.
        self.gone("console/.yostel");
        let told = sandbox.run("console", "install").expect(0).stdout;
        let digest = told.lines().find_map(|line| line.trim().strip_prefix("digest ").map(str::to_owned));
        digest.unwrap_or_else(|| panic!("{when}: an install tells its digest"))
    }

    fn no_leftovers(&self, after: &str) {
        for left in ["cache/aside", "cache/fetching", "console/.yostel/aside", "console/.yostel/unfinished.json"] {
            assert!(!self.sandbox.path(left).exists(), "{after}: {left} was left");
        }
        let mut open = vec![self.sandbox.path("")];
        while let Some(folder) = open.pop() {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                let name = entry.file_name();
                assert!(
                    !name.to_string_lossy().ends_with(".yostel-new"),
                    "{after}: {} was left",
                    entry.path().display()
                );
                if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                    open.push(entry.path());
                }
            }
        }
    }
}
