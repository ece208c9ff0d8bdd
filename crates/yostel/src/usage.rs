//! What is wrong with the arguments, in our words: the parser knows what, and says it for no program.

use std::ffi::OsString;

use clap::Command;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use yostel_answers::words::shell_word;
use yostel_answers::{Code, Diagnostic, Suggestion};

use crate::args::{Arguments, command_as_a_whole};
use crate::commands::Command as CommandTyped;
use crate::options::Format;
use crate::render::join;

/// Turns what the parser refused into a diagnostic.
pub(crate) fn of_parser(error: &clap::Error, arguments: &[OsString]) -> Diagnostic {
    let (command, whole, own) = command_of(arguments);
    let text = |kind| texts(error, kind).into_iter().next();
    let argument = text(ContextKind::InvalidArg).map(|argument| plain(&argument)).unwrap_or_default();
    let value = text(ContextKind::InvalidValue).unwrap_or_default();
    let help = Suggestion::run(format!("{command} --help"), "to see what it takes");
    let (headline, next): (String, Suggestion) = match error.kind() {
        ErrorKind::UnknownArgument if argument.starts_with('-') => {
            let next = text(ContextKind::SuggestedArg).map(|near| format!("write {near}, if that is the one").into());
            (format!("`{command}` has no option {argument}"), next.unwrap_or(help))
        }
        ErrorKind::UnknownArgument => (format!("`{argument}` is one argument too many"), help),
        ErrorKind::InvalidSubcommand => {
            let name = text(ContextKind::InvalidSubcommand).unwrap_or_default();
            let near = texts(error, ContextKind::SuggestedSubcommand);
            let next =
                near.first().map(|near| Suggestion::run(format!("{command} {near} --help"), "if that is the one"));
            let all = Suggestion::run(format!("{command} --help"), "to see all commands");
            (format!("there is no command `{command} {name}`"), next.unwrap_or(all))
        }
        ErrorKind::MissingSubcommand | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => (
            format!("`{command}` needs a command"),
            Suggestion::run(format!("{command} --help"), "to see all commands"),
        ),
        ErrorKind::MissingRequiredArgument => {
            let missing: Vec<String> = texts(error, ContextKind::InvalidArg).iter().map(|name| plain(name)).collect();
            let are = if missing.len() == 1 { "is" } else { "are" };
            let usage = usage_of(whole, &command);
            let next = if missing.iter().all(|name| usage.contains(&format!("[{name}]"))) {
                // Only what was typed makes it needed, so that stays.
                let own = own.iter().map(|word| shell_word(&word.to_string_lossy()));
                Suggestion::command(
                    [command].into_iter().chain(own).chain(missing.clone()).collect::<Vec<_>>().join(" "),
                )
            } else if missing.iter().all(|name| usage.contains(name)) {
                Suggestion::command(usage)
            } else {
                // An option that another one needs is not in the line of usage.
                help
            };
            (format!("{} {are} missing", join(&missing)), next)
        }
        ErrorKind::InvalidValue => {
            let known = texts(error, ContextKind::ValidValue);
            let next = match text(ContextKind::SuggestedValue) {
                Some(near) => format!("write {near}, if that is the one").into(),
                None if known.is_empty() => help,
                None => format!("the values are {}", join(&known)).into(),
            };
            match value.is_empty() {
                true => (format!("{argument} needs a value"), next),
                false => (format!("{argument} cannot be `{value}`"), next),
            }
        }
        ErrorKind::ValueValidation => {
            let why = std::error::Error::source(error).map(ToString::to_string).unwrap_or_default();
            // The words of a number that is none are the language's, not ours.
            let why = if why.contains("invalid digit") { "it is not a whole number".to_owned() } else { why };
            (format!("{argument} cannot be `{value}`: {why}"), help)
        }
        ErrorKind::ArgumentConflict => {
            let others: Vec<String> = texts(error, ContextKind::PriorArg).iter().map(|name| plain(name)).collect();
            let headline = match others.is_empty() {
                true => format!("{argument} is given twice"),
                false => format!("{argument} does not go with {}", join(&others)),
            };
            (headline, "leave one of them out".into())
        }
        _ => {
            let told = error.to_string();
            let first = told.lines().next().unwrap_or_default();
            (first.strip_prefix("error: ").unwrap_or(first).to_owned(), help)
        }
    };
    Diagnostic::new(Code::Usage, headline, next)
}

