//! What was typed, and nothing more. The doc comments here and in the command files are the help.

use clap::Parser;

use crate::commands::{Command, grouped_help};
use crate::options::Options;

/// Declare, resolve, lock, install, verify and audit packages of any language
#[derive(Debug, Parser)]
#[command(
    name = "yostel",
    version,
    disable_help_subcommand = true,
    override_usage = "yostel [OPTIONS] COMMAND",
    help_template = "{about}\n\nUsage: {usage}\n\n{before-help}Options:\n{options}{after-help}",
    before_help = grouped_help(),
    after_help = "The first steps: yostel init, yostel add NAME, yostel lock, yostel install.\nA whole example with made-up data: yostel demo"
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,

    #[command(flatten)]
    pub(crate) options: Options,
}
