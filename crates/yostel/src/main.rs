//! The command line of yostel: arguments, then one flow, then words.

mod answer;
mod args;
mod call;
mod commands;
mod exit;
mod options;
mod progress;
mod render;
mod role;
mod sanitise;
mod signals;
mod usage;

use std::ffi::OsString;
use std::io::Write;
use std::process::ExitCode;

use clap::error::ErrorKind;

use crate::answer::{Answer, Door, failure, failure_of};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::Format;
use crate::render::{Role, paint};
use crate::sanitise::{plain_json, shown, without_asides};

fn main() -> ExitCode {
    let typed: Vec<OsString> = std::env::args_os().collect();
    let mut quiet = false;
    let answer = match args::read(&typed) {
        Ok(arguments) => {
            quiet = arguments.options.quiet;
            tell_what_goes_on();
            match Call::new(&arguments.options) {
                Ok(_) if let Some(wrong) = usage::of_format(&arguments) => {
                    failure_of(&[wrong], Exit::Usage, Format::Text)
                }
                Ok(call) => {
                    let call = call.without_servers(arguments.command.is_offline());
                    commands::run(arguments.command, &call).unwrap_or_else(|error| failure(&error, &call))
                }
                Err(wrong) => failure_of(&[wrong], Exit::Usage, arguments.options.format),
            }
        }
        Err(error) => without_arguments(&error, &typed),
    };
    ExitCode::from(finish(&answer, quiet).status())
}

/// Answers what the argument parser has to say: help and version, or what is wrong with the arguments.
fn without_arguments(error: &clap::Error, typed: &[OsString]) -> Answer {
    let format = usage::format_of(typed);
    let help = error.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand && format == Format::Text;
    match error.use_stderr() {
        true if help => Answer { stderr: error.render().to_string(), ..Answer::words(Exit::Usage, String::new()) },
        true => failure_of(&[usage::of_parser(error, typed)], Exit::Usage, format),
        false => Answer::words(Exit::Fine, error.render().to_string()),
    }
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
fn finish(answer: &Answer, quiet: bool) -> Exit {
    let err = anstream::stderr().write_all(shown(&answer.stderr).as_bytes());
    let text = match answer.door {
        Door::Shown if quiet => shown(&without_asides(&answer.stdout)),
        Door::Shown => shown(&answer.stdout),
        Door::Document => plain_json(&answer.stdout),
        Door::Raw => answer.stdout.clone(),
    };
    let written = match answer.door {
        // What a program takes over must be what it is, byte for byte.
        Door::Raw | Door::Document => write_out(&mut std::io::stdout(), &text),
        Door::Shown => write_out(&mut anstream::stdout(), &text),
    };
    match written.and(err) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            let told = format!("{} cannot write the answer: {error}\n", paint(Role::Bad, "error:"));
            anstream::stderr().write_all(shown(&told).as_bytes()).ok();
            Exit::Machine
        }
        _ => answer.exit,
    }
}

fn write_out(stdout: &mut impl Write, text: &str) -> std::io::Result<()> {
    stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush())
}
