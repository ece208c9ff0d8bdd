//! From text to a manifest, or to all that is wrong with it. Each table is read key by key against the list of keys it
//! may have, so that a key nobody knows is never passed over.

mod elsewhere;
mod overriding;

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys::keys_of;
use super::{Manifest, NamePattern, Need, Policy, Project, SourceDeclaration, Take};
use crate::name::{NameError, PackageName, Word, nearest};
use crate::numbering::with_words;
use crate::release::{ANY_PLATFORM, Offers, check_offered_path, check_platform, check_variable};
use yostel_versions::{Accept, AcceptError, Numbering, NumberingError, Order, VersionError};

/// In place of a constraint: the one that is agreed.
pub(super) const AGREED: &str = "agreed";

/// One thing wrong with a manifest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{kind}")]
pub struct ManifestProblem {
    /// Byte range in the text.
    pub span: Range<usize>,
    /// What it is.
    pub kind: ManifestProblemKind,
}

/// What can be wrong with a manifest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ManifestProblemKind {
    /// Not TOML.
    #[error("this is not TOML: {0}")]
    Syntax(String),
    /// A key that means nothing here.
    #[error("{} has no key `{}`", table_words(table), key.escape_debug())]
    UnknownKey {
        /// The table, as docs/formats.md §2 has it, with `*` for a name.
        table: &'static str,
        /// The key as written.
        key: String,
        /// The known key that was probably meant.
        near: Option<&'static str>,
        /// All keys known there.
        known: Vec<&'static str>,
    },
    /// A value of another type.
    #[error("`{key}` should be {expected}, but it is {found}")]
    WrongType {
        /// The key.
        key: String,
        /// The type wanted, with its article.
        expected: &'static str,
        /// The type found, with its article.
        found: &'static str,
    },
    /// A key that must be there.
    #[error("{} lacks `{key}`", table_words(table))]
    Missing {
        /// The table, as docs/formats.md §2 has it, with `*` for a name.
        table: &'static str,
        /// The key.
        key: &'static str,
        /// A line that would do.
        example: &'static str,
    },
    /// A name that cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// A constraint that is none.
    #[error(transparent)]
    Accept(#[from] AcceptError),
    /// A version that is none.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// A numbering that cannot be.
    #[error(transparent)]
    Numbering(#[from] NumberingError),
    /// A value outside what its key allows.
    #[error("`{key}` cannot be `{}`: {reason}", value.escape_debug())]
    Value {
        /// The key.
        key: &'static str,
        /// The value as written.
        value: String,
        /// Why not.
        reason: &'static str,
    },
    /// A need that refers to what is agreed, and nothing is.
    #[error("[agreed] has no entry for {0}")]
    NotAgreed(PackageName),
    /// A need with a constraint of its own where one is agreed.
    #[error("[agreed] has {package} at {agreed}; this need differs and gives no `why`")]
    Deviates {
        /// The package.
        package: PackageName,
        /// What is agreed.
        agreed: Accept,
    },
    /// A swap that leads back to where it began.
    #[error("the swap of {0} leads back to itself")]
    SwapCircle(PackageName),
    /// A package that is forced and swapped away.
    #[error("{0} is forced, but [swap] has another package stand in for it")]
    ForcedAndSwapped(PackageName),
    /// Two keys of which there can be one.
    #[error("`{one}` and `{other}` contradict each other")]
    TwoPlaces {
        /// The one.
        one: &'static str,
        /// The other.
        other: &'static str,
    },
    /// A key that says more about another, which is not there.
    #[error("`{key}` means something only beside `{owner}`")]
    Alone {
        /// The key.
        key: &'static str,
        /// The key that it belongs to.
        owner: &'static str,
    },
    /// Two needs that take one package from two places.
    #[error("{0} is taken from two places")]
    PackageInTwoPlaces(PackageName),
    /// An entry that stands there twice.
    #[error("`{0}` is listed twice")]
    ListedTwice(String),
    /// A workspace below another.
    #[error("this project is one of a workspace, so it cannot be a workspace itself")]
    NestedWorkspace,
    /// Something said in one project of a workspace that binds all of them.
    #[error("`{0}` holds for all projects, so it belongs in the manifest at the root of the workspace")]
    OnlyInRoot(&'static str),
    /// A project that needs itself.
    #[error("{0} needs itself")]
    NeedsItself(PackageName),
}

fn table_words(table: &str) -> String {
    match table {
        "" => "the manifest".into(),
        "numbering" => "a numbering".into(),
        "sources.*" => "a source".into(),
        "needs.*.*" => "a need".into(),
        "alter.*" => "a local change".into(),
        "force.*" => "a forced version".into(),
        "swap.*" => "a swap".into(),
        name => format!("[{name}]"),
    }
}

/// A project's platforms are named one by one: to serve any, none need be.
fn check_one_platform(platform: &str) -> Result<(), &'static str> {
    if platform == ANY_PLATFORM { Err("a project names its platforms one by one") } else { check_platform(platform) }
}

/// Reads `7 days` or `2 weeks`.
fn days(text: &str) -> Option<u32> {
    let (number, unit) = text.split_once(' ')?;
    let number: u32 = number.parse().ok()?;
    match unit {
        "day" | "days" => Some(number),
        "week" | "weeks" => number.checked_mul(7),
        _ => None,
    }
}

/// Platforms that a project can list: a resolution keeps them as the bits of one number.
const MOST_PLATFORMS: usize = 64;

struct Reader<'t> {
    text: &'t str,
    problems: Vec<ManifestProblem>,
}

