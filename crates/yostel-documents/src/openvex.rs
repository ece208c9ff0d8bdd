//! Statements on whether an advisory affects something, as OpenVEX documents (specification 0.2.0,
//! <https://github.com/openvex/spec>): read whoever wrote them, and written for what was looked at here.

use std::collections::BTreeSet;

use jiff::Timestamp;
use jiff::civil::Date;
use serde_json::{Map, Value, json};

use crate::digest::{Sha256, to_hex};
use crate::purl::PackageUrl;

/// Longest document that is read, in bytes.
pub const MOST_OPENVEX: u64 = 16 << 20;

const CONTEXT: &str = "https://openvex.dev/ns/v0.2.0";

/// What precedes the last day of a statement in its `status_notes`.
const UNTIL: &str = "Until ";

/// A document of statements.
#[derive(Debug, Clone, PartialEq)]
pub struct OpenVex {
    document: Map<String, Value>,
    /// Its statements, in the order of the document.
    pub statements: Vec<VexStatement>,
}

/// What somebody says of an advisory and some packages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VexStatement {
    /// The advisory, by all names that it has here.
    pub names: BTreeSet<String>,
    /// What it is about.
    pub products: Vec<VexProduct>,
    /// What is said.
    pub status: VexStatus,
    /// One of the reasons that the specification has.
    pub justification: Option<String>,
    /// Why, in words.
    pub why: Option<String>,
    /// When it was said last.
    pub at: Timestamp,
    /// The last day on which it counts.
    pub until: Option<Date>,
}

/// What a statement is about: a package, or packages within another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VexProduct {
    /// The package, by all package URLs that it has here.
    pub urls: Vec<PackageUrl>,
    /// The packages in it that are meant; all when there are none.
    pub within: Vec<Vec<PackageUrl>>,
}

/// What is said of an advisory and a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VexStatus {
    /// It does not affect it.
    NotAffected,
    /// It does.
    Affected,
    /// It does no more.
    Fixed,
    /// Nobody knows yet.
    UnderInvestigation,
}

/// The reasons of the specification why something is not affected.
pub const VEX_JUSTIFICATIONS: [&str; 5] = [
    "component_not_present",
    "vulnerable_code_not_present",
    "vulnerable_code_not_in_execute_path",
    "vulnerable_code_cannot_be_controlled_by_adversary",
    "inline_mitigations_already_exist",
];

/// A statement that something does not affect us, to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Dismissal {
    /// The advisory.
    pub name: String,
    /// The same by other names.
    pub aliases: Vec<String>,
    /// The project that says it, as a package URL.
    pub project: String,
    /// The package that it came with, as a package URL with a version.
    pub package: String,
    /// Why.
    pub why: String,
    /// One of [`VEX_JUSTIFICATIONS`].
    pub justification: Option<&'static str>,
    /// The last day on which it counts.
    pub until: Option<Date>,
}

impl OpenVex {
    /// Begins a document.
    pub fn new(author: &str, now: Timestamp) -> Self {
        let hex = to_hex(&Sha256::of(format!("{author}\n{now}").as_bytes()));
        // A UUID of version 8 (RFC 9562 §5.8), whose digits are ours to choose.
        let uuid = format!("{}-{}-8{}-8{}-{}", &hex[..8], &hex[8..12], &hex[12..15], &hex[15..18], &hex[18..30]);
        let document = json!({
            "@context": CONTEXT, "@id": format!("urn:uuid:{uuid}"), "author": author, "role": "project",
            "timestamp": now.to_string(), "version": 0, "statements": [],
        });
        let Value::Object(document) = document else { unreachable!("that is an object") };
        Self { document, statements: Vec::new() }
    }

