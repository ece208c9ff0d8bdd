//! What `[checks]` says: commands that tell whether a project still works.

use std::collections::BTreeSet;
use std::ops::Range;
use std::time::Duration;

use super::NamePattern;
use crate::name::Purpose;

/// One entry of `[checks]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Check {
    /// What is run in the project's folder.
    pub run: CheckCommand,
    /// How long it may take.
    pub time_limit: Duration,
    /// The purposes whose packages it finds; all of them when there are none.
    pub purposes: BTreeSet<Purpose>,
    /// The projects of the workspace in which it is run; the one whose manifest has it when there are none.
    pub projects: Vec<NamePattern>,
    /// Byte range of the check's name in the manifest.
    pub span: Range<usize>,
}

/// How a check is run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckCommand {
    /// By the shell, `sh`, which reads this line.
    Line(String),
    /// As a program with its arguments, as they are. Never empty.
    Words(Vec<String>),
}

impl CheckCommand {
    /// Returns the program and its arguments.
    pub fn words(&self) -> Vec<&str> {
        match self {
            Self::Line(line) => vec!["sh", "-c", line],
            Self::Words(words) => words.iter().map(String::as_str).collect(),
        }
    }
}
