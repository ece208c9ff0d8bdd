//! `graph`: who needs whom, as a picture.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use yostel_answers::answers::graph::GraphAnswer;
use yostel_answers::{Code, Diagnostic};
use yostel_documents::PackageName;
use yostel_findings::Folding;
use yostel_flows::{FlowError, GraphRequest, MOST_NODES, Side, graph_of, write_picture};

use crate::answer::{Answer, Door, failure_of};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::pictures::{dot, notes, svg, title};
use crate::render::{note, note_at_once};
use crate::sanitise::sanitise;

/// How many nodes are drawn, where nobody says.
const NODES: usize = 400;

/// What is wider or higher is hard to find one's way in.
const MOST_POINTS: f64 = 6_000.0;

/// Draw who needs whom as a picture, with what an audit found
///
/// Each kind of finding has its sign, which the legend explains. A picture of more than --limit boxes would not be readable:
/// packages are folded until it is.
#[derive(Debug, Args)]
pub(crate) struct Graph {
    /// Where to write it, by its ending as SVG (.svg), as PNG (.png) or for Graphviz (.dot, .gv); the standard output when not given
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,

    /// In which form; without it, the ending says so
    #[arg(long = "as", value_enum, value_name = "FORM")]
    form: Option<Form>,

    /// Only what leads to this package, and on from it
    #[arg(long, value_name = "PACKAGE", value_parser = package_name)]
    focus: Option<PackageName>,

    /// By at most so many needs
    #[arg(long, value_name = "NEEDS", requires = "focus", default_value_t = 2)]
    distance: usize,

    /// Draw several as one: what needs nothing, or what only one project needs
    #[arg(long, value_enum, value_name = "WHAT")]
    fold: Option<Fold>,

    /// Mark what moved since this lockfile: a file, a folder that has one, or a revision of git's
    #[arg(long, value_name = "OLD")]
    since: Option<String>,

