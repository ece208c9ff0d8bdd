//! The house is as ARCHITECTURE.md draws it: read from the sources, so that no wall is moved by accident.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// What each crate may know of the others, lowest first.
const ARROWS: [(&str, &[&str]); 12] = [
    ("versions", &[]),
    ("solver", &[]),
    ("check", &[]),
    ("files", &[]),
    ("documents", &["versions"]),
    ("resolve", &["documents", "solver", "versions"]),
    ("findings", &["documents", "resolve", "versions"]),
    ("store", &["documents", "files", "versions"]),
    ("sources", &["documents", "files", "versions"]),
    ("registry", &["documents", "files", "store", "versions"]),
    ("flows", &["documents", "files", "findings", "registry", "resolve", "sources", "store", "versions"]),
    ("answers", &["documents", "files", "findings", "flows", "registry", "resolve", "sources", "store", "versions"]),
];

/// The crates that only compute.
const PURE: [&str; 5] = ["versions", "documents", "resolve", "findings", "answers"];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

fn folder_of(name: &str) -> PathBuf {
    crates().join(format!("yostel-{name}"))
}

/// Lists the Rust files below a folder.
fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else if path.extension().is_some_and(|ending| ending == "rs") {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// Returns a module's path by its file: `manifest/parse/mod.rs` and `manifest/parse.rs` are `["manifest", "parse"]`.
fn module_of(file: &Path, source: &Path) -> Vec<String> {
    let inside = file.strip_prefix(source).unwrap().with_extension("");
    let mut parts: Vec<String> = inside.iter().map(|part| part.to_str().unwrap().to_owned()).collect();
    if parts.last().is_some_and(|last| ["mod", "lib", "main"].contains(&last.as_str())) {
        parts.pop();
    }
    parts
}

/// Lists the modules that a file's `use` lines name, as far as there are such modules.
fn imports(text: &str, module: &[String], modules: &BTreeSet<Vec<String>>) -> BTreeSet<Vec<String>> {
    let mut found = BTreeSet::new();
    let code = text.split("#[cfg(test)]\nmod tests {").next().unwrap();
    for (at, _) in code.match_indices("crate::").chain(code.match_indices("super::")) {
        let comment = code[..at].rsplit('\n').next().unwrap().trim_start().starts_with("//");
        let inside = code[..at].ends_with("super::");
        if comment || inside {
            continue;
        }
        let mut base: Vec<String> = module.to_vec();
        let mut rest = &code[at..];
        if let Some(after) = rest.strip_prefix("crate::") {
            base.clear();
            rest = after;
        }
        while let Some(after) = rest.strip_prefix("super::") {
            base.pop();
            rest = after;
        }
        for part in rest.split("::") {
            let name: String = part.chars().take_while(|c| c.is_alphanumeric() || *c == '_' || *c == '#').collect();
            base.push(name.trim_start_matches("r#").to_owned());
            if !modules.contains(&base) {
                base.pop();
                break;
            }
            if name.len() != part.len() {
                break;
            }
        }
        if modules.contains(&base) && base != module {
            found.insert(base);
        }
    }
    found
}

/// Finds a circle in a graph; the modules along it.
fn circle(graph: &BTreeMap<Vec<String>, BTreeSet<Vec<String>>>) -> Option<Vec<String>> {
    let mut done: BTreeSet<&Vec<String>> = BTreeSet::new();
    for start in graph.keys() {
        let mut way: Vec<(&Vec<String>, Vec<&Vec<String>>)> = vec![(start, graph[start].iter().collect())];
        while let Some((_, open)) = way.last_mut() {
            let Some(next) = open.pop() else {
                done.insert(way.pop().unwrap().0);
                continue;
            };
            if let Some(at) = way.iter().position(|(on, _)| *on == next) {
                return Some(way[at..].iter().map(|(on, _)| on.join("::")).collect());
            }
            if !done.contains(next) {
                way.push((next, graph.get(next).map(|all| all.iter().collect()).unwrap_or_default()));
            }
        }
    }
    None
}

#[test]
fn crates_know_of_each_other_what_the_picture_says() {
    for (name, may) in ARROWS {
        let manifest = fs::read_to_string(folder_of(name).join("Cargo.toml")).unwrap();
        let shipped = manifest.split("[dev-dependencies]").next().unwrap();
        let known: BTreeSet<&str> =
            shipped.lines().filter_map(|line| line.strip_prefix("yostel-")?.split(['.', ' ']).next()).collect();
        let may: BTreeSet<&str> = may.iter().copied().collect();
        assert!(known.is_subset(&may), "yostel-{name} knows {known:?}, and may know {may:?}");
    }
}

/// A type and the files that read, write or compute for it are one thing in several files: a folder's `mod.rs` and the
/// files beside it may know each other. Everything else may not.
#[test]
fn no_two_files_of_a_crate_import_each_other() {
    for folder in fs::read_dir(crates()).unwrap().map(|entry| entry.unwrap().path()) {
        let source = folder.join("src");
        let files = files_below(&source);
        let modules: BTreeSet<Vec<String>> = files.iter().map(|file| module_of(file, &source)).collect();
        let mut graph = BTreeMap::new();
        for file in &files {
            let module = module_of(file, &source);
            let text = fs::read_to_string(file).unwrap();
            let mut known = imports(&text, &module, &modules);
            // Up to the folder's own `mod.rs`, and the root, which only lists what there is.
            known.retain(|other| !other.is_empty() && !module.starts_with(other));
            graph.insert(module, known);
        }
        if folder.ends_with("yostel-solver") {
            // The solver asks a guide, and a guide states problems in the solver: one thing seen from two sides.
            graph.get_mut(&vec!["guide".to_owned()]).unwrap().remove(&vec!["solver".to_owned()]);
        }
        let found = circle(&graph);
        assert_eq!(found, None, "{}: these import each other", folder.display());
    }
}

#[test]
fn what_only_computes_is_held_to_it_by_the_same_rules() {
    let rules: BTreeSet<String> =
        PURE.iter().map(|name| fs::read_to_string(folder_of(name).join("clippy.toml")).unwrap()).collect();
    assert_eq!(rules.len(), 1, "one clippy.toml for all of {PURE:?}");
}

#[test]
fn a_lockfile_is_made_and_written_in_one_place() {
    let mut shipped: Vec<PathBuf> =
        ARROWS.iter().flat_map(|(name, _)| files_below(&folder_of(name).join("src"))).collect();
    shipped.extend(files_below(&crates().join("yostel/src")));
    let mut makers = BTreeSet::new();
    let mut writers = BTreeSet::new();
    for file in shipped {
        let text = fs::read_to_string(&file).unwrap();
        let name = file.strip_prefix(crates()).unwrap().display().to_string();
        let code: String = text.lines().filter(|line| !line.trim_start().starts_with("//")).collect();
        if code.contains(".to_lockfile(") {
            makers.insert(name.clone());
        }
        let writes =
            ["write_atomically(&project.lockfile_path()", "write_atomically(LOCKFILE_NAME", "write_with_lockfile("];
        // The door through which everything of a project goes is no writer of its own.
        if writes.iter().any(|write| code.contains(write)) && name != "yostel-flows/src/project/write.rs" {
            writers.insert(name);
        }
    }
    let only: BTreeSet<String> = ["yostel-flows/src/search/proposal.rs".to_owned()].into();
    assert_eq!(makers, only, "a lockfile is made of a resolution by a proposal alone");
    assert_eq!(writers, only, "and written by it alone");
}

/// The longest file, in lines.
const LONGEST: usize = 450;

/// The middle one, likewise.
const MIDDLE: usize = 200;

#[test]
fn files_can_be_read_in_one_sitting() {
    let mut lengths: Vec<(usize, PathBuf)> = Vec::new();
    for file in
        files_below(&crates()).into_iter().filter(|file| !file.components().any(|part| part.as_os_str() == "target"))
    {
        lengths.push((fs::read_to_string(&file).unwrap().lines().count(), file));
    }
    lengths.sort();
    let long: Vec<_> = lengths.iter().filter(|(lines, _)| *lines > LONGEST).collect();
    assert!(long.is_empty(), "longer than {LONGEST} lines: {long:#?}");
    assert!(lengths[lengths.len() / 2].0 <= MIDDLE);
}

/// The longest function without a reason beside it, in lines.
const LONGEST_FUNCTION: usize = 80;

#[test]
fn functions_fit_on_a_screen_or_say_why_not() {
    let mut long = Vec::new();
    for file in files_below(&crates()) {
        let text = fs::read_to_string(&file).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        for (at, line) in lines.iter().enumerate() {
            let inside = line.trim_start();
            let begins =
                ["fn ", "pub fn ", "pub(crate) fn ", "pub(super) fn "].iter().any(|start| inside.starts_with(start));
            if !begins || line.trim_end().ends_with('}') {
                continue;
            }
            let end = format!("{}}}", &line[..line.len() - inside.len()]);
            let length = lines[at..].iter().position(|line| *line == end).map_or(1, |length| length + 1);
            let body = &lines[at..at + length];
            if length > LONGEST_FUNCTION && !body.iter().any(|line| line.trim_start().starts_with("// Long: ")) {
                long.push(format!("{}: {inside} ({length} lines)", file.display()));
            }
        }
    }
    assert!(long.is_empty(), "longer than {LONGEST_FUNCTION} lines, and no `// Long:` says why: {long:#?}");
}