type Table<'i> = DeTable<'i>;
type Value<'i> = Spanned<DeValue<'i>>;

/// Reads a manifest; `agreed` is what the workspace agreed on, when it is that of one of its other projects.
pub(super) fn parse(
    text: &str,
    agreed: Option<&BTreeMap<PackageName, Need>>,
) -> Result<Manifest, Vec<ManifestProblem>> {
    let mut reader = Reader { text, problems: Vec::new() };
    let (root, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        reader.problem(span, ManifestProblemKind::Syntax(error.message().to_owned()));
    }
    let manifest = reader.manifest(root.get_ref(), agreed);
    if reader.problems.is_empty() {
        // Without a problem every required part was found.
        manifest.ok_or_else(Vec::new)
    } else {
        reader.problems.sort_by_key(|problem| (problem.span.start, problem.span.end));
        Err(reader.problems)
    }
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
        let (force, swap) = (self.forces(root), self.swaps(root));
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
        let project = project?;
        let manifest = Manifest { project, workspace, needs, sources, offers, policy, alter, agreed, force, swap };
        self.check_places(&manifest);
        Some(manifest)
    }

    fn project(&mut self, table: &Table<'_>, span: Range<usize>) -> Option<Project> {
        self.check_keys("project", table);
        // A version is judged by a numbering that is known, or not at all.
        let numbering = match table.get("numbering") {
            Some(value) => self.numbering(value),
            None => Some(Numbering::default()),
        };
        let name = match table.get("name") {
            Some(value) => {
                self.string("name", value).and_then(|text| self.keep(value.span(), PackageName::parse(text)))
            }
            None => {
                let example = "name = \"ropeway/console\"";
                self.problem(span, ManifestProblemKind::Missing { table: "project", key: "name", example });
                None
            }
        };
        let version = table.get("version").and_then(|value| {
            let text = self.string("version", value)?;
            self.keep(value.span(), numbering.as_ref()?.parse_version(text))
        });
        let mut platforms = BTreeSet::new();
        if let Some(list) = table.get("platforms") {
            for (text, span) in self.strings("platforms", list) {
                self.check("platforms", &text, span.clone(), check_one_platform);
                platforms.insert(text.clone());
                if platforms.len() > MOST_PLATFORMS {
                    let reason = "no more than 64 platforms can be served at once";
                    self.problem(span, ManifestProblemKind::Value { key: "platforms", value: text, reason });
                    break;
                }
            }
        }
        let yostel = table.get("yostel").and_then(|value| self.accept("yostel", value));
        let mut text = |key| table.get(key).and_then(|value| self.string(key, value)).map(str::to_owned);
        let (licence, about, notes) = (text("licence"), text("about"), text("notes"));
        let numbering = numbering.unwrap_or_default();
        Some(Project { name: name?, version, numbering, platforms, yostel, licence, about, notes })
    }

    fn numbering(&mut self, value: &Value<'_>) -> Option<Numbering> {
        let table = self.table("numbering", value)?;
        self.check_keys("numbering", table);
        let order = match table.get("order") {
            None => Order::default(),
            Some(order) => {
                let text = self.string("order", order)?;
                match Order::parse(text) {
                    Some(known) => known,
                    None => {
                        let reason = "the orders are `semver` and `words`";
                        let value = text.to_owned();
                        self.problem(order.span(), ManifestProblemKind::Value { key: "order", value, reason });
                        return None;
                    }
                }
            }
        };
        let breaks_at = match table.get("breaks-at") {
            None => None,
            Some(position) => match position.get_ref() {
                DeValue::Integer(number) => match number.as_str().parse::<u8>() {
                    Ok(number) => Some(number),
                    Err(_) => {
                        let value = number.as_str().to_owned();
                        let reason = "it is a position, counted from 1; 0 = nothing ever breaks";
                        self.problem(position.span(), ManifestProblemKind::Value { key: "breaks-at", value, reason });
                        return None;
                    }
                },
                _ => {
                    self.wrong_type("breaks-at", position, "a whole number");
                    return None;
                }
            },
        };
        let mut listed = |key| Some(self.strings(key, table.get(key)?).into_iter().map(|(word, _)| word).collect());
        let (before, after) = (listed("before"), listed("after"));
        let order = self.keep(value.span(), with_words(order, before, after))?;
        self.keep(value.span(), Numbering::new(order, breaks_at))
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
                    // Where it lies says what it is, too.
                    if elsewhere.is_none() && self.problems.len() == problems {
                        let example = "{ accept = \"^2.1\" }";
                        let missing = ManifestProblemKind::Missing { table: "needs.*.*", key: "accept", example };
                        self.problem(value.span(), missing);
                    }
                    let accept = self.counting(Accept::anything(), &only_on);
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
            match Accept::anything().only_on([text.as_str()]) {
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
    fn counting(&mut self, accept: Accept, only_on: &[String]) -> Accept {
        accept.only_on(only_on.iter().map(String::as_str)).unwrap_or(accept)
    }

    fn source(&mut self, table: &Table<'_>, span: Range<usize>) -> Option<SourceDeclaration> {
        self.check_keys("sources.*", table);
        let mut reserves = Vec::new();
        if let Some(list) = table.get("reserves") {
            for (text, span) in self.strings("reserves", list) {
                reserves.extend(self.keep(span, NamePattern::parse(&text)));
            }
        }
        match table.get("folder") {
            Some(folder) => {
                let folder = self.string("folder", folder)?.to_owned();
                Some(SourceDeclaration { folder, reserves, span })
            }
            None => {
                let example = "folder = \"../station\"";
                self.problem(span, ManifestProblemKind::Missing { table: "sources.*", key: "folder", example });
                None
            }
        }
    }

    fn offers(&mut self, table: &Table<'_>) -> Offers {
        self.check_keys("offers", table);
        let mut offers = Offers::default();
        if let Some(list) = table.get("roles") {
            for (text, span) in self.strings("roles", list) {
                let role = self.keep(span.clone(), Word::parse(&text));
                if role.as_ref().is_some_and(|role| offers.roles.contains(role)) {
                    self.problem(span, ManifestProblemKind::ListedTwice(text));
                    continue;
                }
                offers.roles.extend(role);
            }
        }
        if let Some(list) = table.get("programs") {
            for (text, span) in self.strings("programs", list) {
                self.check("programs", &text, span, check_offered_path);
                offers.programs.push(text);
            }
        }
        if let Some(variables) = table.get("variables").and_then(|value| self.table("variables", value)) {
            for (key, value) in variables {
                self.check("variables", key.get_ref(), key.span(), check_variable);
                if let Some(path) = self.string(key.get_ref(), value) {
                    self.check("variables", path, value.span(), check_offered_path);
                    offers.variables.insert(key.get_ref().to_string(), path.to_owned());
                }
            }
        }
        offers
    }

    fn policy(&mut self, table: &Table<'_>) -> Policy {
        self.check_keys("policy", table);
        let mut policy = Policy::default();
        if let Some(value) = table.get("minimum-age")
            && let Some(text) = self.string("minimum-age", value)
        {
            policy.minimum_age_days = days(text);
            if policy.minimum_age_days.is_none() {
                let reason = "it is a number of days or weeks, like \"7 days\"";
                let value_text = text.to_owned();
                let kind = ManifestProblemKind::Value { key: "minimum-age", value: value_text, reason };
                self.problem(value.span(), kind);
            }
        }
        if let Some(list) = table.get("share-roles") {
            for (text, span) in self.strings("share-roles", list) {
                policy.share_roles.extend(self.keep(span, Word::parse(&text)));
            }
        }
        if let Some(list) = table.get("coexist") {
            for (text, span) in self.strings("coexist", list) {
                policy.coexist.extend(self.keep(span, PackageName::parse(&text)));
            }
        }
        if let Some(list) = table.get("trusted-variables") {
            for (text, span) in self.strings("trusted-variables", list) {
                policy.trusted_variables.extend(self.keep(span, PackageName::parse(&text)));
            }
        }
        if let Some(list) = table.get("git-schemes") {
            for (text, span) in self.strings("git-schemes", list) {
                if ["git", "http"].contains(&text.as_str()) {
                    policy.git_schemes.insert(text);
                } else {
                    let reason = "it is `git` or `http`; `https`, `ssh` and `file` need no permission";
                    self.problem(span, ManifestProblemKind::Value { key: "git-schemes", value: text, reason });
                }
            }
        }
        if let Some(value) = table.get("take")
            && let Some(text) = self.string("take", value)
        {
            policy.take = match text {
                "newest" => Some(Take::Newest),
                "oldest" => Some(Take::Oldest),
                _ => {
                    let reason = "it is `newest` or `oldest`";
                    let kind = ManifestProblemKind::Value { key: "take", value: text.to_owned(), reason };
                    self.problem(value.span(), kind);
                    None
                }
            };
        }
        policy
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
                let near = nearest(key.get_ref(), known.iter().copied());
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

    fn accept(&mut self, key: &str, value: &Value<'_>) -> Option<Accept> {
        let text = self.string(key, value)?;
        if Accept::parse(text).is_ok_and(|accept| !accept.is_everywhere()) {
            let reason = "platforms stand in a key of their own: { accept = \"…\", only-on = [\"linux/*\"] }";
            let kind = ManifestProblemKind::Value { key: "accept", value: text.to_owned(), reason };
            self.problem(value.span(), kind);
            return None;
        }
        Accept::parse(text)
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
