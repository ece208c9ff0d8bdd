//! Reading `[checks]`.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::time::Duration;

use jiff::SignedDuration;
use toml::de::DeValue;

use super::super::checks::{Check, CheckCommand};
use super::{ManifestProblemKind, NamePattern, Reader, Table, Value};
use crate::name::Word;

/// How long a check may take when its manifest does not say.
const TIME_LIMIT: Duration = Duration::from_secs(600);

/// Reads how long something may take: `30s`, `2m`, `1h 30m`.
///
/// # Examples
/// ```
/// use std::time::Duration;
/// assert_eq!(yostel_documents::time_of("1h30m"), Some(Duration::from_secs(5400)));
/// assert_eq!(yostel_documents::time_of("0s"), None);
/// ```
pub fn time_of(text: &str) -> Option<Duration> {
    let time = text.parse::<SignedDuration>().ok().and_then(|time| Duration::try_from(time).ok());
    time.filter(|time| !time.is_zero())
}

impl Reader<'_> {
    /// Reads `[checks]`; `is_below` when it is the manifest of a project below the root of a workspace.
    pub(super) fn checks(&mut self, root: &Table<'_>, is_below: bool) -> BTreeMap<Word, Check> {
        let mut checks = BTreeMap::new();
        for (key, value) in self.entries("checks", root) {
            let name = self.keep(key.span(), Word::parse(key.get_ref()));
            let table = self.table(&format!("checks.{}", key.get_ref()), value);
            let check = table.and_then(|table| self.one_check(table, key.span(), is_below));
            if let (Some(name), Some(check)) = (name, check) {
                checks.insert(name, check);
            }
        }
        checks
    }

    fn one_check(&mut self, table: &Table<'_>, span: Range<usize>, is_below: bool) -> Option<Check> {
        self.check_keys("checks.*", table);
        let run = match table.get("run") {
            Some(value) => self.check_command(value),
            None => {
                let example = "run = \"make test\"";
                self.problem(span.clone(), ManifestProblemKind::Missing { table: "checks.*", key: "run", example });
                None
            }
        };
        let time_limit = match table.get("time-limit") {
            None => Some(TIME_LIMIT),
            Some(value) => self.string("time-limit", value).and_then(|text| {
                let time = time_of(text);
                if time.is_none() {
                    let (value_text, reason) = (text.to_owned(), "a time is written 30s, 2m or 1h30m");
                    let kind = ManifestProblemKind::Value { key: "time-limit", value: value_text, reason };
                    self.problem(value.span(), kind);
                }
                time
            }),
        };
        let mut purposes = BTreeSet::new();
        for (text, span) in table.get("for").map(|list| self.strings("for", list)).into_iter().flatten() {
            purposes.extend(self.keep(span, Word::parse(&text)));
        }
        let mut projects = Vec::new();
        for (text, span) in table.get("in").map(|list| self.strings("in", list)).into_iter().flatten() {
            if is_below {
                self.problem(span, ManifestProblemKind::OnlyInRoot("in"));
                break;
            }
            projects.extend(self.keep(span, NamePattern::parse(&text)));
        }
        Some(Check { run: run?, time_limit: time_limit?, purposes, projects, span })
    }

    fn check_command(&mut self, value: &Value<'_>) -> Option<CheckCommand> {
        let command = match value.get_ref() {
            DeValue::Array(_) => {
                let words = self.strings("run", value).into_iter().map(|(word, _)| word);
                CheckCommand::Words(words.collect())
            }
            DeValue::String(_) => CheckCommand::Line(self.string("run", value)?.to_owned()),
            _ => {
                self.wrong_type("run", value, "a line for the shell, or a list of a program and its arguments");
                return None;
            }
        };
        let reason = match &command {
            CheckCommand::Line(line) if line.trim().is_empty() => "there is nothing to run",
            CheckCommand::Words(words) if words.first().is_none_or(String::is_empty) => "there is nothing to run",
            _ if command.words().iter().any(|word| word.contains('\0')) => "it holds the character NUL",
            _ => return Some(command),
        };
        let text = command.words().join(" ");
        self.problem(value.span(), ManifestProblemKind::Value { key: "run", value: text, reason });
        None
    }
}
