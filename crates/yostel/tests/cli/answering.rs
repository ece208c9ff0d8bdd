//! Every document that the program answers with is as its schema says: those of all tests here, and of each command once.
//! The accident this prevents: a program that was written from the pages, and meets a field that no page tells of.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use jsonschema::Validator;
use serde_json::Value;

use crate::{publish, small_world};

/// Forbids in a value what its schema does not name: answers may grow, but not past their own pages.
fn close(schema: &mut Value) {
    let Some(members) = schema.as_object_mut() else { return };
    if ["$ref", "properties", "oneOf", "anyOf", "allOf"].iter().any(|word| members.contains_key(*word)) {
        members.insert("unevaluatedProperties".into(), false.into());
    }
    close_parts(schema);
}

/// Like [`close`], for the values inside: what a branch of a choice does not name, the whole may.
fn close_parts(schema: &mut Value) {
    let Some(members) = schema.as_object_mut() else { return };
    for (word, part) in members.iter_mut() {
        match (word.as_str(), part) {
            ("properties", Value::Object(parts)) => parts.iter_mut().for_each(|(_, part)| close(part)),
            ("$defs", Value::Object(parts)) => parts.iter_mut().for_each(|(_, part)| close_parts(part)),
            ("oneOf" | "anyOf" | "allOf", Value::Array(parts)) => parts.iter_mut().for_each(close_parts),
            ("prefixItems", Value::Array(parts)) => parts.iter_mut().for_each(close),
            ("items" | "additionalProperties", part) => close(part),
            _ => {}
        }
    }
}

const ADVISORY: &str = r#"{"id":"S","modified":"2026-05-01T00:00:00Z","affected":[{
    "package":{"ecosystem":"station","name":"gust"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"}]}]}]}"#;

/// A page: what judges, and the fields in their order, where the answer has one shape only.
struct Page {
    validator: Validator,
    order: Vec<String>,
}

impl Page {
    fn of(mut schema: Value) -> (String, Self) {
        let title = schema["title"].as_str().unwrap().to_owned();
        let one_shape = ["oneOf", "anyOf", "allOf"].iter().all(|word| schema.get(word).is_none());
        let required = schema["required"].as_array().into_iter().flatten().filter(|_| one_shape);
        let order = required.map(|name| name.as_str().unwrap().to_owned());
        let order =
            order.filter(|name| title == "failure" || !["format", "command"].contains(&name.as_str())).collect();
        close(&mut schema);
        (title, Self { validator: jsonschema::draft202012::new(&schema).unwrap(), order })
    }
}

fn pages() -> &'static BTreeMap<String, Page> {
    static PAGES: OnceLock<BTreeMap<String, Page>> = OnceLock::new();
    PAGES.get_or_init(|| {
        let folder = format!("{}/../../docs/answers", env!("CARGO_MANIFEST_DIR"));
        let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        let read = files.map(|file| Page::of(serde_json::from_str(&std::fs::read_to_string(&file).unwrap()).unwrap()));
        read.collect()
    })
}

/// Judges a document by the schema of its command, or by that of failures.
pub(crate) fn is_as_its_schema_says(text: &str) {
    let document: Value = serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"));
    let name = if document.get("errors").is_some() { "failure" } else { document["command"].as_str().unwrap() };
    let page = pages().get(name).unwrap_or_else(|| panic!("no page tells of `{name}`"));
    let wrong: Vec<String> =
        page.validator.iter_errors(&document).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(wrong.is_empty(), "{name}: {wrong:?}\n{text}");
    let keys = text.lines().filter_map(|line| line.strip_prefix("  \"")?.split('"').next());
    let keys: Vec<&str> = keys.filter(|key| name == "failure" || !["format", "command"].contains(key)).collect();
    // What is there with an option only comes last.
    let (first, last) = keys.split_at(keys.len().min(page.order.len()));
    let in_order =
        first == page.order && last.iter().all(|key| ["lock", "both-moved", "install", "stale"].contains(key));
    assert!(page.order.is_empty() || in_order, "{name}: {keys:?}, and on its page {:?}", page.order);
    let second = if name == "failure" { "  \"exit\": " } else { "  \"command\": " };
    assert!(text.starts_with("{\n  \"format\": 1,\n") && text.lines().nth(2).unwrap().starts_with(second), "{text}");
}

#[test]
fn a_document_that_says_more_or_less_than_its_page_is_noticed() {
    let sandbox = small_world();
    let list = sandbox.run("console", "lock --format json").expect(0).stdout;
    let document: Value = serde_json::from_str(&list).unwrap();
    let judge = |change: &dyn Fn(&mut Value)| {
        let mut document = document.clone();
        change(&mut document);
        pages()["lock"].validator.is_valid(&document)
    };
    assert!(judge(&|_| {}));
    assert!(!judge(&|document| document["more"] = 1.into()));
    assert!(!judge(&|document| document["moves"][0]["more"] = 1.into()));
    assert!(!judge(&|document| document["moves"][0]["asked-by"][0]["more"] = 1.into()));
    assert!(!judge(&|document| document["moves"][0]["kind"] = "flew".into()));
    assert!(!judge(&|document| document["seal"] = Value::Null));
    assert!(!judge(&|document| document.as_object_mut().unwrap().remove("gone").map(drop).unwrap_or_default()));
    assert!(!judge(&|document| document["command"] = "list".into()));
}

