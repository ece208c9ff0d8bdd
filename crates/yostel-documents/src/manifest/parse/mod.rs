//! From text to a manifest, or to all that is wrong with it. Each table is read key by key against the list of keys it
//! may have, so that a key nobody knows is never passed over.

mod checks;
mod contents;
mod elsewhere;
mod mentions;
mod overriding;
mod policy;
mod problem;
mod project;
mod proposals;
mod sources;

use std::collections::BTreeMap;
use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys::keys_of;
use super::{Manifest, NamePattern, Need, Policy};
pub use checks::time_of;
pub use policy::days_of;
pub use problem::{ManifestProblem, ManifestProblemKind};

use crate::merge_mark::merge_mark;
use crate::name::{PackageName, Word, nearest};
use crate::release::{ANY_PLATFORM, Offers, check_platform};
use yostel_versions::ConstraintText;

/// In place of a constraint: the one that is agreed.
pub(super) const AGREED: &str = "agreed";

/// A project's platforms are named one by one: to serve any, none need be.
fn check_one_platform(platform: &str) -> Result<(), &'static str> {
    if platform == ANY_PLATFORM { Err("a project names its platforms one by one") } else { check_platform(platform) }
}

/// Platforms that a project can list: a resolution keeps them as the bits of one number.
const MOST_PLATFORMS: usize = 64;

struct Reader<'t> {
    text: &'t str,
    problems: Vec<ManifestProblem>,
}

type Table<'i> = DeTable<'i>;
type Value<'i> = Spanned<DeValue<'i>>;

/// What could be read of a manifest, and all that is wrong with it.
#[derive(Debug)]
#[must_use = "there may be problems"]
pub struct ManifestReading {
    /// The manifest, without the parts that have problems; none when not even the project's name can be read.
    pub manifest: Option<Manifest>,
    /// The problems, in the order of the text.
    pub problems: Vec<ManifestProblem>,
}

impl ManifestReading {
    /// Returns the manifest when nothing is wrong with it.
    ///
    /// # Errors
    /// The problems.
    pub fn whole(self) -> Result<Manifest, Vec<ManifestProblem>> {
        match self.manifest {
            Some(manifest) if self.problems.is_empty() => Ok(manifest),
            // Without a problem every required part was found.
            _ => Err(self.problems),
        }
    }
}

/// Reads as much of a manifest as can be read; `agreed` is what the workspace agreed on, when it is that of one of its other
/// projects.
pub(super) fn read(text: &str, agreed: Option<&BTreeMap<PackageName, Need>>) -> ManifestReading {
    let mut reader = Reader { text, problems: Vec::new() };
    let (root, errors) = DeTable::parse_recoverable(text);
    // A text between quotes may have such a line.
    if let Some(span) = merge_mark(text).filter(|_| !errors.is_empty()) {
        reader.problem(span, ManifestProblemKind::MergeMarks);
        return ManifestReading { manifest: None, problems: reader.problems };
    }
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        reader.problem(span, ManifestProblemKind::Syntax(error.message().to_owned()));
    }
    let manifest = reader.manifest(root.get_ref(), agreed);
    reader.problems.sort_by_key(|problem| (problem.span.start, problem.span.end));
    ManifestReading { manifest, problems: reader.problems }
}

/// Reads `[offers]` alone; nothing when it has a problem of its own.
pub(super) fn offers(text: &str) -> Option<Offers> {
    let mut reader = Reader { text, problems: Vec::new() };
    let (root, _) = DeTable::parse_recoverable(text);
    let offers = match root.get_ref().get("offers") {
        Some(value) => reader.table("offers", value).map(|table| reader.offers(table))?,
        None => Offers::default(),
    };
    reader.problems.is_empty().then_some(offers)
}

