//! The command line of yostel: arguments, then one flow, then words.

mod args;
mod commands;
mod context;
mod demo;
mod diagnostic;
mod exit;
mod progress;
mod render;
mod sanitise;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;

use crate::args::Arguments;
use crate::commands::Answer;
use crate::context::Context;
use crate::exit::Exit;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    tell_what_goes_on();
    let answer = match Context::new(&arguments) {
        Ok(context) => commands::run(arguments.command, &context).unwrap_or_else(|error| context.failure(&error)),
        Err(answer) => answer,
    };
    ExitCode::from(finish(&answer).status())
}

/// Tells on standard error what goes on inside, when `YOSTEL_LOG` asks for it: `debug`, `trace`, or a part like
/// `yostel_flows=debug`.
fn tell_what_goes_on() {
    if std::env::var_os("YOSTEL_LOG").is_some() {
        let filter = tracing_subscriber::EnvFilter::from_env("YOSTEL_LOG");
        let lines = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).without_time();
        lines.with_ansi(false).init();
    }
}

/// Writes the answer. Whoever closed the pipe has read enough.
fn finish(answer: &Answer) -> Exit {
    let err = anstream::stderr().write_all(answer.stderr.as_bytes());
    let mut stdout = anstream::stdout();
    let out = stdout.write_all(answer.stdout.as_bytes()).and_then(|()| stdout.flush());
    match out.and(err) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Exit::Machine,
        _ => answer.exit,
    }
}
