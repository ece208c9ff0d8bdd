//! `import`: take over what another project uses.

use std::io::Read;
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use yostel_answers::answers::import::ImportAnswer;
use yostel_answers::words::shell_word;
use yostel_answers::{Code, Diagnostic, Place};
use yostel_documents::{
    Inventory, InventoryError, InventoryForm, MOST_INVENTORY, PackageName, Purpose, SourceName, read_names, run_purpose,
};
use yostel_files::read_text_of;
use yostel_flows::{
    ConstraintStyle, FlowError, ImportReport, ImportRequest, NotKept, ProjectError, WhyNotKept, Write, begin_project,
    import,
};

use crate::answer::{Answer, Said, failure, failure_of};
use crate::call::Call;
use crate::commands::declare::sources::place_typed;
use crate::commands::using::install::{go_on_to_install, words_after};
use crate::exit::Exit;
use crate::options::{GoOn, package_name, source_in, word};
use crate::render::{Columns, Head, count, join_first, next_steps, note};

/// How many packages of one kind are told without --in-full.
const TOLD: usize = 20;

/// Take over what another project uses, keeping every version that can be kept
///
/// FILE is a bill of materials (CycloneDX or SPDX 2, in JSON), a list of package URLs, or a table (CSV) whose first line names
/// its columns: name or purl, version and, if there is one, purpose. What is needed directly becomes needs of the manifest: what
/// FILE says is, or else what nothing else in it needs. yostel undo takes it back.
#[derive(Debug, Args)]
pub(crate) struct Import {
    /// The list; - reads the standard input
    #[arg(value_name = "FILE")]
    file: PathBuf,

    /// The list's form, where its content does not tell
    #[arg(long, value_enum, value_name = "FORM")]
    form: Option<Form>,

    /// How listed packages are called here: a table (CSV) with the columns `listed` and `package`; an empty package leaves it out
    #[arg(long, value_name = "FILE")]
    names: Option<PathBuf>,

    /// How to write constraints of which the list says nothing
    #[arg(long, value_enum, value_name = "HOW", default_value = "compatible")]
    constraints: Constraints,

    /// What something is needed for of which the list does not say
    #[arg(long = "for", value_name = "PURPOSE", value_parser = word)]
    purpose: Option<Purpose>,

    /// Begin a project in this folder that takes packages from this source: a word, and the registry's folder or
    /// address
    #[arg(long, value_name = "NAME=FOLDER or URL", value_parser = source_in)]
    source: Option<(SourceName, String)>,

    /// With --source, the project's name; what the list is of, or the folder's name, when not given
    #[arg(long, value_name = "NAME", value_parser = package_name, requires = "source")]
    name: Option<PackageName>,

    /// Only show what would be taken over
    #[arg(long, conflicts_with = "install")]
    preview: bool,

    #[command(flatten)]
    go_on: GoOn,