/// Commands that end well one after the other, each with the folder in which it runs.
const IN_ORDER: &[(&str, &str)] = &[
    ("", "registry create other"),
    ("", "registry index station"),
    ("", "registry list station"),
    ("", "registry copy station other unit"),
    ("", "deprecate unit 1.0.0 --from other --why old"),
    ("", "logout station.example"),
    ("console", "add hoist ^1"),
    ("console", "add hoist --agreed"),
    ("console", "remove hoist"),
    ("console", "add hoist --path ../made/hoist-1.0.0"),
    ("console", "remove hoist"),
    ("console", "agree"),
    ("console", "sources"),
    ("console", "sources add spare ../spare"),
    ("console", "sources remove spare"),
    ("console", "settle"),
    ("console", "lock"),
    ("console", "lock"),
    ("console", "install"),
    ("console", "install"),
    ("console", "verify"),
    ("console", "verify --lock"),
    ("console", "list"),
    ("console", "tree"),
    ("console", "explain unit"),
    ("console", "explain unit --instead 2.0.0"),
    ("console", "explain unit --releases"),
    ("console", "env"),
    ("console", "where unit"),
    ("console", "run --each -- true"),
    ("console", "cache stats"),
    ("console", "cache list"),
    ("console", "cache verify"),
    ("console", "cache prune --unused-for 1d --preview"),
    ("console", "cache save kit.tar"),
    ("console", "cache load kit.tar"),
    ("console", "alter unit"),
    ("console", "alter unit --show"),
    ("console", "alter unit --drop"),
    ("made/hoist-1.0.0", "publish --preview --to ../../station"),
    ("made/hoist-1.0.0", "publish --to ../../station"),
    ("made", "withdraw hoist 1.0.0 --from ../station --why x"),
];

#[test]
fn every_command_answers_as_its_page_says_and_fails_as_that_of_failures_does() {
    let sandbox = small_world();
    publish(&sandbox, "hoist 1.0.0", "unit = '^1'", &[("a", "a")]);
    // Each run is judged by the sandbox.
    let json = |folder: &str, words: &str, status: i32| {
        let run = sandbox.run(folder, &format!("--format json {words}")).expect(status);
        let document: Value = serde_json::from_str(&run.stdout).unwrap();
        assert!(run.stderr.is_empty(), "{words}: {}", run.stderr);
        document["command"].as_str().unwrap_or("failure").to_owned()
    };
    let mut seen: Vec<String> = Vec::new();
    for (folder, words) in IN_ORDER {
        seen.push(json(folder, words, 0));
    }
    seen.push(json("console", "audit", 1));
    sandbox.write("station/advisories/s.json", ADVISORY);
    seen.push(json("console", "audit dismiss S --why x", 0));
    seen.push(json("console", "culprit yostel.lock -- true", 2));
    sandbox.run("console", "install").expect(0);
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}[checks.fine]\nrun = \"true\"\n"));
    let git = "git init -q && git config user.name t && git config user.email t@t.example && git add yostel.* && git commit -qm a";
    sandbox.finish(&mut sandbox.shell("console", git)).expect(0);
    publish(&sandbox, "unit 1.2.0", "", &[]);
    for words in [
        "propose unit",
        "proposals list",
        "proposals show unit",
        "proposals decline unit",
        "run --checks",
        "update --tested",
        "undo",
        "undo --redo",
        "undo --list",
        "compare yostel.lock",
        "graph",
        "drift",
    ] {
        seen.push(json("console", words, 0));
    }
    let mut login = sandbox.command("", "--format json login station.example");
    let login = sandbox.finish(login.stdin(std::fs::File::open(sandbox.path("console/yostel.lock")).unwrap()));
    assert_eq!(login.status, 2, "a lockfile is no token");
    sandbox.write("token", "t0ken\n");
    let mut login = sandbox.command("", "--format json login station.example");
    let login = sandbox.finish(login.stdin(std::fs::File::open(sandbox.path("token")).unwrap())).expect(0);
    seen.push(serde_json::from_str::<Value>(&login.stdout).unwrap()["command"].as_str().unwrap().to_owned());
    sandbox.write("console/list.csv", "name,version\nunit,1.0.0\nnone,1\n");
    seen.push(json("console", "import list.csv --preview", 0));
    seen.push(json("console", "audit --under .", 1));
    seen.push(json("console", "report", 0));
    seen.push(json("console", "graph needs.svg --since yostel.lock --fold leaves", 0));
    std::fs::create_dir_all(sandbox.path("fresh")).unwrap();
    seen.push(json("fresh", "init fresh", 0));
    sandbox.run("console", "install").expect(0);
    for (folder, words, status) in [
        ("", "lock", 2),
        ("", "flow", 2),
        ("console", "add no-such", 2),
        ("console", "where no-such", 2),
        ("console", "run no-such --each -- true", 2),
    ] {
        assert_eq!(json(folder, words, status), "failure", "{words}");
    }
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\n[need.run]\ngust = \"2\"\n");
    assert_eq!(json("console", "lock", 2), "failure");
    let never: Vec<&String> = pages().keys().filter(|name| *name != "failure" && !seen.contains(name)).collect();
    assert!(never.is_empty(), "not run here: {never:?}");
}
