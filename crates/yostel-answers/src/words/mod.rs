//! From errors to words: the only room that knows them. Exhaustive on purpose: a new error does not compile until it
//! has its words. Codes are explained in docs/errors.md.

mod advisory;
mod collision;
mod compare;
mod content;
mod dispute;
mod doubt;
mod edits;
mod finding;
mod install;
mod lock;
mod manifest;
mod notice;
mod patch;
mod place;
mod project;
mod proposal;
mod search;
mod story;
mod summary;
mod texts;
mod undo;

use std::path::Path;

use jiff::Timestamp;
use yostel_documents::{NameError, PackageName};
use yostel_flows::FlowError;
use yostel_versions::{ConstraintProblem, ConstraintTextError};

pub use advisory::{command_for, dismissed_words, need_command, severity_words, way_words};
pub use compare::{cause_words, side_words, versions_words};
pub use content::changes_told;
use content::of_content;
pub use dispute::dispute_words;
pub use doubt::doubt_words;
pub use edits::{edit_words, rule_edit_words};
pub use finding::{
    concern_words, debt_words, duplicate_words, finding_notes, finding_words, kind_words, licence_words, quiet_words,
    remedy_words,
};
use install::of_install;
use lock::of_lock;
pub use manifest::stale_note;
pub use notice::{notice_mark, notice_words};
use patch::of_change;
use place::{of_registry, of_store};
use project::of_project;
use proposal::of_proposal;
use search::of_search;
pub use story::{Telling, story};
pub use summary::summary;
pub use texts::{age, ago, count, day, join, join_first, lag, shell_word, size};
use undo::of_undo;

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};

/// How many of a kind are told in one message.
const TOLD: usize = 5;

/// How many lines of differing files are told in one message.
const TOLD_LINES: usize = 12;

/// From where and when words are read: paths are told as seen from there, ages up to then.
#[derive(Debug, Clone, Copy)]
pub struct Viewpoint<'v> {
    /// The folder in which the reader is.
    pub folder: &'v Path,
    /// The cache's folder.
    pub cache: &'v Path,
    /// The time.
    pub now: Timestamp,
    /// Whether all there is to tell is wanted.
    pub in_full: bool,
}

impl Viewpoint<'_> {
    /// Shortens a path for people: relative to where they are, when it is below.
    pub fn show(&self, path: &Path) -> String {
        match path.strip_prefix(self.folder) {
            Ok(here) if here.as_os_str().is_empty() => ".".to_owned(),
            below => below.unwrap_or(path).display().to_string(),
        }
    }
}

fn tell(code: Code, headline: impl Into<String>, next: impl Into<Suggestion>) -> Diagnostic {
    Diagnostic::new(code, headline, next)
}

/// Tells an error; several failures are told one by one.
pub fn diagnostics_of(error: &FlowError, view: &Viewpoint<'_>) -> Vec<Diagnostic> {
    match error {
        FlowError::Several(errors) => errors.iter().flat_map(|error| diagnostics_of(error, view)).collect(),
        FlowError::Project(error) => of_project(error, view),
        FlowError::Search(error) => of_search(error, view),
        FlowError::Lock(error) => vec![of_lock(error, view)],
        FlowError::Content(error) => vec![of_content(error, view)],
        FlowError::Install(error) => vec![of_install(error)],
        FlowError::Change(error) => vec![of_change(error, view)],
        FlowError::Undo(error) => vec![of_undo(error)],
        FlowError::Proposal(error) => vec![of_proposal(error)],
        FlowError::Registry(error) => vec![of_registry(error, view)],
        FlowError::Store(error) => vec![of_store(error)],
        FlowError::Stopped => vec![stopped()],
        FlowError::Needs { package, beside, cause } => needs_of(package, beside, cause, view),
        FlowError::Halfway { done, cause } => {
            let published = join(&done.iter().map(|(name, version)| format!("{name} {version}")).collect::<Vec<_>>());
            let note = format!("published before that: {published}; the same command goes on where this one ended");
            diagnostics_of(cause, view).into_iter().map(|told| told.note(note.clone())).collect()
        }
    }
}

/// Tells why whoever needs a package would get no set.
fn needs_of(package: &PackageName, beside: &[PackageName], cause: &FlowError, view: &Viewpoint<'_>) -> Vec<Diagnostic> {
    let why = match cause {
        FlowError::Search(_) => format!("nobody who needs {package} could be given what it needs"),
        _ => format!("whether those who need {package} could be given what it needs was not found out"),
    };
    let told = diagnostics_of(cause, view).into_iter().map(|mut told| {
        if told.collision.is_some() {
            told.next = vec!["change one of these needs, so that all of them can be met".into()];
        }
        if !beside.is_empty() {
            let names: Vec<String> = beside.iter().map(ToString::to_string).collect();
            told.next.insert(0, format!("publish {} first, or the whole workspace with --each", join(&names)).into());
        }
        told.note(format!("nothing was published: {why}")).or("--untried, to publish it as it is")
    });
    told.collect()
}

/// Tells that the work ended because somebody wanted it to.
pub fn stopped() -> Diagnostic {
    tell(Code::Stopped, "stopped; nothing was left half-done", "run the same command again to go on")
}

fn internal(headline: String) -> Diagnostic {
    tell(Code::Internal, headline, "report this with your yostel.toml; nothing was written")
        .note("this is a fault in yostel")
}

/// Tells a name that cannot be one.
pub fn bad_name(error: &NameError) -> Diagnostic {
    let next: Suggestion = match &error.suggestion {
        Some(works) => format!("write {works}").into(),
        None => "names are lower-case words with digits, `-`, `.`, `_`, and levels by `/`".into(),
    };
    tell(Code::Name, error.to_string(), next)
}

/// Tells a constraint that is none.
pub fn bad_constraint(error: &ConstraintTextError, package: Option<&PackageName>) -> Diagnostic {
    // What is typed on a command line is typed again; what is in a file is written there.
    let write = |text: &str, purpose: &str| match package {
        Some(package) => Suggestion::run(format!("yostel add {package} '{text}'"), purpose),
        None => Suggestion::edit(text, format!("write \"{text}\", {purpose}")),
    };
    let signs = "comparisons are = != > >= < <= and ^, joined by `,` (and) or `||` (or)";
    let headline = error.to_string();
    match &error.problem {
        ConstraintProblem::BareVersion { readings: [exact, compatible] } => {
            let all = match exact.strip_suffix(".*") {
                Some(start) => format!("for every version that begins with {start}"),
                None => "for exactly that version".to_owned(),
            };
            tell(Code::Constraint, headline, write(exact, &all))
                .or(write(compatible, "for it and what is compatible with it"))
        }
        ConstraintProblem::Tilde { range } => tell(Code::Constraint, headline, write(range, "which says the range")),
        ConstraintProblem::Missing | ConstraintProblem::MissingVersion(_) => {
            tell(Code::Constraint, headline, write("^1.4.2", "for example; `*` accepts every release"))
        }
        ConstraintProblem::NotPlatforms(_) => {
            tell(Code::Constraint, headline, "write a system and an architecture: linux/*, */arm64 or !windows/*")
        }
        ConstraintProblem::TooLong(_)
        | ConstraintProblem::TooManyAlternatives
        | ConstraintProblem::VersionTooLong
        | ConstraintProblem::UnknownSign(_)
        | ConstraintProblem::NotAVersion
        | ConstraintProblem::MisplacedStar
        | ConstraintProblem::SingleBar
        | ConstraintProblem::MissingComma => {
            tell(Code::Constraint, headline, write(">=1.4, <3 || ^4", "for example")).note(signs)
        }
    }
}