    /// Reads a document.
    ///
    /// # Errors
    /// Why it is none, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let document: Map<String, Value> = serde_json::from_str(text).map_err(|error| error.to_string())?;
        let context = document.get("@context").and_then(Value::as_str).unwrap_or_default();
        if !context.starts_with("https://openvex.dev/ns") {
            return Err("its `@context` is not that of OpenVEX".to_owned());
        }
        let time = |object: &Map<String, Value>, key: &str| -> Result<Option<Timestamp>, String> {
            let Some(value) = object.get(key) else { return Ok(None) };
            let read = value.as_str().and_then(|text| text.parse().ok());
            read.map(Some).ok_or_else(|| format!("its `{key}` is no time"))
        };
        // Not when it was updated: what others said in it is not said anew whenever somebody adds to it.
        let own = time(&document, "timestamp")?.ok_or("it has no `timestamp`")?;
        let all = document.get("statements").and_then(Value::as_array).ok_or("it has no `statements`")?;
        let statement = |(at, value): (usize, &Value)| {
            let wrong = |why: String| format!("statement {}: {why}", at + 1);
            let object = value.as_object().ok_or_else(|| wrong("it is no object".to_owned()))?;
            let said = time(object, "last_updated").and_then(|said| Ok(said.or(time(object, "timestamp")?)));
            let said = said.map_err(wrong)?.unwrap_or(own);
            statement_of(object, said).map_err(wrong)
        };
        let statements = all.iter().enumerate().map(statement).collect::<Result<_, String>>()?;
        Ok(Self { document, statements })
    }

    /// Says that an advisory does not affect a release. What was said of the two before is left out.
    pub fn dismiss(&mut self, dismissal: &Dismissal, now: Timestamp) {
        let Dismissal { name, aliases, project, package, why, justification, until } = dismissal;
        self.take_back(name, Some(package), now);
        let mut statement = json!({
            "vulnerability": { "name": name, "aliases": aliases },
            "timestamp": now.to_string(),
            "products": [{ "@id": project, "subcomponents": [{ "@id": package }] }],
            "status": "not_affected",
            "impact_statement": why,
        });
        if aliases.is_empty()
            && let Some(vulnerability) = statement["vulnerability"].as_object_mut()
        {
            vulnerability.remove("aliases");
        }
        if let Some(justification) = justification {
            statement["justification"] = (*justification).into();
        }
        if let Some(until) = until {
            statement["status_notes"] = format!("{UNTIL}{until}").into();
        }
        if let Some(read) = statement.as_object().and_then(|object| statement_of(object, now).ok()) {
            self.statements.push(read);
            self.raw().push(statement);
            self.touch(now);
        }
    }

    /// Leaves out what is said of an advisory, by any of its names, and of one release, of all those of a package (a package
    /// URL without a version), or of anything. Returns how many statements went.
    pub fn take_back(&mut self, name: &str, package: Option<&str>, now: Timestamp) -> usize {
        let of = package.and_then(|package| PackageUrl::parse(package).ok());
        let is_it = |url: &PackageUrl, of: &PackageUrl| {
            url.package() == of.package() && (of.version().is_none() || of.version() == url.version())
        };
        let is_of = |statement: &VexStatement| {
            let mut within = statement.products.iter().flat_map(|product| product.within.iter().flatten());
            statement.names.contains(name) && of.as_ref().is_none_or(|of| within.any(|url| is_it(url, of)))
        };
        let keeps: Vec<bool> = self.statements.iter().map(|statement| !is_of(statement)).collect();
        let gone = keeps.iter().filter(|keeps| !**keeps).count();
        if gone > 0 {
            let mut kept = keeps.iter();
            self.statements.retain(|_| kept.next().copied().unwrap_or(true));
            let mut kept = keeps.iter();
            self.raw().retain(|_| kept.next().copied().unwrap_or(true));
            self.touch(now);
        }
        gone
    }

    fn raw(&mut self) -> &mut Vec<Value> {
        let statements = self.document.entry("statements").or_insert_with(|| Value::Array(Vec::new()));
        if !statements.is_array() {
            *statements = Value::Array(Vec::new());
        }
        statements.as_array_mut().expect("it was made one")
    }

    /// Counts the document up, as the specification asks for whenever it changes.
    fn touch(&mut self, now: Timestamp) {
        let version = self.document.get("version").and_then(Value::as_u64).unwrap_or(0);
        self.document.insert("version".to_owned(), version.saturating_add(1).into());
        self.document.insert("last_updated".to_owned(), now.to_string().into());
    }

    /// Writes the document.
    pub fn to_text(&self) -> String {
        serde_json::to_string_pretty(&self.document).expect("maps with text keys always serialise") + "\n"
    }
}

