//! What a command comes to: what to print where, and how to end.

use serde_json::{Value, json};
use yostel_answers::Diagnostic;
use yostel_flows::FlowError;

use crate::call::Call;
use crate::diagnostic::diagnostics_of;
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
        call: &Call,
        exit: Exit,
        command: &str,
        content: impl FnOnce() -> Value,
        words: impl FnOnce() -> String,
    ) -> Self {
        if call.json() {
            Self::document(exit, command, content())
        } else if call.quiet && exit == Exit::Fine {
            Self::words(exit, String::new())
        } else {
            Self::words(exit, words())
        }
    }
}

/// Turns an error into an answer.
pub(crate) fn failure(error: &FlowError, call: &Call) -> Answer {
    failure_of(&diagnostics_of(error, call), error.class().into(), call.format)
}

/// Puts diagnostics where they are read: people's on stderr, a program's on stdout.
pub(crate) fn failure_of(diagnostics: &[Diagnostic], exit: Exit, format: Format) -> Answer {
    match format {
        Format::Text => {
            let texts: Vec<String> = diagnostics.iter().map(render::diagnostic).collect();
            Answer { stdout: String::new(), stderr: texts.join("\n"), exit, door: Door::Shown }
        }
        Format::Json => {
            let document = json!({ "format": 1, "exit": exit.status(), "errors": diagnostics });
            Answer { stdout: format!("{document:#}\n"), stderr: String::new(), exit, door: Door::Document }
        }
    }
}
