//! The commands, one file each: its arguments (whose comments are its help), one flow, its words.

mod decide;
mod declare;
mod keep;
mod learn;
mod look;
mod moving;
mod share;
mod using;

use clap::Subcommand;
use yostel_flows::FlowError;

use crate::answer::Answer;
use crate::call::Call;
use crate::render::help_row;

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Init(declare::init::Init),
    Add(Box<declare::add::Add>),
    Remove(declare::remove::Remove),
    Agree(declare::agree::Agree),
    Sources(declare::sources::Sources),
    Lock(decide::lock::Lock),
    Settle(decide::settle::Settle),
    Explain(look::explain::Explain),
    Install(using::install::Install),
    Verify(using::verify::Verify),
    Run(using::run::Run),
    Env(using::env::Env),
    Where(using::r#where::Where),
    Alter(using::alter::Alter),
    List(look::list::List),
    Tree(look::tree::Tree),
    Graph(look::graph::Graph),
    Audit(look::audit::Audit),
    Compare(look::compare::Compare),
    Drift(look::drift::Drift),
    Report(look::report::Report),
    Update(Box<moving::update::Update>),
    Culprit(moving::culprit::Culprit),
    Undo(moving::undo::Undo),
    Propose(moving::propose::Propose),
    Proposals(moving::proposals::ProposalsOf),
    Import(Box<moving::import::Import>),
    Cache(keep::cache::Cache),
    Export(share::export::Export),
    Publish(share::publish::Publish),
    Withdraw(share::withdraw::Withdraw),
    Deprecate(share::deprecate::Deprecate),
    Registry(share::registry::Registry),
    Login(share::login::Login),
    Logout(share::login::Logout),
    Demo(learn::demo::Demo),
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

/// The commands as people work, for the help.
const GROUPS: [(&str, &[&str]); 8] = [
    ("Declare", &["init", "add", "remove", "agree", "sources"]),
    ("Decide", &["lock", "settle"]),
    ("Use", &["install", "verify", "run", "env", "where", "alter"]),
    ("Look", &["explain", "list", "tree", "graph", "audit", "compare", "drift", "report"]),
    ("Move", &["update", "culprit", "undo", "propose", "proposals", "import"]),
    ("Keep", &["cache"]),
    ("Share", &["publish", "withdraw", "deprecate", "registry", "login", "logout", "export"]),
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
            text.push_str(&help_row(&format!("  {lead:<9}{name:<11}"), &about.unwrap_or_default()));
        }
    }
    text
}

/// Runs a command.
pub(crate) fn run(command: Command, call: &Call) -> Result<Answer, FlowError> {
    match command {
        Command::Init(arguments) => declare::init::run(arguments, call),
        Command::Add(arguments) => declare::add::run(*arguments, call),
        Command::Remove(arguments) => declare::remove::run(arguments, call),
        Command::Agree(arguments) => declare::agree::run(arguments, call),
        Command::Sources(arguments) => declare::sources::run(arguments, call),
        Command::Lock(arguments) => decide::lock::run(arguments, call),
        Command::Settle(arguments) => decide::settle::run(arguments, call),
        Command::Explain(arguments) => look::explain::run(arguments, call),
        Command::Install(arguments) => using::install::run(arguments, call),
        Command::Verify(arguments) => using::verify::run(arguments, call),
        Command::Run(arguments) => using::run::run(arguments, call),
        Command::Env(arguments) => using::env::run(arguments, call),
        Command::Where(arguments) => using::r#where::run(arguments, call),
        Command::Alter(arguments) => using::alter::run(arguments, call),
        Command::List(arguments) => look::list::run(arguments, call),
        Command::Tree(arguments) => look::tree::run(arguments, call),
        Command::Graph(arguments) => look::graph::run(arguments, call),
        Command::Audit(arguments) => look::audit::run(arguments, call),
        Command::Compare(arguments) => look::compare::run(arguments, call),
        Command::Drift(arguments) => look::drift::run(arguments, call),
        Command::Report(arguments) => look::report::run(arguments, call),
        Command::Update(arguments) => moving::update::run(*arguments, call),
        Command::Culprit(arguments) => moving::culprit::run(arguments, call),
        Command::Undo(arguments) => moving::undo::run(arguments, call),
        Command::Propose(arguments) => moving::propose::run(arguments, call),
        Command::Proposals(arguments) => moving::proposals::run(arguments, call),
        Command::Import(arguments) => moving::import::run(*arguments, call),
        Command::Cache(arguments) => keep::cache::run(arguments, call),
        Command::Export(arguments) => share::export::run(arguments, call),
        Command::Publish(arguments) => share::publish::run(arguments, call),
        Command::Withdraw(arguments) => share::withdraw::run(arguments, call),
        Command::Deprecate(arguments) => share::deprecate::run(arguments, call),
        Command::Registry(arguments) => share::registry::run(arguments, call),
        Command::Login(arguments) => share::login::login(arguments, call),
        Command::Logout(arguments) => share::login::logout(arguments, call),
        Command::Demo(arguments) => learn::demo::run(arguments, call),
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
