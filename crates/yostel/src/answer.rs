//! What a command comes to: what to print where, and how to end.

use yostel_answers::Diagnostic;
use yostel_answers::answers::{Told, document};
use yostel_answers::schema::Failure;
use yostel_answers::words::{Viewpoint, diagnostics_of, stopped};
use yostel_flows::{FlowError, Observer};

use crate::call::Call;
use crate::exit::Exit;
use crate::options::Format;
use crate::render;

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

/// What words for people are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Said {
    /// What was asked for.
    Result,
    /// That something was done, or is as it should be.
    Done,
}

impl Said {
    /// A preview is a result: nothing was done.
    pub(crate) fn previewing(preview: bool) -> Self {
        if preview { Self::Result } else { Self::Done }
    }
}

impl Answer {
    /// Words for people.
    pub(crate) fn words(exit: Exit, stdout: String) -> Self {
        Self { stdout, stderr: String::new(), exit, door: Door::Shown }
    }

    /// One document for programs.
    pub(crate) fn document<T: Told>(call: &Call, exit: Exit, content: &T) -> Self {
        Self { door: Door::Document, ..Self::words(exit, document(content, &call.progress.stale())) }
    }

    /// What another program takes over, byte for byte.
    pub(crate) fn raw(stdout: String) -> Self {
        Self { door: Door::Raw, ..Self::words(Exit::Fine, stdout) }
    }

    /// Puts what was done before, in words, ahead of this.
    pub(crate) fn after(self, call: &Call, said: impl FnOnce() -> String) -> Self {
        if call.json() || call.quiet { self } else { Self { stdout: said() + &self.stdout, ..self } }
    }

    /// Either, by what was asked for; words that report what was done fall silent with `--quiet`.
    pub(crate) fn done<T: Told>(
        call: &Call,
        exit: Exit,
        content: impl FnOnce() -> T,
        words: impl FnOnce() -> String,
    ) -> Self {
        Self::either(call, exit, Said::Done, content, words)
    }

    /// Either, by what was asked for.
    pub(crate) fn either<T: Told>(
        call: &Call,
        exit: Exit,
        said: Said,
        content: impl FnOnce() -> T,
        words: impl FnOnce() -> String,
    ) -> Self {
        if call.json() {
            Self::document(call, exit, &content())
        } else if call.quiet && exit == Exit::Fine && said == Said::Done {
            Self::words(exit, String::new())
        } else {
            Self::words(exit, words())
        }
    }
}

/// Turns an error into an answer.
pub(crate) fn failure(error: &FlowError, call: &Call) -> Answer {
    failure_seen_from(&call.viewpoint(), error, call)
}

/// Tells an error as it is seen from somewhere.
pub(crate) fn failure_seen_from(view: &Viewpoint<'_>, error: &FlowError, call: &Call) -> Answer {
    // Whatever broke off after that broke off because of it.
    if call.progress.stops() {
        return failure_of(&[stopped()], Exit::Stopped, call.format);
    }
    failure_of(&diagnostics_of(error, view), error.class().into(), call.format)
}

/// Puts diagnostics where they are read: people's on stderr, a program's on stdout.
pub(crate) fn failure_of(diagnostics: &[Diagnostic], exit: Exit, format: Format) -> Answer {
    match format {
        Format::Text | Format::Sarif | Format::Junit | Format::Markdown | Format::Csv => {
            let texts: Vec<String> = diagnostics.iter().map(render::diagnostic).collect();
            Answer { stdout: String::new(), stderr: texts.join("\n"), exit, door: Door::Shown }
        }
        Format::Json => {
            let failure = Failure::of(exit.status(), diagnostics);
            Answer { door: Door::Document, ..Answer::words(exit, failure.write()) }
        }
    }
}
