//! Reading `[proposals]`.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;
use toml::de::DeValue;

use super::super::proposals::{Hours, LeftOut, Proposals};
use super::policy::days;
use super::{ManifestProblemKind, NamePattern, Reader, Table, Value};
use crate::name::{PackageName, Word};

/// Longest word that says who is told.
const MOST_TOLD: usize = 200;

impl Reader<'_> {
    /// Reads `[proposals]`.
    pub(super) fn proposals(&mut self, root: &Table<'_>) -> Option<Proposals> {
        let value = root.get("proposals")?;
        let table = self.table("proposals", value)?;
        self.check_keys("proposals", table);
        let mut proposals = Proposals::default();
        for (text, span) in table.get("when").map(|list| self.strings("when", list)).into_iter().flatten() {
            match Hours::parse(&text) {
                Some(hours) => proposals.when.push(hours),
                None => {
                    let reason =
                        "hours are written \"mon-fri 06:00-09:00\", \"sat,sun 22:00-06:00\" or \"daily 01:00-05:00\"";
                    self.problem(span, ManifestProblemKind::Value { key: "when", value: text, reason });
                }
            }
        }
        if let Some(value) = table.get("time-zone")
            && let Some(text) = self.string("time-zone", value)
        {
            match TimeZone::get(text) {
                Ok(zone) => proposals.time_zone = zone,
                Err(_) => {
                    let reason = "it is no time zone of the IANA's, like Europe/Zurich or UTC";
                    let kind = ManifestProblemKind::Value { key: "time-zone", value: text.to_owned(), reason };
                    self.problem(value.span(), kind);
                }
            }
        }
        if let Some(value) = table.get("at-once") {
            proposals.at_once = self.at_once(value).unwrap_or(proposals.at_once);
        }
        for (text, span) in table.get("packages").map(|list| self.strings("packages", list)).into_iter().flatten() {
            let (into, text) = match text.strip_prefix('!') {
                Some(rest) => (&mut proposals.but, rest),
                None => (&mut proposals.packages, text.as_str()),
            };
            match NamePattern::parse(text) {
                Ok(pattern) => into.push(pattern),
                Err(error) => self.problem(span, error.into()),
            }
        }
        proposals.together = self.together(table);
        for (text, span) in table.get("tell").map(|list| self.strings("tell", list)).into_iter().flatten() {
            if text.is_empty() || text.len() > MOST_TOLD || text.chars().any(char::is_control) {
                let reason = "it is a name or an address, on one line";
                self.problem(span, ManifestProblemKind::Value { key: "tell", value: text, reason });
            } else {
                proposals.tell.push(text);
            }
        }
        if let Some(value) = table.get("minimum-age")
            && let Some(text) = self.string("minimum-age", value)
        {
            proposals.minimum_age_days = days(text);
            if proposals.minimum_age_days.is_none() {
                let (value_text, reason) = (text.to_owned(), "an age is written \"7 days\" or \"2 weeks\"");
                let kind = ManifestProblemKind::Value { key: "minimum-age", value: value_text, reason };
                self.problem(value.span(), kind);
            }
        }
        if let Some(value) = table.get("edit") {
            match value.get_ref() {
                DeValue::Boolean(edit) => proposals.edit = *edit,
                _ => self.wrong_type("edit", value, "true or false"),
            }
        }
        for (text, span) in table.get("unasked").map(|list| self.strings("unasked", list)).into_iter().flatten() {
            proposals.unasked.extend(self.keep(span, NamePattern::parse(&text)));
        }
        proposals.left_out = self.left_out(table);
        Some(proposals)
    }

    fn at_once(&mut self, value: &Value<'_>) -> Option<u32> {
        let DeValue::Integer(number) = value.get_ref() else {
            self.wrong_type("at-once", value, "a whole number");
            return None;
        };
        match number.as_str().parse::<u32>() {
            Ok(number) if number > 0 => Some(number),
            _ => {
                let (value_text, reason) = (number.as_str().to_owned(), "it is how many may be open, at least 1");
                self.problem(value.span(), ManifestProblemKind::Value { key: "at-once", value: value_text, reason });
                None
            }
        }
    }

    /// Reads which packages are proposed together; none in two groups by the same words.
    fn together(&mut self, table: &Table<'_>) -> BTreeMap<Word, Vec<NamePattern>> {
        let mut together: BTreeMap<Word, Vec<NamePattern>> = BTreeMap::new();
        for (key, value) in self.entries("together", table) {
            let name = self.keep(key.span(), Word::parse(key.get_ref()));
            let mut patterns = Vec::new();
            for (text, span) in self.strings("together", value) {
                let Some(pattern) = self.keep(span.clone(), NamePattern::parse(&text)) else { continue };
                let is_there = together.values().flatten().chain(&patterns).any(|other| *other == pattern);
                if is_there {
                    self.problem(span, ManifestProblemKind::ListedTwice(text));
                } else {
                    patterns.push(pattern);
                }
            }
            if let Some(name) = name {
                together.insert(name, patterns);
            }
        }
        together
    }

    fn left_out(&mut self, table: &Table<'_>) -> BTreeMap<PackageName, LeftOut> {
        let mut left_out = BTreeMap::new();
        for (key, value) in self.entries("left-out", table) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let Some(entry) = self.table("left-out", value) else { continue };
            self.check_keys("proposals.left-out.*", entry);
            let why = match entry.get("why") {
                Some(why) => self.string("why", why).map(str::to_owned),
                None => {
                    let example = "why = \"the inspection is in May\"";
                    let kind = ManifestProblemKind::Missing { table: "proposals.left-out.*", key: "why", example };
                    self.problem(key.span(), kind);
                    None
                }
            };
            let until = self.until(entry);
            if let (Some(name), Some(why)) = (name, why) {
                left_out.insert(name, LeftOut { why, until, span: key.span() });
            }
        }
        left_out
    }
}