fn statement_of(object: &Map<String, Value>, at: Timestamp) -> Result<VexStatement, String> {
    let text = |value: Option<&Value>| value.and_then(Value::as_str).map(str::to_owned);
    let mut names = BTreeSet::new();
    match object.get("vulnerability") {
        Some(Value::String(name)) => drop(names.insert(name.clone())),
        Some(Value::Object(of)) => {
            // An `@id` may be the address of a page about it, whose last part is its name.
            let page = text(of.get("@id"));
            names.extend(page.as_deref().and_then(|page| page.rsplit('/').next()).map(str::to_owned));
            names.extend(text(of.get("name")));
            names.extend(
                of.get("aliases").and_then(Value::as_array).into_iter().flatten().filter_map(|one| text(Some(one))),
            );
        }
        _ => {}
    }
    names.retain(|name| !name.is_empty());
    if names.is_empty() {
        return Err("it names no `vulnerability`".to_owned());
    }
    let status = match object.get("status").and_then(Value::as_str) {
        Some("not_affected") => VexStatus::NotAffected,
        Some("affected") => VexStatus::Affected,
        Some("fixed") => VexStatus::Fixed,
        Some("under_investigation") => VexStatus::UnderInvestigation,
        _ => return Err("its `status` is none of the specification's".to_owned()),
    };
    let justification = text(object.get("justification"));
    let why = text(object.get("impact_statement"));
    if status == VexStatus::NotAffected && justification.is_none() && why.is_none() {
        return Err("it says `not_affected`, and neither `justification` nor `impact_statement` says why".to_owned());
    }
    if justification.as_ref().is_some_and(|one| !VEX_JUSTIFICATIONS.contains(&one.as_str())) {
        return Err("its `justification` is none of the specification's".to_owned());
    }
    let list = |value: Option<&Value>| value.and_then(Value::as_array).cloned().unwrap_or_default();
    let product = |value: &Value| VexProduct {
        urls: urls_of(value),
        within: list(value.get("subcomponents")).iter().map(urls_of).collect(),
    };
    let products = list(object.get("products")).iter().map(product).collect();
    let until = match text(object.get("status_notes")) {
        Some(notes) => match notes.lines().find_map(|line| line.strip_prefix(UNTIL)) {
            Some(day) => Some(day.trim().parse().map_err(|_| format!("`{UNTIL}` is followed by no day"))?),
            None => None,
        },
        None => None,
    };
    Ok(VexStatement { names, products, status, justification, why, at, until })
}

/// Lists the package URLs of a product; what is named otherwise has none.
fn urls_of(value: &Value) -> Vec<PackageUrl> {
    let texts = [value.get("@id"), value.pointer("/identifiers/purl"), Some(value)];
    let urls = texts.into_iter().flatten().filter_map(Value::as_str).filter_map(|text| PackageUrl::parse(text).ok());
    urls.collect()
}

