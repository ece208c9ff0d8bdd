//! A sandbox in which the built program runs: own folders, own cache, an empty environment, a fixed clock.

use std::fs::{self, File, OpenOptions};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{LocalModes, Winsize, tcgetattr, tcsetwinsize};

use crate::suggested::try_all;

/// A temporary folder and the program to run in it.
#[derive(Debug)]
pub struct Sandbox {
    folder: tempfile::TempDir,
    program: PathBuf,
    judge: Option<fn(&str)>,
}

/// What a run of the program left behind.
#[derive(Debug)]
pub struct Run {
    /// The exit status, or -1 when a signal ended it.
    pub status: i32,
    /// Standard output, with the sandbox's path written `[SANDBOX]`.
    pub stdout: String,
    /// Standard error, likewise.
    pub stderr: String,
}

impl Run {
    /// Asserts the exit status and returns the run.
    ///
    /// # Panics
    /// When it is another one.
    #[track_caller]
    pub fn expect(self, status: i32) -> Self {
        assert_eq!(self.status, status, "stdout:\n{}\nstderr:\n{}", self.stdout, self.stderr);
        self
    }

    /// Asserts that standard error says all of these, and returns the run.
    ///
    /// # Panics
    /// When one is missing.
    #[track_caller]
    pub fn says(self, parts: &[&str]) -> Self {
        for part in parts {
            assert!(self.stderr.contains(part), "`{part}` is not in:\n{}", self.stderr);
        }
        self
    }
}

impl Sandbox {
    /// Makes a sandbox for the program at this path.
    ///
    /// # Panics
    /// When no temporary folder can be made.
    pub fn new(program: impl Into<PathBuf>) -> Self {
        Self { folder: tempfile::tempdir().unwrap(), program: program.into(), judge: None }
    }

    /// Has every JSON document judged that the program answers with.
    #[must_use]
    pub fn judged_by(self, judge: fn(&str)) -> Self {
        Self { judge: Some(judge), ..self }
    }

    /// Returns a path inside the sandbox.
    pub fn path(&self, relative: &str) -> PathBuf {
        self.folder.path().join(relative)
    }

