//! What every command takes. The doc comments are the help.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use yostel_documents::{NameError, PackageName, SourceName, Word};
use yostel_versions::ConstraintText;

/// What every command takes.
#[derive(Debug, Args)]
pub(crate) struct Options {
    /// Work as if started in this folder
    #[arg(short = 'C', long = "folder", global = true, hide = true, value_name = "FOLDER")]
    pub(crate) start: Option<PathBuf>,

    /// Work on this project of the workspace, as if started in its folder
    #[arg(long, global = true, hide = true, value_name = "NAME", value_parser = package_name)]
    pub(crate) project: Option<PackageName>,

    /// Folder of the local cache (or YOSTEL_CACHE)
    #[arg(long, global = true, hide = true, value_name = "FOLDER", env = "YOSTEL_CACHE", hide_env_values = true)]
    pub(crate) cache: Option<PathBuf>,

    /// How to answer: text or json; findings also as sarif, junit, markdown; drift as csv
    #[arg(
        long,
        global = true, hide = true,
        value_enum,
        default_value_t = Format::Text,
        value_name = "FORMAT",
        hide_possible_values = true
    )]
    pub(crate) format: Format,

    /// When to colour: auto (on a terminal without NO_COLOR), always, never
    #[arg(
        long,
        global = true, hide = true,
        value_enum,
        default_value_t = Color::Auto,
        value_name = "WHEN",
        hide_possible_values = true
    )]
    pub(crate) color: Color,

    /// Say only what went wrong, and what was asked for
    #[arg(short, long, global = true, hide = true)]
    pub(crate) quiet: bool,

    /// Show no progress bars
    #[arg(long, global = true, hide = true)]
    pub(crate) no_progress: bool,
}

/// How to answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Words and tables
    Text,
    /// One JSON document, described in docs/output.md
    Json,
    /// SARIF 2.1.0, for whoever shows results of analyses
    Sarif,
    /// JUnit XML, for build servers
    Junit,
    /// Markdown, for a comment in a review
    Markdown,
    /// Comma-separated values, for a spreadsheet
    Csv,
}

/// When to colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// Whether a command goes on until what it led to is installed.
#[derive(Debug, Clone, Copy, Default, Args)]
pub(crate) struct GoOn {
    /// Then install, in the way in which the project was installed before
    #[arg(long)]
    pub(crate) install: bool,
}

/// Reads a package name from the command line.
pub(crate) fn package_name(text: &str) -> Result<PackageName, String> {
    PackageName::parse(text).map_err(with_suggestion)
}

/// Reads the name of a package to need: what is written as one word with its constraint is taken apart in the refusal.
pub(crate) fn needed_package(text: &str) -> Result<PackageName, String> {
    PackageName::parse(text).map_err(|error| match apart(text) {
        Some((name, accept)) => format!("a package and its constraint are two words; `{name} '{accept}'` would do"),
        None => with_suggestion(error),
    })
}

/// Takes a name and a constraint apart that were written as one word, like `gust@^2`, `gust@2.1` or `gust>=2`.
fn apart(text: &str) -> Option<(PackageName, ConstraintText)> {
    let (name, rest) = text.split_at(text.find(['@', '=', '^', '<', '>', '~', '!'])?);
    let name = PackageName::parse(name).ok()?;
    let rest = rest.strip_prefix('@').unwrap_or(rest);
    let rest = if rest.starts_with("==") { &rest[1..] } else { rest.trim_start_matches('~') };
    let written = if rest.starts_with(|c: char| c.is_ascii_digit()) { format!("^{rest}") } else { rest.to_owned() };
    Some((name, ConstraintText::parse(&written).ok()?))
}

/// Reads a purpose or source name from the command line.
pub(crate) fn word(text: &str) -> Result<Word, String> {
    Word::parse(text).map_err(with_suggestion)
}

/// Reads a source and the folder of its registry.
pub(crate) fn source_in(text: &str) -> Result<(SourceName, String), String> {
    let parts = text.split_once('=').filter(|(_, folder)| !folder.is_empty());
    let (name, folder) = parts.ok_or("a source is given as NAME=FOLDER, like station=../station")?;
    Ok((word(name)?, folder.to_owned()))
}

fn with_suggestion(error: NameError) -> String {
    match error.suggestion {
        Some(works) => format!("{}; `{works}` would do", error.reason),
        None => error.reason.to_owned(),
    }
}

/// A word of what may be packages with their constraints.
#[derive(Debug, Clone)]
pub(crate) enum Said {
    Package(PackageName),
    Constraint(String),
}

/// Reads a word: what begins with a letter is a package, everything else a constraint.
pub(crate) fn said(text: &str) -> Result<Said, String> {
    match text.starts_with(|c: char| c.is_alphabetic()) {
        true => needed_package(text).map(Said::Package),
        false => Ok(Said::Constraint(text.to_owned())),
    }
}

/// Pairs packages with their constraints; refuses a constraint without a package of its own.
pub(crate) fn pairs(said: &[Said]) -> Result<Vec<(PackageName, Option<&str>)>, String> {
    let mut pairs: Vec<(PackageName, Option<&str>)> = Vec::new();
    for word in said {
        match (word, pairs.last_mut()) {
            (Said::Package(package), _) => pairs.push((package.clone(), None)),
            (Said::Constraint(text), Some((_, accept @ None))) => *accept = Some(text),
            // A name may begin with a digit, where no package is before it.
            (Said::Constraint(text), None) => pairs.push((needed_package(text)?, None)),
            (Said::Constraint(text), Some((package, Some(first)))) => {
                return Err(format!("{package} has two constraints, {first} and {text}"));
            }
        }
    }
    Ok(pairs)
}