/// Tells what is wrong with the format that was asked for: some are for findings only.
pub(crate) fn of_format(arguments: &Arguments) -> Option<Diagnostic> {
    let only = |formats: &[Format]| formats.contains(&arguments.options.format);
    let many = matches!(&arguments.command, CommandTyped::Audit(audit) if audit.covers_many());
    let dismisses = matches!(&arguments.command, CommandTyped::Audit(audit) if audit.dismisses());
    let is_fine = match arguments.command {
        _ if many || dismisses => only(&[Format::Text, Format::Json]),
        CommandTyped::Audit(_) => arguments.options.format != Format::Csv,
        CommandTyped::Drift(_) => only(&[Format::Text, Format::Json, Format::Csv]),
        CommandTyped::Compare(_) => only(&[Format::Text, Format::Json, Format::Markdown]),
        CommandTyped::Proposals(ref proposals) if proposals.shows() => {
            only(&[Format::Text, Format::Json, Format::Markdown])
        }
        _ => only(&[Format::Text, Format::Json]),
    };
    let headline = match arguments.options.format {
        _ if dismisses => "`yostel audit dismiss` does not answer in this format".to_owned(),
        _ if many => "`yostel audit --under` does not answer in this format".to_owned(),
        Format::Markdown => {
            "only `yostel audit`, `yostel compare` and `yostel proposals show` answer in this format".to_owned()
        }
        Format::Csv => "only `yostel drift` answers in this format".to_owned(),
        _ => "only `yostel audit` answers in this format".to_owned(),
    };
    (!is_fine).then(|| Diagnostic::new(Code::Usage, headline, "write --format text or --format json"))
}

/// Tells how to answer when the arguments could not be read.
pub(crate) fn format_of(arguments: &[OsString]) -> Format {
    let mut given = arguments.iter().take_while(|argument| *argument != "--");
    let json = given.clone().any(|argument| argument == "--format=json")
        || given.any(|argument| argument == "--format")
            && arguments.windows(2).any(|pair| pair == ["--format", "json"]);
    if json { Format::Json } else { Format::Text }
}

/// Finds the command that was called, how one calls it, and what was typed behind it.
fn command_of(arguments: &[OsString]) -> (String, Command, &[OsString]) {
    let mut command = command_as_a_whole();
    // Options that every command takes are handed down by this.
    command.build();
    let (mut name, mut own) = ("yostel".to_owned(), arguments);
    for (at, argument) in arguments.iter().enumerate().skip(1) {
        if let Some(argument) = argument.to_str()
            && let Some(next) = command.find_subcommand(argument).cloned()
        {
            name = format!("{name} {argument}");
            (command, own) = (next, &arguments[at + 1..]);
        }
    }
    (name, command, own)
}

fn usage_of(command: Command, name: &str) -> String {
    let usage = command.bin_name(name).render_usage().to_string();
    usage.lines().next().unwrap_or_default().trim_start_matches("Usage: ").replace("[OPTIONS] ", "")
}

/// Returns what the parser noted of a kind.
fn texts(error: &clap::Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        _ => Vec::new(),
    }
}

/// Writes an argument as one types it, without its brackets and what stands for its value.
fn plain(argument: &str) -> String {
    let argument = argument.split(' ').next().unwrap_or_default();
    argument.trim_matches(['<', '>', '[', ']', '.']).to_owned()
}