    /// Writes a file, making its folders.
    ///
    /// # Panics
    /// When that fails.
    pub fn write(&self, relative: &str, content: impl AsRef<[u8]>) {
        let path = self.path(relative);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    /// Reads a file.
    ///
    /// # Panics
    /// When it is not there or not text.
    pub fn read(&self, relative: &str) -> String {
        fs::read_to_string(self.path(relative)).unwrap()
    }

    /// Prepares a run in a folder of the sandbox; words are split at spaces.
    pub fn command(&self, folder: &str, words: &str) -> Command {
        let mut command = Command::new(&self.program);
        command.args(words.split(' ').filter(|word| !word.is_empty()));
        self.prepare(command, folder)
    }

    /// Prepares a line for the shell, which finds the program by its name.
    pub fn shell(&self, folder: &str, line: &str) -> Command {
        let mut command = Command::new("sh");
        command.args(["-c", line]);
        let mut command = self.prepare(command, folder);
        let folders = self.program.parent().into_iter().map(Path::to_owned);
        let before = std::env::var_os("PATH").unwrap_or_default();
        let path = std::env::join_paths(folders.chain(std::env::split_paths(&before)));
        command.env("PATH", path.unwrap_or(before));
        command
    }

    fn prepare(&self, mut command: Command, folder: &str) -> Command {
        command
            .current_dir(self.path(folder))
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("HOME", self.path("home"))
            .env("YOSTEL_CACHE", self.path("cache"))
            .env("SOURCE_DATE_EPOCH", "1790000000")
            .stdin(Stdio::null());
        command
    }

    /// Runs the program in a folder of the sandbox.
    ///
    /// # Panics
    /// When it cannot be started.
    pub fn run(&self, folder: &str, words: &str) -> Run {
        self.finish(&mut self.command(folder, words))
    }

    /// Runs the program on a terminal of so many columns, without colours and bars; returns what is seen there.
    ///
    /// # Panics
    /// When there is no terminal to be had.
    pub fn on_terminal(&self, folder: &str, words: &str, columns: u16) -> String {
        let (mut controller, terminal) = pseudo_terminal(40, columns);
        let mut command = self.command(folder, &format!("--color never --no-progress {words}"));
        let mut child = command.stdout(terminal.try_clone().unwrap()).stderr(terminal).spawn().unwrap();
        // Once nobody holds the other end, reading ends.
        drop(command);
        let mut seen = Vec::new();
        controller.read_to_end(&mut seen).ok();
        child.wait().unwrap();
        String::from_utf8(seen).unwrap().replace("\r\n", "\n")
    }

    /// Runs the program where somebody sits at a terminal of so many lines, who types these keys once they see a text there. What it answers on
    /// the standard output is not on the terminal; as its standard error is what was seen there.
    ///
    /// # Panics
    /// When there is no terminal to be had, or the text is not seen within a minute.
    pub fn at_terminal(&self, folder: &str, words: &str, lines: u16, (text, keys): (&str, &str)) -> Run {
        let (mut controller, terminal) = pseudo_terminal(lines, 80);
        let mut command = self.command(folder, &format!("--color never --no-progress {words}"));
        command.stdin(terminal.try_clone().unwrap()).stdout(Stdio::piped()).stderr(terminal);
        let child = command.spawn().unwrap();
        drop(command);
        let mut typing = controller.try_clone().unwrap();
        let (seen_so_far, arrived) = mpsc::channel();
        let reading = thread::spawn(move || {
            let (mut seen, mut some) = (Vec::new(), [0; 4096]);
            while let Ok(read @ 1..) = controller.read(&mut some) {
                seen.extend_from_slice(&some[..read]);
                seen_so_far.send(seen.clone()).ok();
            }
            String::from_utf8_lossy(&seen).replace("\r\n", "\n")
        });
        let shows = |seen: Vec<u8>| String::from_utf8_lossy(&seen).contains(text);
        while !shows(arrived.recv_timeout(Duration::from_secs(60)).expect("the text was never seen")) {}
        // Before the program reads key by key, the terminal itself would take some of them for its own.
        for _ in 0..if keys.is_empty() { 0 } else { 6000 } {
            if !tcgetattr(&typing).unwrap().local_modes.contains(LocalModes::ICANON) {
                break;
            }
            thread::sleep(Duration::from_millis(10));
        }
        typing.write_all(keys.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        let stdout = String::from_utf8(output.stdout).unwrap();
        Run { status: output.status.code().unwrap_or(-1), stdout, stderr: reading.join().unwrap() }
    }

    /// Runs a prepared command.
    ///
    /// # Panics
    /// When it cannot be started.
    pub fn finish(&self, command: &mut Command) -> Run {
        let output = command.output().unwrap();
        if let Some(judge) = self.judge.filter(|_| asks_for_json(command)) {
            judge(&String::from_utf8_lossy(&output.stdout));
        }
        if output.status.code().is_some() && command.get_program() == self.program.as_os_str() {
            for text in [&output.stdout, &output.stderr] {
                try_all(self.folder.path(), command, &String::from_utf8_lossy(text));
            }
        }
        let root = self.folder.path().to_string_lossy().into_owned();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).replace(&root, "[SANDBOX]");
        Run { status: output.status.code().unwrap_or(-1), stdout: text(&output.stdout), stderr: text(&output.stderr) }
    }

    /// Lists every path below a folder, sorted, with a mark for its kind and the content of files: to show that
    /// nothing changed.
    ///
    /// # Panics
    /// When the folder cannot be read.
    pub fn picture(&self, relative: &str) -> Vec<String> {
        fn walk(folder: &Path, root: &Path, into: &mut Vec<String>) {
            let Ok(entries) = fs::read_dir(folder) else { return };
            for entry in entries {
                let path = entry.unwrap().path();
                let name = path.strip_prefix(root).unwrap().display().to_string();
                let kind = path.symlink_metadata().unwrap().file_type();
                if kind.is_symlink() {
                    into.push(format!("{name} -> {}", fs::read_link(&path).unwrap().display()));
                } else if kind.is_dir() {
                    into.push(format!("{name}/"));
                    walk(&path, root, into);
                } else {
                    into.push(format!("{name}: {:?}", String::from_utf8_lossy(&fs::read(&path).unwrap())));
                }
            }
        }
        let mut lines = Vec::new();
        walk(&self.path(relative), &self.path(relative), &mut lines);
        lines.sort();
        lines
    }
}

/// Tells whether a command asks for JSON, and nothing but the program itself answers.
fn asks_for_json(command: &Command) -> bool {
    let words: Vec<&str> =
        command.get_args().filter_map(|word| word.to_str()).take_while(|word| *word != "--").collect();
    let passes_on = words.contains(&"run") && !words.contains(&"--each");
    words.windows(2).any(|pair| pair == ["--format", "json"]) && !passes_on
}

/// Opens a terminal of so many lines and columns: the end that a program does not see, and the one that it does.
fn pseudo_terminal(lines: u16, columns: u16) -> (File, File) {
    let controller = File::from(openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap());
    grantpt(&controller).unwrap();
    unlockpt(&controller).unwrap();
    tcsetwinsize(&controller, Winsize { ws_row: lines, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let name = ptsname(&controller, Vec::new()).unwrap().into_string().unwrap();
    (controller, OpenOptions::new().read(true).write(true).open(name).unwrap())
}
