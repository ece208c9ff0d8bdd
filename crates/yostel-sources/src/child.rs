//! A program that is run for its answer, and not for longer than one is willing to wait.

use std::io::{self, IsTerminal, Read};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::{Duration, Instant};

use crate::patience::{LOOK, Patience};

/// Most bytes that are kept of what a program says, for each of its two ways to say it.
const MOST_KEPT: usize = 64 << 20;

/// How often a program that closed both is looked after.
const SOON: Duration = Duration::from_millis(5);

/// How long something that a program started may go on talking once the program itself has ended.
const AFTER_ITS_END: Duration = Duration::from_secs(1);

/// How a program ended.
pub enum Ended {
    /// By itself.
    Exited {
        /// How.
        status: ExitStatus,
        /// What it answered.
        stdout: Vec<u8>,
        /// What it said besides.
        stderr: Vec<u8>,
    },
    /// It was ended, because it said nothing for too long.
    Silent,
    /// It was ended, because it took too long.
    TooLong,
    /// It was ended, because it said too much.
    TooMuch,
    /// It was ended, because it was told to stop.
    Stopped,
}

type Stream = Box<dyn Read + Send>;

type Wrap = fn(Vec<u8>) -> Heard;

enum Heard {
    Answer(Vec<u8>),
    Remark(Vec<u8>),
    End,
}

/// Runs a program to its end, or until patience is at its end. Its standard input is as the command has it.
///
/// # Errors
/// When it cannot be started.
pub(crate) fn run_within(command: Command, patience: &Patience) -> io::Result<Ended> {
    // What it starts ends with it. Where there is a terminal, it stays in the foreground, or it could not ask for the
    // password of a key.
    run_in(command, patience, (!io::stderr().is_terminal(), false))
}

/// Runs a program that asks nobody anything, to its end or until patience is at its end: whatever it started is ended with
/// it, however it ends.
///
/// # Errors
/// When it cannot be started.
pub fn run_alone(mut command: Command, patience: &Patience) -> io::Result<Ended> {
    command.stdin(Stdio::null());
    run_in(command, patience, (true, true))
}

/// Runs a program for its answer to what its standard input says; whatever it started is ended with it.
///
/// # Errors
/// When it cannot be started.
pub(crate) fn run_asked(command: Command, patience: &Patience) -> io::Result<Ended> {
    run_in(command, patience, (!io::stderr().is_terminal(), true))
}

/// Runs a program, in a group of its own or not, and says whether what it left behind is ended too.
fn run_in(mut command: Command, patience: &Patience, (own_group, ends_rest): (bool, bool)) -> io::Result<Ended> {
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    if own_group {
        command.process_group(0);
    }
    let mut child = command.spawn()?;
    let began = Instant::now();
    let (tell, heard) = mpsc::channel();
    let streams: [(Stream, Wrap); 2] = [
        (Box::new(child.stdout.take().expect("it is a pipe")), Heard::Answer),
        (Box::new(child.stderr.take().expect("it is a pipe")), Heard::Remark),
    ];
    for (stream, wrap) in streams {
        let tell = tell.clone();
        // Not waited for: something the program started may keep the pipe open for ever.
        let listener = thread::Builder::new().name("listen".into());
        if let Err(error) = listener.spawn(move || listen(stream, wrap, &tell)) {
            end(&mut child, own_group);
            return Err(error);
        }
    }
    let (mut stdout, mut stderr, mut open) = (Vec::new(), Vec::new(), 2);
    let mut last_word = Instant::now();
    loop {
        let left =
            patience.total.saturating_sub(began.elapsed()).min(patience.idle.saturating_sub(last_word.elapsed()));
        let wait = if open == 0 { left.min(SOON) } else { left.min(LOOK) };
        let mut heard_nothing = false;
        match heard.recv_timeout(wait) {
            Ok(Heard::Answer(bytes)) => stdout.extend(bytes),
            Ok(Heard::Remark(bytes)) => stderr.extend(bytes),
            Ok(Heard::End) => {
                open -= 1;
                continue;
            }
            Err(RecvTimeoutError::Disconnected) => thread::sleep(SOON.min(left)),
            Err(RecvTimeoutError::Timeout) => heard_nothing = true,
        }
        // What it said may still be on its way for a moment.
        if (open == 0 || heard_nothing && last_word.elapsed() >= AFTER_ITS_END.min(patience.idle))
            && let Some(status) = child.try_wait()?
        {
            if ends_rest {
                end_group(&child);
            }
            return Ok(Ended::Exited { status, stdout, stderr });
        }
        let ended = if patience.is_stopped() {
            Ended::Stopped
        } else if stdout.len() > MOST_KEPT || stderr.len() > MOST_KEPT {
            Ended::TooMuch
        } else if began.elapsed() >= patience.total {
            Ended::TooLong
        } else if last_word.elapsed() >= patience.idle {
            Ended::Silent
        } else {
            if open > 0 && !heard_nothing {
                last_word = Instant::now();
            }
            continue;
        };
        end(&mut child, own_group);
        return Ok(ended);
    }
}

fn listen(mut stream: impl Read, wrap: Wrap, tell: &mpsc::Sender<Heard>) {
    let mut buffer = vec![0; 64 * 1024];
    while let Ok(n) = stream.read(&mut buffer)
        && n > 0
    {
        if tell.send(wrap(buffer[..n].to_vec())).is_err() {
            return;
        }
    }
    tell.send(Heard::End).ok();
}

/// Ends everything that is in the group of a program.
fn end_group(child: &Child) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw) {
        rustix::process::kill_process_group(group, rustix::process::Signal::KILL).ok();
    }
}

fn end(child: &mut Child, own_group: bool) {
    if own_group {
        end_group(child);
    }
    child.kill().ok();
    child.wait().ok();
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(script: &str, idle: u64, total: u64) -> Ended {
        let mut command = Command::new("sh");
        command.args(["-c", script]).stdin(Stdio::null());
        let (idle, total) = (Duration::from_millis(idle), Duration::from_millis(total));
        run_within(command, &Patience { idle, total, ..Patience::default() }).unwrap()
    }

    #[test]
    fn a_program_is_waited_for_while_it_says_something_and_no_longer() {
        assert!(matches!(run("echo a; echo b >&2; exit 3", 5000, 5000),
            Ended::Exited { status, stdout, stderr } if status.code() == Some(3) && stdout == b"a\n" && stderr == b"b\n"));
        assert!(matches!(run("sleep 60", 100, 60_000), Ended::Silent));
        assert!(matches!(run("while :; do echo x; sleep 0.05; done", 20_000, 300), Ended::TooLong));
        // Its child keeps the pipe open; both are ended.
        assert!(matches!(run("sleep 60 & sleep 60", 100, 60_000), Ended::Silent));
    }

    #[test]
    fn a_program_is_ended_when_its_answer_is_not_wanted_any_more() {
        let patience = Patience::default();
        let stop = patience.stop.clone();
        std::thread::spawn(move || stop.store(true, std::sync::atomic::Ordering::Relaxed));
        let mut command = Command::new("sh");
        command.args(["-c", "while :; do echo x; sleep 0.01; done"]).stdin(Stdio::null());
        assert!(matches!(run_within(command, &patience).unwrap(), Ended::Stopped));
    }
}
