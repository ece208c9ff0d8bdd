//! The pages hold what the code says: every code is told and explained, every schema is as the types have it.

#![allow(clippy::unwrap_used, clippy::disallowed_methods, reason = "a test fails by panicking, and reads the pages")]

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;
use yostel_answers::Code;
use yostel_answers::schema::schemas;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// All sources below some folders, one after the other.
fn sources(folders: &[&str]) -> String {
    let mut open: Vec<PathBuf> = folders.iter().map(|folder| root().join(folder)).collect();
    let mut text = String::new();
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() { open.push(entry) } else { text.push_str(&fs::read_to_string(entry).unwrap()) }
        }
    }
    text
}

#[test]
fn every_code_is_told_somewhere_and_explained_on_the_page() {
    let page = fs::read_to_string(root().join("docs/errors.md")).unwrap();
    let told = sources(&["crates/yostel-answers/src/words", "crates/yostel/src"]);
    let codes: BTreeSet<&str> = Code::ALL.iter().map(|code| code.as_str()).collect();
    assert_eq!(codes.len(), Code::ALL.len(), "two codes have one word");
    for code in Code::ALL {
        let name = format!("Code::{code:?}");
        let whole = |at: usize| !told[at + name.len()..].starts_with(|c: char| c.is_alphanumeric());
        assert!(told.match_indices(&name).any(|(at, _)| whole(at)), "{name} is never told");
        assert!(page.contains(&format!("| `{}` |", code.as_str())), "{} is not on the page", code.as_str());
        assert_eq!(serde_json::to_value(code).unwrap(), code.as_str());
    }
    let rows = page.lines().filter_map(|line| line.strip_prefix("| `")?.split('`').next());
    for row in rows.filter(|row| !row.chars().all(|c| c.is_ascii_digit())) {
        assert!(codes.contains(row), "the page explains `{row}`, which nobody tells");
    }
}

/// Lists the fields that a schema names at its top, of every shape that it has.
fn fields(schema: &Value, whole: &Value) -> BTreeSet<String> {
    let own = schema["properties"].as_object().into_iter().flat_map(|properties| properties.keys().cloned());
    let mut all: BTreeSet<String> = own.filter(|name| !["format", "command"].contains(&name.as_str())).collect();
    for branch in ["anyOf", "oneOf"].iter().flat_map(|word| schema[word].as_array().into_iter().flatten()) {
        all.extend(fields(branch, whole));
    }
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/$defs/")) {
        all.extend(fields(&whole["$defs"][name], whole));
    }
    all
}

#[test]
fn the_schemas_on_the_pages_are_those_of_the_types() {
    let folder = root().join("docs/answers");
    let mut there: BTreeSet<String> =
        fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    let output = fs::read_to_string(root().join("docs/output.md")).unwrap();
    for (command, schema) in schemas() {
        let name = format!("{}.schema.json", command.replace(' ', "-"));
        let page = fs::read_to_string(folder.join(&name)).unwrap_or_default();
        assert!(
            page == format!(
                "{schema:#}
"
            ),
            "write {name} anew: cargo run -p yostel-answers --example answer_schemas -- docs/answers"
        );
        there.remove(&name);
        let row = output.lines().find(|line| line.contains(&format!("(answers/{name})")));
        let row = row.unwrap_or_else(|| panic!("docs/output.md does not name {name}"));
        for field in fields(&schema, &schema).iter().filter(|_| command != "failure") {
            assert!(row.contains(&format!("`{field}`")), "docs/output.md does not say that {command} has `{field}`");
        }
    }
    assert!(there.is_empty(), "no command answers {there:?}");
}
