//! Builds the copy, and runs its tests until one notices.

use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use crate::copies::ON;
use crate::sites::Site;

/// Longest time that one program of tests may take: several times what it takes without a fault.
const LIMIT: Duration = Duration::from_secs(300);

/// Crates, lowest first: a fault is looked for in its own first, and then upwards.
const ORDER: [&str; 13] = [
    "versions",
    "documents",
    "solver",
    "resolve",
    "findings",
    "files",
    "store",
    "sources",
    "registry",
    "flows",
    "answers",
    "testkit",
    "",
];

/// A program of tests.
pub(crate) struct TestProgram {
    room: String,
    program: PathBuf,
    folder: PathBuf,
}

/// What became of a fault.
pub(crate) enum Verdict {
    /// A test failed, or did not end.
    Noticed(String),
    /// All passed.
    Missed,
}

/// Places in files, by line.
type Places = Vec<(String, usize)>;

/// Builds the tests: their programs, or where it does not compile.
pub(crate) fn tests_of(folder: &Path) -> Result<Result<Vec<TestProgram>, Places>, String> {
    let output = Command::new("cargo")
        .args(["test", "--locked", "--no-run", "--message-format=json", "--workspace", "--lib", "--tests", "--quiet"])
        .current_dir(folder)
        .env("CARGO_TARGET_DIR", folder.join("target"))
        .env("RUSTFLAGS", "-A warnings")
        .stderr(Stdio::inherit())
        .output()
        .map_err(|error| format!("cargo: {error}"))?;
    let (mut tests, mut places) = (Vec::new(), Places::new());
    for line in String::from_utf8_lossy(&output.stdout).lines() {
        let Ok(message) = serde_json::from_str::<serde_json::Value>(line) else { continue };
        if message["message"]["level"] == "error" {
            for span in message["message"]["spans"].as_array().into_iter().flatten() {
                let (file, line) = (span["file_name"].as_str(), span["line_start"].as_u64());
                if let (Some(file), Some(line)) = (file, line) {
                    places.push((file.to_owned(), usize::try_from(line).unwrap_or(0)));
                }
            }
        }
        let (Some(program), Some(manifest)) = (message["executable"].as_str(), message["manifest_path"].as_str())
        else {
            continue;
        };
        // What holds the sources to rules of writing would find every fault, and no mistake.
        let is_house = message["target"]["name"] == "house";
        if message["profile"]["test"] == true && !is_house {
            let folder = Path::new(manifest).parent().unwrap_or(folder).to_owned();
            let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let room = name.strip_prefix("yostel").unwrap_or_default().trim_start_matches('-').to_owned();
            tests.push(TestProgram { room, program: program.into(), folder });
        }
    }
    if !output.status.success() {
        return Ok(Err(places));
    }
    tests.sort_by_key(|test| (rank(&test.room), test.program.clone()));
    Ok(Ok(tests))
}

fn rank(room: &str) -> usize {
    ORDER.iter().position(|one| *one == room).unwrap_or(ORDER.len())
}

/// Runs the tests with one fault on, or none.
pub(crate) fn judge(folder: &Path, tests: &[TestProgram], fault: Option<&Site>) -> Result<Verdict, String> {
    let number = fault.map_or(0, |site| site.number);
    fs::write(folder.join(ON), number.to_string()).map_err(|error| error.to_string())?;
    let from = fault.map_or(0, |site| rank(&site.room));
    for test in tests.iter().filter(|test| rank(&test.room) >= from) {
        let Some(by) = run(test, None)? else { continue };
        // A machine that is busy can make a test fail; only what fails again, alone, has noticed.
        let again = if by.is_a_test { run(test, Some(&by.name))? } else { Some(by) };
        if let Some(by) = again {
            let room = if test.room.is_empty() { "program" } else { &test.room };
            return Ok(Verdict::Noticed(format!("{} ({room})", by.name)));
        }
    }
    Ok(Verdict::Missed)
}

/// What ended a program of tests.
struct Failed {
    name: String,
    /// Whether that is the name of a test, which can be run alone.
    is_a_test: bool,
}

/// Runs a program of tests, or one of its tests, until the first failure; returns what failed.
fn run(test: &TestProgram, only: Option<&str>) -> Result<Option<Failed>, String> {
    let mut child = Command::new(&test.program)
        .args(only.into_iter().flat_map(|name| ["--exact", name]))
        .current_dir(&test.folder)
        .env("INSTA_UPDATE", "no")
        .env("CARGO_MANIFEST_DIR", &test.folder)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
        .map_err(|error| format!("{}: {error}", test.program.display()))?;
    let (tell, told) = mpsc::channel();
    let stdout = child.stdout.take().ok_or("it has no output")?;
    std::thread::spawn(move || read_lines(stdout, &tell));
    let began = Instant::now();
    let mut failed = loop {
        match told.recv_timeout(LIMIT.saturating_sub(began.elapsed())) {
            Ok(line) => {
                if let Some(name) = line.strip_prefix("test ").and_then(|rest| rest.strip_suffix(" ... FAILED")) {
                    break Some(Failed { name: name.to_owned(), is_a_test: true });
                }
            }
            Err(mpsc::RecvTimeoutError::Disconnected) => break None,
            Err(mpsc::RecvTimeoutError::Timeout) => {
                break Some(Failed { name: "a test that did not end".to_owned(), is_a_test: false });
            }
        }
    };
    if failed.is_some() {
        // All it started goes with it.
        Command::new("kill").args(["-KILL", "--", &format!("-{}", child.id())]).status().ok();
    }
    let status = child.wait().map_err(|error| error.to_string())?;
    if failed.is_none() && !status.success() {
        failed = Some(Failed { name: format!("the whole run, which ended with {status}"), is_a_test: false });
    }
    Ok(failed)
}

fn read_lines(stdout: impl Read, tell: &mpsc::Sender<String>) {
    for line in BufReader::new(stdout).lines().map_while(Result::ok) {
        if tell.send(line).is_err() {
            return;
        }
    }
}