    /// Draw at most so many boxes, from 2 to 2000
    #[arg(long, value_name = "BOXES", default_value_t = NODES, value_parser = boxes)]
    limit: usize,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// SVG 1.1
    Svg,
    /// The language of Graphviz
    Dot,
    /// PNG, by a program that was built with it; to a file only
    Png,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Fold {
    /// Packages that need nothing, those as one that the same ask for
    Leaves,
    /// Packages that only one project needs, as one for each project
    Projects,
}

fn boxes(text: &str) -> Result<usize, String> {
    match text.parse() {
        Ok(boxes @ 2..=MOST_NODES) => Ok(boxes),
        _ => Err(format!("it is not a whole number from 2 to {MOST_NODES}")),
    }
}

pub(crate) fn run(arguments: Graph, call: &Call) -> Result<Answer, FlowError> {
    let form = match wanted(&arguments) {
        Ok(form) => form,
        Err(wrong) => return Ok(failure_of(&[wrong], Exit::Usage, call.format)),
    };
    let request = GraphRequest {
        focus: arguments.focus.map(|package| (package, arguments.distance)),
        fold: arguments.fold.map(|fold| match fold {
            Fold::Leaves => Folding::Leaves,
            Fold::Projects => Folding::Projects,
        }),
        most: arguments.limit,
        since: arguments.since.as_ref().map(|since| Side::of(since, &call.folder)),
    };
    let mut answer = GraphAnswer::from(&graph_of(&call.project()?, &request, &call.context())?);
    answer.since = arguments.since;
    if arguments.file.is_none() && call.json() {
        return Ok(Answer::document(call, Exit::Fine, &answer));
    }
    let mut notes = notes(&answer);
    if arguments.fold.is_some() && answer.folded.is_empty() {
        notes.push("there is nothing to fold in this way".to_owned());
    }
    let (picture, mark) = match form {
        Form::Dot => (dot::document(&answer, &notes).into_bytes(), dot::MARK),
        Form::Svg | Form::Png => {
            let picture = svg::document(&answer, &notes);
            if picture.width > MOST_POINTS || picture.height > MOST_POINTS {
                let size = format!("{:.0} by {:.0} points", picture.width, picture.height);
                notes.push(format!(
                    "the picture is {size}: --focus PACKAGE, or a smaller --limit, shows less and more clearly"
                ));
            }
            match &arguments.file {
                Some(file) if form == Form::Png => match painted(&picture, file) {
                    Ok(painted) => painted,
                    Err((wrong, exit)) => return Ok(failure_of(&[wrong], exit, call.format)),
                },
                _ => (picture.text.into_bytes(), svg::MARK),
            }
        }
    };
    notes.extend(answer.untold.as_ref().map(|why| format!("the sources cannot be asked: {why}")));
    let Some(file) = arguments.file else {
        let stderr = if call.quiet { String::new() } else { notes.iter().map(note_at_once).collect() };
        return Ok(Answer {
            stderr,
            door: Door::Raw,
            ..Answer::words(Exit::Fine, String::from_utf8_lossy(&picture).into_owned())
        });
    };
    write_picture(&call.folder.join(&file), &picture, mark)?;
    let shown = file.display().to_string();
    answer.file = Some(shown.clone());
    Ok(Answer::done(
        call,
        Exit::Fine,
        || answer.clone(),
        || {
            let notes: String = notes.iter().map(note).collect();
            format!("Wrote {}. {}.\n{notes}", sanitise(&shown), sanitise(&title(&answer)))
        },
    ))
}

/// Tells in which form the picture should be, or why it cannot be in that.
fn wanted(arguments: &Graph) -> Result<Form, Diagnostic> {
    let usage = |headline: String, next: &str| Err(Diagnostic::new(Code::Usage, headline, next));
    let form = match (arguments.form, arguments.file.as_deref()) {
        (Some(form), _) => form,
        (None, None) => Form::Svg,
        (None, Some(file)) => match form_of(file) {
            Some(form) => form,
            None => {
                let headline = format!("{} ends in none of .svg, .png, .dot and .gv", file.display());
                return usage(headline, "name such a file, or say --as svg or --as dot");
            }
        },
    };
    match (form, arguments.file.as_deref()) {
        (Form::Png, None) => {
            usage("a PNG is not for the standard output".to_owned(), "name a file for it, as in yostel graph needs.png")
        }
        (Form::Png, Some(file)) if !cfg!(feature = "png") => Err(built_without(file)),
        _ => Ok(form),
    }
}

/// Says that this program cannot paint.
fn built_without(file: &Path) -> Diagnostic {
    let headline = format!("{} cannot be written: this program was built without PNG", file.display());
    let svg = file.with_extension("svg");
    let next = format!("write {}, which browsers show and print", svg.display());
    Diagnostic::new(Code::Usage, headline, next.as_str()).or("build yostel with --features png")
}

/// Tells from a file's ending in which form it should be; nothing when it does not say.
fn form_of(file: &Path) -> Option<Form> {
    match file.extension()?.to_str()? {
        "svg" => Some(Form::Svg),
        "png" => Some(Form::Png),
        "dot" | "gv" => Some(Form::Dot),
        _ => None,
    }
}

/// Paints a picture as PNG; returns it with its mark.
#[cfg(feature = "png")]
fn painted(picture: &svg::Picture, file: &Path) -> Result<(Vec<u8>, &'static str), (Diagnostic, Exit)> {
    use crate::render::pictures::png;

    let svg = file.with_extension("svg");
    let (file, svg) = (file.display(), svg.display());
    png::document(picture).map(|painted| (painted, png::MARK)).map_err(|error| match error {
        png::PngError::TooLarge => {
            let headline = format!(
                "{file} is not written: {:.0} by {:.0} points are too large for a PNG",
                picture.width, picture.height
            );
            let next = format!("draw less, with --focus PACKAGE or a smaller --limit, or write {svg}");
            (Diagnostic::new(Code::Usage, headline, next.as_str()), Exit::Usage)
        }
        png::PngError::NoFonts => {
            let headline = format!("{file} is not written: this machine has no font to write its words with");
            let next = format!("install a font, or write {svg}");
            (Diagnostic::new(Code::CannotWrite, headline, next.as_str()), Exit::Machine)
        }
        png::PngError::Refused(why) => {
            let headline = format!("{file} is not written: {why}");
            let next = format!("write {svg}");
            (Diagnostic::new(Code::CannotWrite, headline, next.as_str()), Exit::Machine)
        }
    })
}

#[cfg(not(feature = "png"))]
fn painted(_: &svg::Picture, file: &Path) -> Result<(Vec<u8>, &'static str), (Diagnostic, Exit)> {
    Err((built_without(file), Exit::Usage))
}
