//! The commands, one file each: its arguments (whose comments are its help), one flow, its words.

mod decide;
mod declare;
mod keep;
mod learn;
mod look;
mod moving;
mod share;
mod using;

use clap::error::ErrorKind;
use clap::{ArgMatches, Args, FromArgMatches, Subcommand};
use yostel_flows::FlowError;

use crate::answer::Answer;
use crate::call::Call;
use crate::render::help_row;

/// Makes the commands of their groups, their names, their arguments and what runs them. Of a command that is not the one that was typed,
/// only the name is told to the parser: to tell all arguments of all of them takes longer than most commands need.
macro_rules! commands {
    ($($group:literal { $($name:literal $variant:ident($arguments:ty) by $run:path;)* })*) => {
        /// The names of the commands in their groups, for the help.
        const GROUPS: &[(&str, &[&str])] = &[$(($group, &[$($name),*])),*];

        /// The commands.
        #[derive(Debug)]
        pub(crate) enum Command {
            $($($variant(Box<$arguments>),)*)*
        }

        impl Subcommand for Command {
            fn augment_subcommands(command: clap::Command) -> clap::Command {
                command.subcommand_required(true).arg_required_else_help(true)
                    $($(.subcommand(clap::Command::new($name).defer(<$arguments>::augment_args)))*)*
            }

            fn augment_subcommands_for_update(command: clap::Command) -> clap::Command {
                Self::augment_subcommands(command)
            }

            fn has_subcommand(name: &str) -> bool {
                GROUPS.iter().any(|(_, names)| names.contains(&name))
            }
        }

        impl FromArgMatches for Command {
            fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
                Self::from_arg_matches_mut(&mut matches.clone())
            }

            fn from_arg_matches_mut(matches: &mut ArgMatches) -> Result<Self, clap::Error> {
                let (name, mut matches) = matches.remove_subcommand().ok_or(ErrorKind::MissingSubcommand).map_err(none)?;
                match name.as_str() {
                    $($($name => {
                        <$arguments>::from_arg_matches_mut(&mut matches).map(|read| Self::$variant(Box::new(read)))
                    })*)*
                    _ => Err(none(ErrorKind::InvalidSubcommand)),
                }
            }

            fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
                *self = Self::from_arg_matches(matches)?;
                Ok(())
            }
        }

        /// Tells the parser all about a command.
        pub(crate) fn whole(command: clap::Command) -> clap::Command {
            match command.get_name() {
                $($($name => <$arguments>::augment_args(clap::Command::new($name)),)*)*
                _ => command,
            }
        }

        /// Runs a command.
        pub(crate) fn run(command: Command, call: &Call) -> Result<Answer, FlowError> {
            match command {
                $($(Command::$variant(arguments) => $run(*arguments, call),)*)*
            }
        }
    };
}

/// Says that no command was typed, or none that there is.
fn none(kind: ErrorKind) -> clap::Error {
    clap::Error::new(kind)
}

// In groups, as people work.
commands! {
    "Declare" {
        "init" Init(declare::init::Init) by declare::init::run;
        "add" Add(declare::add::Add) by declare::add::run;
        "remove" Remove(declare::remove::Remove) by declare::remove::run;
        "agree" Agree(declare::agree::Agree) by declare::agree::run;
        "sources" Sources(declare::sources::Sources) by declare::sources::run;
    }
    "Decide" {
        "lock" Lock(decide::lock::Lock) by decide::lock::run;
        "settle" Settle(decide::settle::Settle) by decide::settle::run;
    }
    "Use" {
        "install" Install(using::install::Install) by using::install::run;
        "verify" Verify(using::verify::Verify) by using::verify::run;
        "run" Run(using::run::Run) by using::run::run;
        "env" Env(using::env::Env) by using::env::run;
        "where" Where(using::r#where::Where) by using::r#where::run;
        "alter" Alter(using::alter::Alter) by using::alter::run;
    }
    "Look" {
        "explain" Explain(look::explain::Explain) by look::explain::run;
        "list" List(look::list::List) by look::list::run;
        "tree" Tree(look::tree::Tree) by look::tree::run;
        "graph" Graph(look::graph::Graph) by look::graph::run;
        "audit" Audit(look::audit::Audit) by look::audit::run;
        "compare" Compare(look::compare::Compare) by look::compare::run;
        "drift" Drift(look::drift::Drift) by look::drift::run;
        "report" Report(look::report::Report) by look::report::run;
    }
    "Move" {
        "update" Update(moving::update::Update) by moving::update::run;
        "culprit" Culprit(moving::culprit::Culprit) by moving::culprit::run;
        "undo" Undo(moving::undo::Undo) by moving::undo::run;
        "propose" Propose(moving::propose::Propose) by moving::propose::run;
        "proposals" Proposals(moving::proposals::ProposalsOf) by moving::proposals::run;
        "import" Import(moving::import::Import) by moving::import::run;
    }
    "Keep" {
        "cache" Cache(keep::cache::Cache) by keep::cache::run;
    }
    "Share" {
        "publish" Publish(share::publish::Publish) by share::publish::run;
        "withdraw" Withdraw(share::withdraw::Withdraw) by share::withdraw::run;
        "deprecate" Deprecate(share::deprecate::Deprecate) by share::deprecate::run;
        "registry" Registry(share::registry::Registry) by share::registry::run;
        "login" Login(share::login::Login) by share::login::login;
        "logout" Logout(share::login::Logout) by share::login::logout;
        "export" Export(share::export::Export) by share::export::run;
    }
    "Learn" {
        "demo" Demo(learn::demo::Demo) by learn::demo::run;
    }
}

impl Command {
    /// Tells whether no server is to be asked about packages.
    pub(crate) fn is_offline(&self) -> bool {
        match self {
            Self::Lock(arguments) => arguments.offline,
            Self::Update(arguments) => arguments.offline,
            _ => false,
        }
    }
}

/// Writes the commands in their groups, each with the first line of its help.
pub(crate) fn grouped_help() -> String {
    let command = Command::augment_subcommands(clap::Command::new("yostel")).mut_subcommands(whole);
    let mut text = String::new();
    for (group, names) in GROUPS {
        for (i, name) in names.iter().enumerate() {
            let about = command.find_subcommand(name).and_then(|c| c.get_about()).map(ToString::to_string);
            let lead = if i == 0 { group } else { "" };
            text.push_str(&help_row(&format!("  {lead:<9}{name:<11}"), &about.unwrap_or_default()));
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_command_stands_once_and_its_help_is_an_imperative_without_full_stop() {
        let command = Command::augment_subcommands(clap::Command::new("yostel")).mut_subcommands(whole);
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