impl VexStatement {
    /// Tells whether it is about a package that a project has: the package itself, the package within the project, or all of
    /// the project. `project` and `package` are what the two may be called.
    pub fn is_about(&self, project: &[PackageUrl], package: &[PackageUrl]) -> bool {
        let is = |named: &[PackageUrl], own: &[PackageUrl]| {
            let same = |one: &PackageUrl, own: &PackageUrl| {
                one.package() == own.package() && (one.version().is_none() || one.version() == own.version())
            };
            named.iter().any(|one| own.iter().any(|own| same(one, own)))
        };
        self.products.iter().any(|product| match product.within.is_empty() {
            true => is(&product.urls, package) || is(&product.urls, project),
            false => is(&product.urls, project) && product.within.iter().any(|within| is(within, package)),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn url(text: &str) -> PackageUrl {
        PackageUrl::parse(text).unwrap()
    }

    #[test]
    fn what_is_dismissed_is_read_back_counts_for_that_release_and_can_be_taken_back() {
        let now: Timestamp = "2026-11-30T08:00:00Z".parse().unwrap();
        let mut vex = OpenVex::new("ropeway/keeper", now);
        let dismissal = Dismissal {
            name: "ROPE-1".into(),
            aliases: vec!["CVE-2026-1".into()],
            project: "pkg:generic/ropeway/keeper".into(),
            package: "pkg:generic/gust@2.0.0".into(),
            why: "gusts are not rounded here".into(),
            justification: Some(VEX_JUSTIFICATIONS[2]),
            until: Some(Date::constant(2027, 3, 31)),
        };
        vex.dismiss(&dismissal, now);
        vex.dismiss(&Dismissal { why: "looked at again".into(), ..dismissal.clone() }, now);
        let mut read = OpenVex::parse(&vex.to_text()).unwrap();
        assert_eq!(read.statements, vex.statements);
        let [said] = &read.statements[..] else { panic!("{:?}", read.statements) };
        assert_eq!((said.why.as_deref(), said.until), (Some("looked at again"), Some(Date::constant(2027, 3, 31))));
        let project = [url("pkg:generic/ropeway/keeper")];
        assert!(said.is_about(&project, &[url("pkg:generic/gust@2.0.0")]));
        assert!(!said.is_about(&project, &[url("pkg:generic/gust@2.0.1")]), "another release has to be looked at");
        assert!(!said.is_about(&[url("pkg:generic/other")], &[url("pkg:generic/gust@2.0.0")]));
        // Of two releases side by side, each has a statement of its own; a package without a version means both.
        read.dismiss(&Dismissal { package: "pkg:generic/gust@1.0.0".into(), ..dismissal }, now);
        assert_eq!(read.statements.len(), 2);
        assert_eq!(read.clone().take_back("ROPE-1", Some("pkg:generic/gust@1.0.0"), now), 1);
        assert_eq!(read.clone().take_back("ROPE-1", Some("pkg:generic/gust"), now), 2);
        assert_eq!(read.take_back("CVE-2026-1", None, now), 2);
        assert_eq!((read.statements.len(), read.take_back("CVE-2026-1", None, now)), (0, 0));
    }

    #[test]
    fn statements_of_others_are_read_and_what_is_none_is_refused_with_its_place() {
        let document = |statement: &str| {
            format!(
                r#"{{"@context":"https://openvex.dev/ns/v0.2.0","@id":"x","author":"a","timestamp":"2026-01-01T00:00:00Z","version":1,"statements":[{statement}]}}"#
            )
        };
        let whole = document(
            r#"{"vulnerability":{"@id":"https://example.org/CVE-1","name":"CVE-1"},"products":[{"@id":"https://example.org/x","identifiers":{"purl":"pkg:deb/debian/zlib"}}],"status":"fixed"}"#,
        );
        let vex = OpenVex::parse(&whole).unwrap();
        assert!(vex.statements[0].is_about(&[], &[url("pkg:deb/debian/zlib@1.2")]));
        assert_eq!(vex.statements[0].status, VexStatus::Fixed);
        for (statement, why) in [
            ("1", "statement 1: it is no object"),
            (r#"{"status":"fixed"}"#, "names no `vulnerability`"),
            (r#"{"vulnerability":{"name":"A"},"status":"fine"}"#, "`status`"),
            (r#"{"vulnerability":{"name":"A"},"status":"not_affected"}"#, "says why"),
            (r#"{"vulnerability":{"name":"A"},"status":"not_affected","justification":"so"}"#, "`justification`"),
            (r#"{"vulnerability":{"name":"A"},"status":"fixed","timestamp":"soon"}"#, "no time"),
            (r#"{"vulnerability":{"name":"A"},"status":"fixed","status_notes":"Until soon"}"#, "no day"),
        ] {
            let told = OpenVex::parse(&document(statement)).unwrap_err();
            assert!(told.contains(why), "{statement}: {told}");
        }
        for (text, why) in [("{", "line 1"), ("{}", "@context"), (&document("")[..60], "line 1")] {
            assert!(OpenVex::parse(text).is_err_and(|told| told.contains(why)), "{text}");
        }
    }
}