    /// Tell everything, however long
    #[arg(long)]
    in_full: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// CycloneDX, in JSON
    Cyclonedx,
    /// SPDX 2.2 or 2.3, in JSON
    Spdx,
    /// Package URLs, one a line
    Urls,
    /// A table
    Csv,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Constraints {
    /// The compatible line from the locked version on (^2.4.0)
    Compatible,
    /// That very version (=2.4.0)
    Exact,
    /// Any version (*)
    Anything,
}

/// A file that cannot be read, as an answer.
struct Unreadable(Diagnostic, Exit);

pub(crate) fn run(arguments: Import, call: &Call) -> Result<Answer, FlowError> {
    let read = match read(&arguments, call) {
        Ok(read) => read,
        Err(Unreadable(diagnostic, exit)) => return Ok(failure_of(&[diagnostic], exit, call.format)),
    };
    let (inventory, names) = read;
    let project = match &arguments.source {
        None => call.project()?,
        Some((source, folder)) => {
            let name = arguments.name.clone().or_else(|| name_for(&inventory, &call.folder));
            let Some(name) = name else {
                let headline = "neither the list nor the folder's name says how the project is called";
                let diagnostic = Diagnostic::new(Code::Name, headline, "name it with --name NAME");
                return Ok(failure_of(&[diagnostic], Exit::Usage, call.format));
            };
            let instead = |without: &str| format!("name it without that: --source {source}={}", shell_word(without));
            match place_typed(folder, instead) {
                Ok(place) => begin_project(&call.folder, &name, (source, &place), &call.settings)?,
                Err(diagnostic) => return Ok(failure_of(&[*diagnostic], Exit::Usage, call.format)),
            }
        }
    };
    let request = ImportRequest {
        inventory,
        names,
        style: match arguments.constraints {
            Constraints::Compatible => ConstraintStyle::Compatible,
            Constraints::Exact => ConstraintStyle::Exact,
            Constraints::Anything => ConstraintStyle::Anything,
        },
        purpose: arguments.purpose.clone().unwrap_or_else(run_purpose),
        write: if arguments.preview { Write::Nothing } else { Write::File },
    };
    let report = import(&project, &request, &call.context())?;
    let words = || words(&report, &arguments);
    let answer = || ImportAnswer::from(&report);
    if report.others.len() == report.listed && !report.written {
        return Ok(Answer::either(call, Exit::Findings, Said::Result, answer, words));
    }
    let installed = match go_on_to_install(arguments.go_on, call) {
        Ok(installed) => installed,
        Err(error) => return Ok(failure(&error, call).after(call, words)),
    };
    let said = Said::previewing(arguments.preview);
    Ok(Answer::either(call, Exit::Fine, said, answer, || words() + &words_after(installed.as_ref())))
}

/// Reads the list, and how what is listed is called here.
fn read(arguments: &Import, call: &Call) -> Result<(Inventory, yostel_flows::Names), Unreadable> {
    let form = arguments.form.map(|form| match form {
        Form::Cyclonedx => InventoryForm::CycloneDx,
        Form::Spdx => InventoryForm::Spdx,
        Form::Urls => InventoryForm::Urls,
        Form::Csv => InventoryForm::Csv,
    });
    let text = text_of(&arguments.file, call)?;
    let inventory = Inventory::parse(&text, form).map_err(|error| unreadable(&arguments.file, &text, &error, call))?;
    let names = match &arguments.names {
        None => yostel_flows::Names::new(),
        Some(file) => {
            let text = text_of(file, call)?;
            read_names(&text).map_err(|error| unreadable(file, &text, &error, call))?
        }
    };
    Ok((inventory, names))
}

fn text_of(file: &Path, call: &Call) -> Result<String, Unreadable> {
    let read = match file.to_str() {
        Some("-") => {
            let mut text = String::new();
            let read = std::io::stdin().take(MOST_INVENTORY + 1).read_to_string(&mut text);
            read.and_then(|_| match text.len() as u64 > MOST_INVENTORY {
                true => Err(std::io::Error::other(format!("it is longer than {MOST_INVENTORY} bytes"))),
                false => Ok(text),
            })
        }
        _ => read_text_of(&call.folder.join(file), MOST_INVENTORY),
    };
    read.map_err(|cause| {
        if cause.kind() == std::io::ErrorKind::InvalidData {
            return unreadable(file, "", &InventoryError { line: None, says: cause.to_string() }, call);
        }
        let path = call.folder.join(file);
        let error = FlowError::from(ProjectError::Read { path, cause });
        let exit = error.class().into();
        let mut told = yostel_answers::words::diagnostics_of(&error, &call.viewpoint());
        Unreadable(told.remove(0), exit)
    })
}

/// Tells why a list cannot be read, and where.
fn unreadable(file: &Path, text: &str, error: &InventoryError, call: &Call) -> Unreadable {
    let shown = if file.to_str() == Some("-") { "the list".to_owned() } else { call.show(&call.folder.join(file)) };
    let next = "correct it, or convert it into one of the forms that are read: yostel import --help";
    let mut diagnostic = Diagnostic::new(Code::ListUnreadable, format!("{shown} cannot be read: {error}"), next);
    if let Some(line) = error.line {
        let before = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum::<usize>();
        let length = text[before..].lines().next().map_or(0, str::len);
        diagnostic.place = (length > 0).then(|| Place::of(shown, text, &(before..before + length)));
    }
    Unreadable(diagnostic, Exit::Usage)
}

/// Names a project like what the list is of, or like its folder.
fn name_for(inventory: &Inventory, folder: &Path) -> Option<PackageName> {
    let folder = folder.file_name().map(|name| name.to_string_lossy().into_owned());
    let named = |text: String| match PackageName::parse(&text) {
        Ok(name) => Some(name),
        Err(error) => error.suggestion.and_then(|near| PackageName::parse(&near).ok()),
    };
    inventory.of.clone().into_iter().chain(folder).find_map(named)
}

fn words(report: &ImportReport, arguments: &Import) -> String {
    let most = if arguments.in_full { usize::MAX } else { TOLD };
    let kept = report.listed - report.others.len();
    let list = match arguments.file.to_str() {
        Some("-") => "the list".to_owned(),
        _ => shell_word(&arguments.file.to_string_lossy()),
    };
    let what = match report.written {
        true => format!("Took over {kept} of {} as listed in {list}", count(report.listed, "package")),
        false => {
            format!("{kept} of {} would be as listed in {list}; nothing was written", count(report.listed, "package"))
        }
    };
    let mut text = format!("{what}.\n");
    if !report.others.is_empty() {
        let mut columns = Columns::new([Head::package("listed"), Head::plain("locked"), Head::words("why")]);
        for other in report.others.iter().take(most) {
            let listed = match &other.listed.version {
                Some(version) => format!("{} {version}", other.listed.name),
                None => other.listed.name.clone(),
            };
            let locked = match (&other.package, &other.locked[..]) {
                (_, []) => "-".to_owned(),
                (Some(package), _) if *package.as_str() != *other.listed.name => {
                    format!("{package} {}", versions(other))
                }
                _ => versions(other),
            };
            columns.row([listed, locked, why(other)]);
        }
        text.push_str(&columns.finish());
        if report.others.len() > most {
            text.push_str(&note(format!("{} with --in-full", count(report.others.len() - most, "more package"))));
        }
    }
    let names = |all: &std::collections::BTreeSet<(PackageName, _)>| {
        join_first(
            all.iter().map(|(package, version): &(_, yostel_versions::Version)| format!("{package} {version}")),
            most.min(8),
        )
    };
    if !report.added.is_empty() {
        text.push_str(&note(format!("needed too, and not listed: {}", names(&report.added))));
    }
    if !report.differs.is_empty() {
        let says = "the sources have other content under the same version than the list";
        text.push_str(&note(format!("{says}: {}", names(&report.differs))));
    }
    let needed: std::collections::BTreeSet<String> = report.needs.iter().map(|need| need.package.to_string()).collect();
    if !needed.is_empty() {
        let directly = count(needed.len(), "package");
        text.push_str(&note(format!("{directly} needed directly: {}", join_first(needed.into_iter(), most.min(8)))));
    }
    match (report.written, arguments.go_on.install) {
        (true, false) => text + &next_steps(["yostel install", "yostel undo, to take it back"]),
        _ => text,
    }
}

fn versions(other: &NotKept) -> String {
    other.locked.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

fn why(other: &NotKept) -> String {
    match &other.why {
        WhyNotKept::LeftOut => "left out by the table of names".to_owned(),
        WhyNotKept::Unknown => match &other.listed.place {
            Some(place) => format!("no source knows it; the list has it from {place}"),
            None => "no source knows it".to_owned(),
        },
        WhyNotKept::NoVersion => "the list says no version".to_owned(),
        WhyNotKept::NoRelease => "no source has that release; this one is the nearest that fits".to_owned(),
        WhyNotKept::NotNeeded => "nothing that is needed needs it".to_owned(),
        WhyNotKept::AskedFor { who, accept } => format!("{who} needs {accept}"),
        WhyNotKept::NoRoom => "it cannot be there beside the rest".to_owned(),
    }
}
