//! The commands, one file each: its arguments (whose comments are its help), one flow, its words.

mod add;
mod agree;
mod alter;
mod audit;
mod cache;
mod demo;
mod env;
mod explain;
mod init;
mod install;
mod list;
mod lock;
mod publish;
mod registry;
mod remove;
mod run;
mod settle;
mod tree;
mod verify;
mod r#where;
mod withdraw;

use clap::Subcommand;
use serde_json::{Value, json};
use yostel_documents::{NameError, Origin, PackageName, Word};
use yostel_flows::FlowError;

use crate::context::Context;
use crate::exit::Exit;

/// What a command comes to: what to print where, and how to end.
#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) stdout: String,
    pub(crate) stderr: String,
    pub(crate) exit: Exit,
    /// How the standard output goes out.
    pub(crate) door: Door,
}

/// How text goes out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Door {
    /// For people: painted, and nothing hidden in it.
    Shown,
    /// A JSON document.
    Document,
    /// Byte for byte: paths and shell lines that another program takes over.
    Raw,
}

impl Answer {
    /// Words for people.
    pub(crate) fn words(exit: Exit, stdout: String) -> Self {
        Self { stdout, stderr: String::new(), exit, door: Door::Shown }
    }

    /// One document for programs, with its format number and the command's name first.
    pub(crate) fn document(exit: Exit, command: &str, content: Value) -> Self {
        let mut document = json!({ "format": 1, "command": command });
        if let (Some(document), Value::Object(content)) = (document.as_object_mut(), content) {
            document.extend(content);
        }
        Self { door: Door::Document, ..Self::words(exit, format!("{document:#}\n")) }
    }

    /// What another program takes over, byte for byte.
    pub(crate) fn raw(stdout: String) -> Self {
        Self { door: Door::Raw, ..Self::words(Exit::Fine, stdout) }
    }

    /// Either, by what was asked for; the words of a command that only reports its success fall silent with `--quiet`.
    pub(crate) fn either(
        context: &Context,
        exit: Exit,
        command: &str,
        content: impl FnOnce() -> Value,
        words: impl FnOnce() -> String,
    ) -> Self {
        if context.json() {
            Self::document(exit, command, content())
        } else if context.quiet && exit == Exit::Fine {
            Self::words(exit, String::new())
        } else {
            Self::words(exit, words())
        }
    }
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Init(init::Init),
    Add(Box<add::Add>),
    Remove(remove::Remove),
    Agree(agree::Agree),
    Lock(lock::Lock),
    Settle(settle::Settle),
    Explain(explain::Explain),
    Install(install::Install),
    Verify(verify::Verify),
    Run(run::Run),
    Env(env::Env),
    Where(r#where::Where),
    Alter(alter::Alter),
    List(list::List),
    Tree(tree::Tree),
    Audit(audit::Audit),
    Cache(cache::Cache),
    Publish(publish::Publish),
    Withdraw(withdraw::Withdraw),
    Registry(registry::Registry),
    Demo(demo::Demo),
}

/// The commands as people work, for the help.
const GROUPS: [(&str, &[&str]); 7] = [
    ("Declare", &["init", "add", "remove", "agree"]),
    ("Decide", &["lock", "settle"]),
    ("Use", &["install", "verify", "run", "env", "where", "alter"]),
    ("Look", &["explain", "list", "tree", "audit"]),
    ("Keep", &["cache"]),
    ("Share", &["publish", "withdraw", "registry"]),
    ("Learn", &["demo"]),
];

/// Writes the commands in their groups, each with the first line of its help.
pub(crate) fn grouped_help() -> String {
    let command = Command::augment_subcommands(clap::Command::new("yostel"));
    let mut text = String::new();
    for (group, names) in GROUPS {
        for (i, name) in names.iter().enumerate() {
            let about = command.find_subcommand(name).and_then(|c| c.get_about()).map(ToString::to_string);
            let lead = if i == 0 { group } else { "" };
            text.push_str(&format!("  {lead:<9}{name:<10}{}\n", about.unwrap_or_default()));
        }
    }
    text
}

/// Runs a command.
pub(crate) fn run(command: Command, context: &Context) -> Result<Answer, FlowError> {
    match command {
        Command::Init(arguments) => init::run(arguments, context),
        Command::Add(arguments) => add::run(*arguments, context),
        Command::Remove(arguments) => remove::run(arguments, context),
        Command::Agree(arguments) => agree::run(arguments, context),
        Command::Lock(arguments) => lock::run(arguments, context),
        Command::Settle(arguments) => settle::run(arguments, context),
        Command::Explain(arguments) => explain::run(arguments, context),
        Command::Install(arguments) => install::run(arguments, context),
        Command::Verify(arguments) => verify::run(arguments, context),
        Command::Run(arguments) => run::run(arguments, context),
        Command::Env(arguments) => env::run(arguments, context),
        Command::Where(arguments) => r#where::run(arguments, context),
        Command::Alter(arguments) => alter::run(arguments, context),
        Command::List(arguments) => list::run(arguments, context),
        Command::Tree(arguments) => tree::run(arguments, context),
        Command::Audit(arguments) => audit::run(arguments, context),
        Command::Cache(arguments) => cache::run(arguments, context),
        Command::Publish(arguments) => publish::run(arguments, context),
        Command::Withdraw(arguments) => withdraw::run(arguments, context),
        Command::Registry(arguments) => registry::run(arguments, context),
        Command::Demo(arguments) => demo::run(arguments, context),
    }
}

/// Writes where a package comes from: the source's name, or what the lockfile says of another place.
fn origin_document(origin: &Origin) -> Value {
    match origin {
        Origin::Source(name) => name.as_str().into(),
        Origin::Git { place, commit } => json!({ "git": place.address, "commit": commit, "inside": place.folder }),
        Origin::Archive { address } => json!({ "archive": address }),
        Origin::Path { folder } => json!({ "path": folder }),
        Origin::Project { folder } => json!({ "project": folder }),
    }
}

/// Reads a package name from the command line.
pub(crate) fn package_name(text: &str) -> Result<PackageName, String> {
    PackageName::parse(text).map_err(with_suggestion)
}

/// Reads a purpose or source name from the command line.
fn word(text: &str) -> Result<Word, String> {
    Word::parse(text).map_err(with_suggestion)
}

fn with_suggestion(error: NameError) -> String {
    match error.suggestion {
        Some(works) => format!("{}; `{works}` would do", error.reason),
        None => error.reason.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_command_stands_in_one_group_and_its_help_is_an_imperative_without_full_stop() {
        let command = Command::augment_subcommands(clap::Command::new("yostel"));
        let grouped: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        let known: BTreeSet<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        assert_eq!(grouped.len(), known.len());
        assert_eq!(grouped.iter().copied().collect::<BTreeSet<_>>(), known);
        for sub in command.get_subcommands() {
            let about = sub.get_about().unwrap().to_string();
            assert!(!about.ends_with('.') && about.starts_with(char::is_uppercase), "{}: {about}", sub.get_name());
        }
    }

    #[test]
    fn arguments_are_consistent() {
        use clap::CommandFactory;
        crate::args::Arguments::command().debug_assert();
    }
}
