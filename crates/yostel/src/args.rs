//! What was typed, and nothing more. The doc comments here and in the command files are the help.

use std::ffi::OsString;

use clap::error::ErrorKind;
use clap::{Args, CommandFactory, FromArgMatches, Parser};

use crate::commands::{Command, grouped_help, whole};
use crate::options::Options;
use crate::render::help_row;

/// What to try.
const FIRST_STEPS: &str = "The first steps: yostel init, add NAME, lock, install. A whole example: yostel demo";

/// Declare, resolve, lock, install, verify and audit packages of any language
#[derive(Debug, Parser)]
#[command(
    name = "yostel",
    version,
    disable_help_subcommand = true,
    override_usage = "yostel [OPTIONS] COMMAND",
    help_template = "{about}\n\nUsage: {usage}{after-help}"
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,

    #[command(flatten)]
    pub(crate) options: Options,
}

/// Reads what was typed.
pub(crate) fn read(typed: &[OsString]) -> Result<Arguments, clap::Error> {
    let read = Arguments::command().try_get_matches_from(typed);
    let matches = match read {
        // To write down all of the help takes as long as the rest of the start.
        Err(error) if is_help(error.kind()) => command_with_help().try_get_matches_from(typed)?,
        read => read?,
    };
    Arguments::from_arg_matches(&matches)
}

fn is_help(kind: ErrorKind) -> bool {
    matches!(kind, ErrorKind::DisplayHelp | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand)
}

/// Returns all that may be typed. To read what was typed, less will do.
pub(crate) fn command_as_a_whole() -> clap::Command {
    Arguments::command().mut_subcommands(whole)
}

fn command_with_help() -> clap::Command {
    let help = format!("{}\nWith every command:\n{}\n{FIRST_STEPS}", grouped_help(), options_help());
    let everywhere = format!("With every command, as yostel --help says: {}", everywhere());
    command_as_a_whole().after_help(help).mut_subcommands(|sub| with_help(sub, &everywhere))
}

fn with_help(command: clap::Command, everywhere: &str) -> clap::Command {
    command.after_help(everywhere.to_owned()).mut_subcommands(|sub| with_help(sub, everywhere))
}

/// Lists what every command takes, in a few words: each command's own options come first in its help.
fn everywhere() -> String {
    let command = Options::augment_args(clap::Command::new("yostel"));
    let names = command.get_arguments().map(|argument| match argument.get_short() {
        Some(short) => format!("-{short}"),
        None => format!("--{}", argument.get_long().unwrap_or_default()),
    });
    names.collect::<Vec<_>>().join(", ")
}

/// Writes what every command takes, a line each, and what it is good for.
fn options_help() -> String {
    let command = Options::augment_args(clap::Command::new("yostel"));
    let rows = command.get_arguments().map(|argument| {
        let short = argument.get_short().map_or_else(|| "    ".to_owned(), |short| format!("-{short}, "));
        let value = match argument.get_action().takes_values() {
            true => argument.get_value_names().unwrap_or_default().first().map(|name| format!(" {name}")),
            false => None,
        };
        let name = format!("{short}--{}{}", argument.get_long().unwrap_or_default(), value.unwrap_or_default());
        (name, argument.get_help().map(ToString::to_string).unwrap_or_default())
    });
    let always = [("-h, --help".to_owned(), "Print help; -V, --version: the version".to_owned())];
    let rows: Vec<(String, String)> = rows.chain(always).collect();
    let width = rows.iter().map(|(name, _)| name.len()).max().unwrap_or_default();
    rows.iter().map(|(name, help)| help_row(&format!("  {name:<width$}  "), help)).collect()
}
