//! The keys a manifest may have: one table, from which unknown keys are refused and the schema for editors is written.

use serde_json::{Map, Value, json};

/// What the value of a key looks like.
#[derive(Debug, Clone, Copy)]
enum Shape {
    Text,
    /// A text that matches this regular expression.
    Matching(&'static str),
    /// One of these texts.
    OneOf(&'static [&'static str]),
    Number,
    Boolean,
    /// A list of texts that match this regular expression.
    List(&'static str),
    /// A table with the keys of this name.
    Table(&'static str),
    /// Names of the author's, each with a value: what the names match, and the value.
    Named(&'static str, &'static Shape),
    /// A text, or else a table with the keys of this name.
    TextOrTable(&'static str),
    /// A text, or else a list of texts.
    TextOrList,
    /// A text, a list of texts, or a table with the keys of this name.
    TextsOrTable(&'static str),
}

/// A key of a table; `*` in the table's name stands for a name that its author chooses.
struct Key {
    table: &'static str,
    key: &'static str,
    shape: Shape,
    must: bool,
    says: &'static str,
}

const WORD: &str = "^[a-z0-9]([a-z0-9._-]*[a-z0-9])?$";
const NAME: &str = "^[a-z0-9]([a-z0-9._-]*[a-z0-9])?(/[a-z0-9]([a-z0-9._-]*[a-z0-9])?)*$";
const PATTERN: &str = "^[a-z0-9]([a-z0-9._-]*[a-z0-9])?(/[a-z0-9]([a-z0-9._-]*[a-z0-9])?)*(/\\*)?$";
const PLATFORM: &str = "^[a-z0-9_]+/[a-z0-9_]+$";
const PLATFORMS: &str = "^!?([a-z0-9_]+|\\*)/([a-z0-9_]+|\\*)$";
const INSIDE: &str = "^[^/\\\\][^\\\\]*$";
const DAY: &str = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$";
const AGE: &str = "^[0-9]+ (day|days|week|weeks)$";
const LONG_AGE: &str = "^[0-9]+ (day|days|week|weeks|month|months|year|years)$";
const ONE_WORD: &str = "^[a-z]{1,16}$";
const VARIABLE: &str = "^[A-Z_][A-Z0-9_]*$";
const ONE_VERSION: &str = "^[A-Za-z0-9][^,|* ]*$";

const fn key(table: &'static str, key: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { table, key, shape, must: false, says }
}

const fn must(table: &'static str, key: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { table, key, shape, must: true, says }
}

const NOT_PATTERN: &str = "^!?[a-z0-9]([a-z0-9._-]*[a-z0-9])?(/[a-z0-9]([a-z0-9._-]*[a-z0-9])?)*(/\\*)?$";
/// What a pattern of files may look like.
const FILES: &str = "^[^\\x00-\\x1f]{1,200}$";
const HOURS: &str = "^[a-z,-]+ [0-9]{2}:[0-9]{2}-[0-9]{2}:[0-9]{2}$";
const COMMIT: &str = "^([0-9a-f]{40}|[0-9a-f]{64})$";
const DIGEST: &str = "^sha256:[0-9a-f]{64}$";
const FOLDERS: &str = "^!?[^/!][^\\\\]*$";

const GIT: &str = "Address of the repository that it comes from";
const AT: &str = "The commit, whole";
const TAG: &str = "The tag";
const BRANCH: &str = "The branch; the lockfile holds the commit that it had";
const FOLDER: &str = "The folder of the repository that is the package";
const PATH: &str = "The folder that it is, as it is there at the time; not for lockfiles that others share";
const ARCHIVE: &str = "Address or path of the archive that it is";
const DIGEST_SAYS: &str = "Digest of the archive's bytes";

const KEYS: &[Key] = &[
    must("", "project", Shape::Table("project"), "What this project or package is"),
    key("", "workspace", Shape::Table("workspace"), "The projects that share one lockfile and one install"),
    key(
        "",
        "needs",
        Shape::Named(WORD, &Shape::Named(NAME, &Shape::TextOrTable("needs.*.*"))),
        "What it needs, by purpose: run (ships), build, test, or any word",
    ),
    key("", "agreed", Shape::Named(NAME, &Shape::Text), "Constraints that bind packages wherever they turn up"),
    key("", "force", Shape::Named(NAME, &Shape::Table("force.*")), "Versions that packages have wherever they turn up"),
    key(
        "",
        "swap",
        Shape::Named(NAME, &Shape::Table("swap.*")),
        "Packages that others stand in for wherever they turn up",
    ),
    key(
        "",
        "admit",
        Shape::Named(NAME, &Shape::Table("admit.*")),
        "Releases that may be chosen although they are withdrawn or younger than `minimum-age`",
    ),
    key(
        "",
        "licence-exceptions",
        Shape::Named(NAME, &Shape::Table("licence-exceptions.*")),
        "Licences that single packages may have although they are not among `allowed-licences`",
    ),
    key("", "sources", Shape::Named(WORD, &Shape::Table("sources.*")), "Where packages come from"),
    key("", "offers", Shape::Table("offers"), "What it gives those who need it"),
    key("", "policy", Shape::Table("policy"), "Which releases it may be given"),
    key(
        "",
        "alter",
        Shape::Named(NAME, &Shape::Table("alter.*")),
        "Packages that are changed here, by a patch that all get",
    ),
    key(
        "",
        "checks",
        Shape::Named(WORD, &Shape::Table("checks.*")),
        "Commands that tell whether it still works, by names of its own",
    ),
    key(
        "",
        "mentions",
        Shape::Named(NAME, &Shape::Named(INSIDE, &Shape::TextsOrTable("mentions.*.*"))),
        "Other files that mention packages, and follow what is locked: by package and file, texts in which `…` is the version",
    ),
    key("", "contents", Shape::Table("contents"), "Which files of this folder are part of the package that it is"),
    key("", "proposals", Shape::Table("proposals"), "Which updates `propose` makes branches of, and when"),
    must(
        "workspace",
        "projects",
        Shape::List(FOLDERS),
        "Folders of the projects; `*` stands for any part of a name, `!` before it leaves folders out",
    ),
    must("project", "name", Shape::Matching(NAME), "Lower-case words with digits, `-`, `.`, `_`; levels by `/`"),
    key("project", "version", Shape::Text, "A version in its own numbering; needed to publish"),
    key(
        "project",
        "numbering",
        Shape::Table("numbering"),
        "How its versions order, and what a change of each position promises",
    ),
    key(
        "project",
        "platforms",
        Shape::List(PLATFORM),
        "System and architecture of each machine that the lockfile serves",
    ),
    key("project", "yostel", Shape::Text, "Which versions of yostel may work on it"),
    key("project", "licence", Shape::Text, "SPDX licence expression"),
    key("project", "about", Shape::Text, "What it is, in a sentence"),
    key("project", "notes", Shape::Text, "What is new in this version"),
    key(
        "project",
        "repository",
        Shape::Text,
        "The address of the repository of git that it is made from; releases tell it, with the commit",
    ),
    key(
        "project",
        "identities",
        Shape::List("^[Pp][Kk][Gg]:.+$"),
        "What it is in the open world, as package URLs, so that advisories on that hold for it",
    ),
    key("numbering", "order", Shape::OneOf(&["semver", "words"]), "Semantic Versioning, or dotted numbers and words"),
    key(
        "numbering",
        "breaks-at",
        Shape::Number,
        "The position at which a new compatible line starts; 0 = nothing ever breaks",
    ),
    key("numbering", "before", Shape::List(ONE_WORD), "Words that sort before the bare version, rising"),
    key("numbering", "after", Shape::List(ONE_WORD), "Words that sort after the bare version, rising"),
    key("needs.*.*", "accept", Shape::Text, "A constraint, or `agreed`; may be left out where the place says enough"),
    key("needs.*.*", "why", Shape::Text, "Why it deviates from what is agreed"),
    key(
        "needs.*.*",
        "only-on",
        Shape::List(PLATFORMS),
        "Platforms on which it counts, like linux/*, */arm64 or !windows/*; all when left out",
    ),
    key("needs.*.*", "git", Shape::Text, GIT),
    key("needs.*.*", "at", Shape::Matching(COMMIT), AT),
    key("needs.*.*", "tag", Shape::Text, TAG),
    key("needs.*.*", "branch", Shape::Text, BRANCH),
    key("needs.*.*", "inside", Shape::Matching(INSIDE), FOLDER),
    key("needs.*.*", "path", Shape::Text, PATH),
    key("needs.*.*", "archive", Shape::Text, ARCHIVE),
    key("needs.*.*", "digest", Shape::Matching(DIGEST), DIGEST_SAYS),
    must("force.*", "version", Shape::Matching(ONE_VERSION), "One version, without a sign"),
    must("force.*", "why", Shape::Text, "Why"),
    key("force.*", "until", Shape::Matching(DAY), "The day until which it should be needed"),
    must("admit.*", "version", Shape::Matching(ONE_VERSION), "One version, as its release has it"),
    must("admit.*", "why", Shape::Text, "Why"),
    key("admit.*", "until", Shape::Matching(DAY), "The day until which it should be needed"),
    key("swap.*", "use", Shape::Matching(NAME), "The package that stands in; the same, from elsewhere, when left out"),
    key("swap.*", "accept", Shape::Text, "Which of its versions will do; what was asked, when left out"),
    key("swap.*", "git", Shape::Text, GIT),
    key("swap.*", "at", Shape::Matching(COMMIT), AT),
    key("swap.*", "tag", Shape::Text, TAG),
    key("swap.*", "branch", Shape::Text, BRANCH),
    key("swap.*", "inside", Shape::Matching(INSIDE), FOLDER),
    key("swap.*", "path", Shape::Text, PATH),
    key("swap.*", "archive", Shape::Text, ARCHIVE),
    key("swap.*", "digest", Shape::Matching(DIGEST), DIGEST_SAYS),
    must("swap.*", "why", Shape::Text, "Why"),
    key("swap.*", "until", Shape::Matching(DAY), "The day until which it should be needed"),
    key("sources.*", "folder", Shape::Text, "The folder of a registry, relative to the manifest"),
    key("sources.*", "url", Shape::TextOrList, "The address of a registry on a web server; several are tried in order"),
    key("sources.*", "oci", Shape::TextOrList, "A host and a name in an OCI registry; several are tried in order"),
    key("sources.*", "certificates", Shape::Text, "A file with certificates to trust besides the machine's (PEM)"),
    key("sources.*", "reserves", Shape::List(PATTERN), "Names, or `level/*`, that come from here and nowhere else"),
    key(
        "policy",
        "minimum-age",
        Shape::Matching(AGE),
        "How long a release must have been published before it is chosen",
    ),
    key(
        "policy",
        "quiet-after",
        Shape::Matching(LONG_AGE),
        "How long nothing new may have come of a package before `audit` tells it",
    ),
    key("policy", "allowed-licences", Shape::List("^.+$"), "Licences that packages may have, by their SPDX names"),
    key(
        "policy",
        "advisories",
        Shape::List("^.+$"),
        "Folders and zip archives with advisories, beside those of the sources; relative to the manifest",
    ),
    key(
        "policy",
        "statements",
        Shape::List("^.+$"),
        "OpenVEX documents that say which advisories do not affect what is locked; relative to the manifest",
    ),
    key(
        "policy",
        "also-audit",
        Shape::List("^(unbounded|lower-bounds|only-here|unused|provenance)$"),
        "What `audit upkeep` looks for beside what it always does",
    ),
    key("policy", "take", Shape::OneOf(&["newest", "oldest"]), "Which of the releases that fit to take"),
    key("policy", "coexist", Shape::List(NAME), "Packages of which there may be one release per compatible line"),
    key("policy", "share-roles", Shape::List(WORD), "Roles that several packages may fill"),
    key(
        "policy",
        "git-schemes",
        Shape::List("^(git|http)$"),
        "Schemes of git addresses that are permitted although anybody on the way can change what is exchanged",
    ),
    key(
        "policy",
        "trusted-variables",
        Shape::List(NAME),
        "Packages whose variables may load code into other programs, or lead tools elsewhere",
    ),
    key("offers", "roles", Shape::List(WORD), "Jobs of which a set has one package each"),
    key("offers", "programs", Shape::List(INSIDE), "Folders put before PATH"),
    key(
        "offers",
        "variables",
        Shape::Named(VARIABLE, &Shape::Matching(INSIDE)),
        "Folders put before what the variable holds",
    ),
    key("offers", "mentions", Shape::List("^.{1,200}$"), "Texts of which a file of whoever uses the package has one"),
    key(
        "contents",
        "leave-out",
        Shape::List(FILES),
        "Patterns of files and folders that are not published: of a name, or of a path",
    ),
    key(
        "contents",
        "no-secrets",
        Shape::List(FILES),
        "Patterns of files that look as if they held keys or passwords, and may be published",
    ),
    must("licence-exceptions.*", "licence", Shape::Text, "The SPDX expression that the package has"),
    must("licence-exceptions.*", "why", Shape::Text, "Why"),
    key("licence-exceptions.*", "until", Shape::Matching(DAY), "The last day on which it counts"),
    must("checks.*", "run", Shape::TextOrList, "A line for the shell, or a program and its arguments"),
    key("checks.*", "time-limit", Shape::Text, "How long it may take, like 30s, 2m or 1h30m; 10m when left out"),
    key("checks.*", "for", Shape::List(WORD), "Purposes whose packages it finds; all when left out"),
    key(
        "checks.*",
        "in",
        Shape::List(PATTERN),
        "Projects of the workspace in which it runs; this one when left out. At the root only",
    ),
    key(
        "proposals",
        "when",
        Shape::List(HOURS),
        "Days and hours in which proposals are made, like mon-fri 06:00-09:00",
    ),
    key("proposals", "time-zone", Shape::Text, "Where these hours are, like Europe/Zurich; UTC when left out"),
    key("proposals", "at-once", Shape::Number, "How many may be open; 5 when left out"),
    key(
        "proposals",
        "packages",
        Shape::List(NOT_PATTERN),
        "Names, or `level/*`, that are proposed, and with `!` before them, that are not; all when left out",
    ),
    key(
        "proposals",
        "together",
        Shape::Named(WORD, &Shape::List(PATTERN)),
        "Packages that are proposed together, by names of your own",
    ),
    key("proposals", "tell", Shape::List("^.{1,200}$"), "Who is named in each proposal"),
    key(
        "proposals",
        "minimum-age",
        Shape::Matching(AGE),
        "How long a release must have been published before it is proposed",
    ),
    key("proposals", "edit", Shape::Boolean, "Whether constraints of the projects' own move too; false when left out"),
    key(
        "proposals",
        "unasked",
        Shape::List(PATTERN),
        "Packages whose proposals are taken at once, where they cross no line, bring no licence or advisory in, and checks passed",
    ),
    key(
        "proposals",
        "left-out",
        Shape::Named(NAME, &Shape::Table("proposals.left-out.*")),
        "Packages that are not proposed for a while",
    ),
    must("proposals.left-out.*", "why", Shape::Text, "Why"),
    key("proposals.left-out.*", "until", Shape::Matching(DAY), "The last day on which it counts"),
    key("mentions.*.*", "version", Shape::TextOrList, "Texts in which `…` is the version"),
    key(
        "mentions.*.*",
        "digest",
        Shape::TextOrList,
        "Texts in which `…` is the digest of the archive, in hexadecimal digits",
    ),
    key("mentions.*.*", "commit", Shape::TextOrList, "Texts in which `…` is the commit"),
    must("alter.*", "patch", Shape::Matching(INSIDE), "A unified diff in the project, relative to the manifest"),
    must("alter.*", "why", Shape::Text, "Why"),
];

/// Tables of which one of these keys must be there.
const ONE_OF: &[(&str, &[&str])] = &[
    ("needs.*.*", &["accept", "git", "path", "archive"]),
    ("swap.*", &["use", "git", "path", "archive"]),
    ("sources.*", &["folder", "url", "oci"]),
];

/// Lists the keys of a table, in the order in which they are told.
pub(super) fn keys_of(table: &str) -> Vec<&'static str> {
    KEYS.iter().filter(|key| key.table == table).map(|key| key.key).collect()
}

/// Writes a JSON Schema (draft 2020-12) of the manifest, for editors: what is wrong by its shape is marked, and each key is
/// completed with what it means. What only the whole manifest can tell, [`super::Manifest::parse`] does.
pub fn manifest_schema() -> Value {
    let mut schema = Map::new();
    schema.insert("$schema".into(), "https://json-schema.org/draft/2020-12/schema".into());
    schema.insert("title".into(), "yostel.toml".into());
    schema.extend(table_schema(""));
    let mut tables: Vec<&str> = KEYS.iter().map(|key| key.table).filter(|table| !table.is_empty()).collect();
    tables.dedup();
    let defs = tables.into_iter().map(|table| (table.to_owned(), Value::Object(table_schema(table))));
    schema.insert("$defs".into(), Value::Object(defs.collect()));
    Value::Object(schema)
}

fn table_schema(table: &str) -> Map<String, Value> {
    let of_table = || KEYS.iter().filter(|key| key.table == table);
    let property = |key: &Key| {
        let mut schema = shape_schema(&key.shape);
        schema.insert("description".into(), key.says.into());
        (key.key.to_owned(), Value::Object(schema))
    };
    let required: Vec<&str> = of_table().filter(|key| key.must).map(|key| key.key).collect();
    let mut schema = Map::new();
    schema.insert("type".into(), "object".into());
    schema.insert("additionalProperties".into(), false.into());
    schema.insert("properties".into(), Value::Object(of_table().map(property).collect()));
    if let Some((_, keys)) = ONE_OF.iter().find(|(name, _)| *name == table) {
        let one_of: Vec<Value> = keys.iter().map(|key| json!({ "required": [key] })).collect();
        schema.insert("anyOf".into(), one_of.into());
    }
    if !required.is_empty() {
        schema.insert("required".into(), json!(required));
    }
    schema
}

fn shape_schema(shape: &Shape) -> Map<String, Value> {
    let reference = |table: &str| json!({ "$ref": format!("#/$defs/{table}") });
    let value = match shape {
        Shape::Text => json!({ "type": "string" }),
        Shape::Matching(pattern) => json!({ "type": "string", "pattern": pattern }),
        Shape::OneOf(words) => json!({ "enum": words }),
        Shape::Boolean => json!({ "type": "boolean" }),
        Shape::Number => json!({ "type": "integer", "minimum": 0 }),
        Shape::List(pattern) => json!({ "type": "array", "items": { "type": "string", "pattern": pattern } }),
        Shape::Table(table) => reference(table),
        Shape::Named(pattern, of) => json!({
            "type": "object", "propertyNames": { "pattern": pattern }, "additionalProperties": shape_schema(of),
        }),
        Shape::TextOrList => {
            json!({ "oneOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" }, "minItems": 1 }] })
        }
        Shape::TextsOrTable(table) => {
            let texts = json!({ "type": "array", "items": { "type": "string" } });
            json!({ "oneOf": [{ "type": "string" }, texts, reference(table)] })
        }
        Shape::TextOrTable(table) => json!({ "oneOf": [{ "type": "string" }, reference(table)] }),
    };
    match value {
        Value::Object(schema) => schema,
        _ => unreachable!("each shape is an object"),
    }
}
