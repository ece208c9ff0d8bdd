//! `sources`: where packages come from.

use clap::{Args, Subcommand};
use yostel_answers::answers::sources::{SourceAddedAnswer, SourceRemovedAnswer, SourcesAnswer};
use yostel_answers::words::shell_word;
use yostel_answers::{Code, Diagnostic};
use yostel_documents::{NamePattern, SourceName, SourcePlace, WebAddressError};
use yostel_flows::{FlowError, SourceDoubt, SourceRequest, SourceSeen, forget_source, name_source, sources};

use crate::answer::{Answer, failure_of};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::word;
use crate::render::{Columns, Head, count, next_step, next_steps, note};
use crate::sanitise::sanitise;

/// List where packages come from, or change that
///
/// Without a task, lists the sources of the manifest: what each has, how many locked packages come from it, and which
/// names come from it alone.
#[derive(Debug, Args)]
pub(crate) struct Sources {
    #[command(subcommand)]
    task: Option<Task>,
}

#[derive(Debug, Subcommand)]
enum Task {
    /// Name a source in the manifest, or give one another place
    Add {
        /// The name, a word of your choice
        #[arg(value_parser = word)]
        name: SourceName,
        /// The registry's folder, or its address on a web server
        #[arg(value_name = "FOLDER or URL")]
        place: String,
        /// A package, or a level like `ropeway/*`, that comes from this source and no other. May be repeated
        #[arg(long = "reserve", value_name = "NAME", value_parser = pattern)]
        reserves: Vec<NamePattern>,
    },
    /// Take a source out of the manifest
    Remove {
        /// Its name
        #[arg(value_parser = word)]
        name: SourceName,
    },
}

fn pattern(text: &str) -> Result<NamePattern, String> {
    NamePattern::parse(text).map_err(|error| error.to_string())
}

pub(crate) fn run(arguments: Sources, call: &Call) -> Result<Answer, FlowError> {
    match arguments.task {
        None => list(call),
        Some(Task::Add { name, place, reserves }) => {
            match place_typed(&place, |instead| format!("yostel sources add {name} {}", shell_word(instead))) {
                Ok(place) => add(&SourceRequest { name, place, reserves }, call),
                Err(diagnostic) => Ok(failure_of(&[*diagnostic], Exit::Usage, call.format)),
            }
        }
        Some(Task::Remove { name }) => {
            let removed = call.edit(|project| forget_source(project, &name, &call.context()))?;
            Ok(Answer::done(
                call,
                Exit::Fine,
                || SourceRemovedAnswer::of(&removed, &name),
                || {
                    let left = match removed.locked {
                        0 => String::new(),
                        locked => note(format!(
                            "{} {} from it: they need another source, or must go",
                            count(locked, "locked package"),
                            if locked == 1 { "comes" } else { "come" },
                        )),
                    };
                    let shown = call.show(&removed.path);
                    let next = match removed.others {
                        true => "yostel lock",
                        false => "yostel sources add NAME FOLDER, as the manifest names no source any more",
                    };
                    let place = sanitise(&removed.place.to_string());
                    format!("Removed source {name} ({place}) from {shown}.\n{left}{}", next_step(next))
                },
            ))
        }
    }
}

/// Reads where a registry is. What may be a password is not repeated: `instead` says what to type without it.
pub(crate) fn place_typed(typed: &str, instead: impl Fn(&str) -> String) -> Result<SourcePlace, Box<Diagnostic>> {
    SourcePlace::typed(typed).map_err(|error| {
        let next = match &error {
            WebAddressError::Secret { instead: without } => instead(without),
            WebAddressError::Unfit(_) => "type the address of the folder with registry.json".to_owned(),
        };
        Box::new(Diagnostic::new(Code::Usage, format!("that is not the address of a registry: {error}"), next))
    })
}

fn list(call: &Call) -> Result<Answer, FlowError> {
    let all = sources(&call.manifests()?)?;
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &SourcesAnswer::of(&all)));
    }
    if all.is_empty() {
        let next = next_step("yostel sources add NAME FOLDER, with a registry's folder");
        return Ok(Answer::words(Exit::Fine, format!("The manifest names no source.\n{next}")));
    }
    let mut columns = Columns::new([
        Head::plain("source"),
        Head::place("place"),
        Head::number("packages"),
        Head::number("locked"),
        Head::words("remarks"),
    ]);
    for seen in &all {
        columns.row([
            seen.name.to_string(),
            seen.place.to_string(),
            seen.packages.map_or_else(|| "-".into(), |packages| packages.to_string()),
            seen.locked.to_string(),
            remarks(seen),
        ]);
    }
    Ok(Answer::words(Exit::Fine, columns.finish()))
}

/// Says what stands in the way of asking a source.
fn doubt_words(doubt: SourceDoubt) -> &'static str {
    match doubt {
        SourceDoubt::NoFolder => "there is no such folder",
        SourceDoubt::NoRegistry => "there is no registry in that folder",
    }
}

fn remarks(seen: &SourceSeen) -> String {
    let reserves: Vec<String> = seen.reserves.iter().map(ToString::to_string).collect();
    let alone = (!reserves.is_empty()).then(|| format!("alone has {}", reserves.join(", ")));
    seen.doubt.map(|doubt| doubt_words(doubt).to_owned()).into_iter().chain(alone).collect::<Vec<_>>().join("; ")
}

fn add(request: &SourceRequest, call: &Call) -> Result<Answer, FlowError> {
    let added = call.edit(|project| name_source(project, request, &call.folder, &call.context()))?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || SourceAddedAnswer::of(&added, &request.name),
        || {
            let (name, shown) = (&request.name, call.show(&added.path));
            let place = sanitise(&added.place.to_string());
            let said = match &added.before {
                None => format!("Named source {name} in {shown}: {place}\n"),
                Some(before) if *before == added.place => {
                    format!("Source {name} in {shown} is {place}, as it was.\n")
                }
                Some(before) => {
                    format!("Source {name} in {shown} is {place} now; it was {}.\n", sanitise(&before.to_string()))
                }
            };
            let typed = sanitise(&shell_word(&request.place.to_string()));
            let then = if added.has_needs { "yostel lock" } else { "yostel add PACKAGE" };
            let another = format!("yostel sources add {name} FOLDER, with another folder");
            let next = match added.doubt {
                None => vec![then.to_owned()],
                Some(SourceDoubt::NoFolder) => vec![format!("yostel registry create {typed}"), another],
                Some(SourceDoubt::NoRegistry) => vec![another],
            };
            let doubt = added.doubt.map(|doubt| note(doubt_words(doubt))).unwrap_or_default();
            format!("{said}{doubt}{}", next_steps(next))
        },
    ))
}