/// Finds a key of a table in a manifest: its byte range, and its value as it is written.
pub fn place_of_key(text: &str, table: &str, key: &str) -> Option<(Range<usize>, String)> {
    let (root, _) = DeTable::parse_recoverable(text);
    let table = root.get_ref().get(table)?.get_ref().as_table()?;
    let (key, value) = table.get_key_value(key)?;
    Some((key.span(), text.get(value.span())?.to_owned()))
}

impl<'t> Reader<'t> {
    fn problem(&mut self, span: Range<usize>, kind: ManifestProblemKind) {
        self.problems.push(ManifestProblem { span, kind });
    }

    /// Notes the error of a checked value and goes on.
    fn keep<T, E: Into<ManifestProblemKind>>(&mut self, span: Range<usize>, result: Result<T, E>) -> Option<T> {
        result.map_err(|error| self.problem(span, error.into())).ok()
    }

    fn manifest(&mut self, root: &Table<'_>, outer: Option<&BTreeMap<PackageName, Need>>) -> Option<Manifest> {
        self.check_keys("", root);
        if outer.is_some() {
            self.check_inner(root);
        }
        let project = match root.get("project") {
            Some(value) => self.table("project", value).and_then(|table| self.project(table, value.span())),
            None => {
                let example = "[project]\nname = \"ropeway/console\"";
                self.problem(0..0, ManifestProblemKind::Missing { table: "", key: "project", example });
                None
            }
        };
        let mut agreed = BTreeMap::new();
        for (key, value) in self.entries("agreed", root) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let accept = self.accept(key.get_ref(), value);
            if let (Some(name), Some(accept)) = (name, accept) {
                agreed.insert(name, Need::of(accept, key.span()));
            }
        }
        let needs = self.needs(root, project.as_ref().map(|p| &p.name), outer.unwrap_or(&agreed));
        let workspace = self.workspace(root);
        let (force, swap, admit) = (self.forces(root), self.swaps(root), self.admits(root));
        let licence_exceptions = self.licence_exceptions(root);
        self.check_overrides(&force, &swap);
        let mut sources = BTreeMap::new();
        for (key, value) in self.entries("sources", root) {
            let name = self.keep(key.span(), Word::parse(key.get_ref()));
            let declaration = self.table(&format!("sources.{}", key.get_ref()), value);
            let declaration = declaration.and_then(|table| self.source(table, key.span()));
            if let (Some(name), Some(declaration)) = (name, declaration) {
                sources.insert(name, declaration);
            }
        }
        let offers = match root.get("offers") {
            Some(value) => self.table("offers", value).map(|table| self.offers(table)).unwrap_or_default(),
            None => Offers::default(),
        };
        let contents = self.contents(root);
        let policy = match root.get("policy") {
            Some(value) => self.table("policy", value).map(|table| self.policy(table)).unwrap_or_default(),
            None => Policy::default(),
        };
        let mut alter = BTreeMap::new();
        for (key, value) in self.entries("alter", root) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let table = self.table(&format!("alter.{}", key.get_ref()), value);
            let change = table.and_then(|table| self.alter(table, key.span()));
            if let (Some(name), Some(change)) = (name, change) {
                alter.insert(name, change);
            }
        }
        let checks = self.checks(root, outer.is_some());
        let proposals = self.proposals(root);
        let mentions = self.mentions(root);
        let project = project?;
        let manifest = Manifest {
            project,
            workspace,
            needs,
            sources,
            offers,
            contents,
            policy,
            alter,
            agreed,
            force,
            swap,
            admit,
            licence_exceptions,
            checks,
            proposals,
            mentions,
        };
        self.check_places(&manifest);
        Some(manifest)
    }

    fn needs(
        &mut self,
        root: &Table<'_>,
        project: Option<&PackageName>,
        agreed: &BTreeMap<PackageName, Need>,
    ) -> BTreeMap<Word, BTreeMap<PackageName, Need>> {
        let mut needs = BTreeMap::new();
        for (key, value) in self.entries("needs", root) {
            let purpose = self.keep(key.span(), Word::parse(key.get_ref()));
            let Some(table) = self.table(&format!("needs.{}", key.get_ref()), value) else { continue };
            let mut entries = BTreeMap::new();
            for (key, value) in table {
                let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
                let need = self.need(key.get_ref(), value, key.span(), name.as_ref().map(|name| (name, agreed)));
                if name.is_some() && name.as_ref() == project {
                    let itself = name.clone().expect("checked just above");
                    self.problem(key.span(), ManifestProblemKind::NeedsItself(itself));
                }
                if let (Some(name), Some(need)) = (name, need) {
                    entries.insert(name, need);
                }
            }
            if let Some(purpose) = purpose {
                needs.insert(purpose, entries);
            }
        }
        needs
    }

    fn need(
        &mut self,
        key: &str,
        value: &Value<'_>,
        span: Range<usize>,
        agreed: Option<(&PackageName, &BTreeMap<PackageName, Need>)>,
    ) -> Option<Need> {
        let mut only_on = Vec::new();
        let (text, why, elsewhere) = match value.get_ref() {
            DeValue::Table(table) => {
                self.check_keys("needs.*.*", table);
                let why = table.get("why").and_then(|why| self.string("why", why)).map(str::to_owned);
                let problems = self.problems.len();
                let elsewhere = self.elsewhere(table);
                only_on = self.only_on(table);
                let Some(accept) = table.get("accept") else {
                    // Where it is says what it is, too.
                    if elsewhere.is_none() && self.problems.len() == problems {
                        let example = "{ accept = \"^2.1\" }";
                        let missing = ManifestProblemKind::Missing { table: "needs.*.*", key: "accept", example };
                        self.problem(value.span(), missing);
                    }
                    let accept = self.counting(ConstraintText::anything(), &only_on);
                    return Some(Need { elsewhere: Some(elsewhere?), ..Need::of(accept, span) });
                };
                (accept, why, elsewhere)
            }
            DeValue::String(_) => (value, None, None),
            _ => {
                self.wrong_type(key, value, "a constraint in quotes, like \"^2.1\"");
                return None;
            }
        };
        let there = agreed.and_then(|(package, agreed)| agreed.get(package));
        if text.get_ref().as_str() == Some(AGREED) {
            if let (None, Some((package, _))) = (there, agreed) {
                self.problem(text.span(), ManifestProblemKind::NotAgreed(package.clone()));
            }
            let accept = there.map(|agreed| self.counting(agreed.accept.clone(), &only_on))?;
            return Some(Need { elsewhere, ..Need::of(accept, span) });
        }
        let accept = self.accept(if std::ptr::eq(text, value) { key } else { "accept" }, text)?;
        if let (Some(there), Some((package, _)), None) = (there, agreed, &why)
            && there.accept != accept
        {
            let (package, agreed) = (package.clone(), there.accept.clone());
            self.problem(text.span(), ManifestProblemKind::Deviates { package, agreed });
        }
        let why = why.filter(|_| there.is_some_and(|agreed| agreed.accept != accept));
        let accept = self.counting(accept, &only_on);
        Some(Need { why, elsewhere, ..Need::of(accept, span) })
    }

    /// Reads the platforms on which a need counts.
    fn only_on(&mut self, table: &Table<'_>) -> Vec<String> {
        let Some(list) = table.get("only-on") else { return Vec::new() };
        let mut patterns = Vec::new();
        for (text, span) in self.strings("only-on", list) {
            match ConstraintText::anything().only_on([text.as_str()]) {
                Ok(_) => patterns.push(text),
                Err(_) => {
                    let reason = "it is a system and an architecture, like \"linux/*\", \"*/arm64\" or \"!windows/*\"";
                    self.problem(span, ManifestProblemKind::Value { key: "only-on", value: text, reason });
                }
            }
        }
        patterns
    }

    /// Returns the constraint, where the need counts.
    fn counting(&mut self, accept: ConstraintText, only_on: &[String]) -> ConstraintText {
        accept.only_on(only_on.iter().map(String::as_str)).unwrap_or(accept)
    }

    fn check(
        &mut self,
        key: &'static str,
        value: &str,
        span: Range<usize>,
        rule: fn(&str) -> Result<(), &'static str>,
    ) {
        if let Err(reason) = rule(value) {
            self.problem(span, ManifestProblemKind::Value { key, value: value.to_owned(), reason });
        }
    }

    fn check_keys(&mut self, table: &'static str, content: &Table<'_>) {
        let known = keys_of(table);
        for key in content.keys() {
            if !known.contains(&key.get_ref().as_ref()) {
                // A second time, a key would be refused; only tables may go on somewhere else.
                let is_table = |value: &Value<'_>| matches!(value.get_ref(), DeValue::Table(_));
                let fits = |known: &&str| content.get(*known).is_none_or(is_table);
                let near = nearest(key.get_ref(), known.iter().copied().filter(fits));
                let near = near.and_then(|near| known.iter().copied().find(|k| *k == near));
                let key_text = key.get_ref().to_string();
                self.problem(
                    key.span(),
                    ManifestProblemKind::UnknownKey { table, key: key_text, near, known: known.clone() },
                );
            }
        }
    }

    fn entries<'a, 'i>(
        &mut self,
        key: &'static str,
        root: &'a Table<'i>,
    ) -> Vec<(&'a Spanned<std::borrow::Cow<'i, str>>, &'a Value<'i>)> {
        match root.get(key) {
            None => Vec::new(),
            Some(value) => self.table(key, value).map(|table| table.iter().collect()).unwrap_or_default(),
        }
    }

    fn table<'a, 'i>(&mut self, key: &str, value: &'a Value<'i>) -> Option<&'a Table<'i>> {
        let table = value.get_ref().as_table();
        if table.is_none() {
            self.wrong_type(key, value, "a table");
        }
        table
    }

    fn string<'a>(&mut self, key: &str, value: &'a Value<'_>) -> Option<&'a str> {
        let text = value.get_ref().as_str().filter(|_| matches!(value.get_ref(), DeValue::String(_)));
        if text.is_none() {
            self.wrong_type(key, value, "a text in quotes");
        }
        text
    }

    fn strings(&mut self, key: &str, value: &Value<'_>) -> Vec<(String, Range<usize>)> {
        let Some(list) = value.get_ref().as_array() else {
            self.wrong_type(key, value, "a list of texts, like [\"one\", \"two\"]");
            return Vec::new();
        };
        let mut texts = Vec::new();
        for item in list.iter() {
            if let Some(text) = self.string(key, item) {
                texts.push((text.to_owned(), item.span()));
            }
        }
        texts
    }

    fn accept(&mut self, key: &str, value: &Value<'_>) -> Option<ConstraintText> {
        let text = self.string(key, value)?;
        if ConstraintText::parse(text).is_ok_and(|accept| !accept.is_everywhere()) {
            let reason = "platforms have a key of their own: { accept = \"…\", only-on = [\"linux/*\"] }";
            let kind = ManifestProblemKind::Value { key: "accept", value: text.to_owned(), reason };
            self.problem(value.span(), kind);
            return None;
        }
        ConstraintText::parse(text)
            .map_err(|error| {
                // Inside a plain string the place in the text is known exactly; with escapes the whole value is marked.
                let span = value.span();
                let plain = self.text.get(span.start + 1..span.end.saturating_sub(1)) == Some(text);
                let exact = span.start + 1 + error.span.start..span.start + 1 + error.span.end;
                self.problem(if plain && !error.span.is_empty() { exact } else { span }, error.into());
            })
            .ok()
    }

    fn wrong_type(&mut self, key: &str, value: &Value<'_>, expected: &'static str) {
        let found = match value.get_ref() {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) => "a whole number",
            DeValue::Float(_) => "a number with a point",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        self.problem(value.span(), ManifestProblemKind::WrongType { key: key.to_owned(), expected, found });
    }
}
