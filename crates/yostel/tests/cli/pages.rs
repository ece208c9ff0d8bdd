//! The pages hold what they promise: their examples are run, their definitions compared with what the program does.
//! The accident this prevents: a second implementation, written from the page, that gets other digests.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::{folder_of, small_world};

fn page(name: &str) -> String {
    fs::read_to_string(format!("{}/../../{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

fn block<'a>(page: &'a str, language: &str, at: usize) -> &'a str {
    page.split(&format!("```{language}\n")).nth(at + 1).unwrap().split("```").next().unwrap()
}

#[test]
fn the_shell_lines_for_a_tree_digest_give_the_locked_digest() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let formats = page("docs/formats.md");
    let script = block(&formats, "sh", 0);
    for package in ["gust", "rig", "unit"] {
        let folder = sandbox.path(&folder_of(&sandbox, package));
        let output = Command::new("sh").args(["-c", script]).current_dir(&folder).output().unwrap();
        let digest = String::from_utf8_lossy(&output.stdout).split(' ').next().unwrap().to_owned();
        let lock = sandbox.read("console/yostel.lock");
        assert!(lock.contains(&format!("tree = \"sha256:{digest}\"")), "{package}: {digest}");
        assert!(folder.to_string_lossy().ends_with(&digest[..12]), "the folder's name starts the digest");
    }
}

#[test]
fn the_seal_is_over_what_the_page_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let script = "sed '1,/^seal = /d' yostel.lock | sha256sum; printf 'console\\trun\\tgust\\t^2\\nconsole\\ttest\\trig\\t^0.9\\n' | sha256sum";
    let output = Command::new("sh").args(["-c", script]).current_dir(sandbox.path("console")).output().unwrap();
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    let digests: Vec<&str> = told.lines().map(|line| line.split(' ').next().unwrap()).collect();
    let lock = sandbox.read("console/yostel.lock");
    assert!(lock.contains(&format!("seal = \"sha256:{}\"", digests[0])));
    assert!(lock.contains(&format!("declarations = \"sha256:{}\"", digests[1])));
}

#[test]
fn the_install_digest_is_over_what_the_page_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "install").expect(0).stdout;
    let inventory: serde_json::Value = serde_json::from_str(&sandbox.read("console/.yostel/inventory.json")).unwrap();
    let mut text = "yostel-install 1\n".to_owned();
    for package in inventory["packages"].as_array().unwrap() {
        let tree = package["tree"].as_str().unwrap().strip_prefix("sha256:").unwrap();
        text.push_str(&format!("p {tree} {}\n", package["folder"].as_str().unwrap()));
    }
    for (path, target) in inventory["links"].as_object().unwrap() {
        text.push_str(&format!("l {path} -> {}\n", target.as_str().unwrap()));
    }
    let digest = yostel_documents::Seal::of(text.as_bytes()).to_string();
    assert_eq!(inventory["install"], digest);
    assert_eq!(crate::digest_of(&told), format!("  digest {digest}"));
}

#[test]
fn the_readme_s_manifest_is_one_and_its_links_lead_somewhere() {
    let readme = page("README.md");
    yostel_documents::Manifest::parse(block(&readme, "toml", 0)).unwrap();
    let root = format!("{}/../..", env!("CARGO_MANIFEST_DIR"));
    for link in readme.split("](").skip(1).map(|rest| rest.split(')').next().unwrap()) {
        assert!(fs::exists(format!("{root}/{link}")).unwrap(), "{link}");
    }
}

#[test]
fn every_command_line_in_the_readme_is_understood() {
    let readme = page("README.md");
    let sandbox = small_world();
    for line in block(&readme, "sh", 1).lines() {
        let words = line
            .split('#')
            .next()
            .unwrap()
            .trim()
            .strip_prefix("yostel ")
            .unwrap()
            .replace('\'', "")
            .replace(", ", ",");
        let run = sandbox.run("", &words);
        assert!(!run.stderr.contains("Usage:"), "{line}: {}", run.stderr);
    }
}

/// Reads a manifest as an editor's checker does: TOML as JSON, days as texts.
fn as_json(text: &str) -> serde_json::Value {
    fn json(value: &toml::Value) -> serde_json::Value {
        match value {
            toml::Value::Table(table) => table.iter().map(|(key, value)| (key.clone(), json(value))).collect(),
            toml::Value::Array(list) => list.iter().map(json).collect(),
            toml::Value::Datetime(day) => day.to_string().into(),
            toml::Value::String(text) => text.clone().into(),
            toml::Value::Integer(number) => (*number).into(),
            toml::Value::Float(number) => (*number).into(),
            toml::Value::Boolean(truth) => (*truth).into(),
        }
    }
    json(&toml::from_str::<toml::Value>(text).unwrap())
}

#[test]
fn the_schema_on_the_page_is_what_the_code_says_and_judges_as_the_program_does() {
    let page: serde_json::Value = serde_json::from_str(include_str!("../../../../docs/manifest.schema.json")).unwrap();
    let written = yostel_documents::manifest_schema();
    assert_eq!(
        page, written,
        "write it anew: cargo run -p yostel-documents --example manifest_schema > docs/manifest.schema.json"
    );
    let schema = jsonschema::draft202012::new(&page).unwrap();
    let demo = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let mut open = vec![demo];
    let mut seen = 0;
    while let Some(path) = open.pop() {
        if path.is_dir() {
            open.extend(std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()));
        } else if path.ends_with("yostel.toml") {
            let text = std::fs::read_to_string(&path).unwrap();
            assert!(schema.is_valid(&as_json(&text)), "{}", path.display());
            seen += 1;
        }
    }
    assert!(seen > 60, "{seen} manifests of the demo");
    let head = "[project]\nname = \"ropeway/console\"\n";
    let whole = "numbering = { order = \"words\", breaks-at = 2 }\nplatforms = [\"linux/amd64\"]\nyostel = \">=0.1\"\n\
                 [needs.run]\n\"valley/bell\" = \"agreed\"\nrope = { accept = \"^3\", why = \"older\" }\n\
                 [agreed]\n\"valley/bell\" = \"^1\"\nrope = \"^2\"\n\
                 [force]\nbell = { version = \"2025.1-sp1\", why = \"x\", until = 2027-03-01 }\n\
                 [swap]\nold = { use = \"new\", accept = \"^2\", why = \"x\" }\n\
                 [sources.station]\nfolder = \"../station\"\nreserves = [\"valley/*\"]\n\
                 [policy]\nminimum-age = \"7 days\"\ntake = \"oldest\"\nshare-roles = [\"logger\"]\n\
                 [offers]\nroles = [\"logger\"]\nprograms = [\"bin\"]\nvariables = { CPATH = \"include\" }\n\
                 [alter]\nrope = { patch = \"patches/rope.patch\", why = \"x\" }\n";
    for (text, right) in [
        (format!("{head}{whole}"), true),
        (head.to_owned(), true),
        (String::new(), false),
        ("[project]\nname = \"Ropeway\"\n".into(), false),
        (format!("{head}[need.run]\n"), false),
        (format!("{head}[needs.run]\nrope = 3\n"), false),
        (format!("{head}[needs.run]\nrope = {{ why = \"x\" }}\n"), false),
        (format!("{head}platforms = [\"any\"]\n"), false),
        (format!("{head}numbering = {{ order = \"roman\" }}\n"), false),
        (format!("{head}[force]\nrope = {{ version = \"^3\", why = \"x\" }}\n"), false),
        (format!("{head}[force]\nrope = {{ version = \"3.0.0\" }}\n"), false),
        (format!("{head}[force]\nrope = {{ version = \"3.0.0\", why = \"x\", until = \"soon\" }}\n"), false),
        (format!("{head}[swap]\nrope = {{ why = \"x\" }}\n"), false),
        (format!("{head}[sources.station]\nreserves = []\n"), false),
        (format!("{head}[policy]\nminimum-age = \"a while\"\n"), false),
        (format!("{head}[offers]\nvariables = {{ cpath = \"include\" }}\n"), false),
        (format!("{head}[alter]\nrope = {{ patch = \"/tmp/x\", why = \"x\" }}\n"), false),
    ] {
        assert_eq!(schema.is_valid(&as_json(&text)), right, "the schema, of:\n{text}");
        assert_eq!(yostel_documents::Manifest::parse(&text).is_ok(), right, "the program, of:\n{text}");
    }
}

#[test]
fn names_that_were_given_up_are_in_no_page_help_or_message() {
    // Spelled apart, or they would be found here.
    let gone = [
        ["--why", "-not"],
        ["--pre", "fer"],
        ["--re", "pair"],
        ["--move-to", "-agreed"],
        ["registry con", "tents"],
        ["install --on", "ly "],
        ["Format::Hu", "man"],
        ["marked", " !"],
        ["de", "pot"],
        ["{ for ", "= "],
        ["no-such-re", "pair"],
        ["audi", "ted:"],
        [".yostel/", "for"],
        ["as one pa", "th element"],
        ["snap", "shot` `nightly"],
    ];
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut open: Vec<PathBuf> =
        ["crates", "docs", "demo", "benches", ".ci"].iter().map(|folder| root.join(folder)).collect();
    let mut files: Vec<PathBuf> =
        ["README.md", "CHANGELOG.md", "ARCHITECTURE.md", "CONTRIBUTING.md"].iter().map(|f| root.join(f)).collect();
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            if entry.file_type().unwrap().is_dir() { open.push(entry.path()) } else { files.push(entry.path()) }
        }
    }
    assert!(files.len() > 100, "the pages and sources are there");
    for file in files {
        let Ok(text) = fs::read_to_string(&file) else { continue };
        for name in gone.iter().map(|parts| parts.concat()) {
            assert!(!text.contains(&name), "{} says `{name}`", file.display());
        }
    }
}

#[test]
fn the_digest_of_a_record_is_over_what_the_page_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let document: serde_json::Value = serde_json::from_str(&sandbox.read("station/releases/gust.json")).unwrap();
    let releases = document["releases"].as_array().unwrap();
    let record = releases.iter().map(|entry| &entry["record"]).find(|record| record["version"] == "2.1.0").unwrap();
    // Names of letters alone sort the same by bytes and by UTF-16 units; this library writes no blanks.
    let digest = yostel_documents::RecordDigest::of(record.to_string().as_bytes());
    assert!(sandbox.read("console/yostel.lock").contains(&format!("from = \"station\"\nrecord = \"{digest}\"\n")));
}

/// Reads the rows of the glossary: the words, and what is said in place of none of them.
fn glossary() -> Vec<(Vec<String>, Vec<String>)> {
    let page = page("docs/glossary.md");
    let rows = page.lines().filter(|line| line.starts_with("| **"));
    let words = |cell: &str| -> Vec<String> {
        cell.split(',').map(|word| word.trim().trim_matches('*').to_owned()).filter(|word| !word.is_empty()).collect()
    };
    rows.map(|row| {
        let cells: Vec<&str> = row.trim_matches('|').split('|').collect();
        (words(&cells[0].replace("**", "")), words(cells[3]))
    })
    .collect()
}

#[test]
fn help_messages_and_pages_use_the_words_of_the_glossary() {
    let rows = glossary();
    assert!(rows.len() > 25);
    let sandbox = crate::sandbox();
    let mut told: Vec<(String, String)> = Vec::new();
    let help = sandbox.run("", "--help").expect(0).stdout;
    let commands = help.lines().filter_map(|line| line.get(11..)?.split_whitespace().next());
    for command in commands.filter(|name| name.bytes().all(|b| b.is_ascii_lowercase())) {
        let run = sandbox.run("", &format!("{command} --help"));
        told.push((format!("{command} --help"), run.stdout));
    }
    assert!(told.len() > 15, "{told:?}");
    told.push(("--help".into(), help));
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    // Their keys are those of other people's forms.
    let forms = root.join("crates/yostel/src/render/bills");
    let mut open = vec![root.join("docs"), root.join("crates/yostel/src"), root.join("crates/yostel-flows/src/error")];
    for file in ["README.md", "CHANGELOG.md", "ARCHITECTURE.md"] {
        told.push((file.into(), page(file)));
    }
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            let name = entry.display().to_string();
            if entry == forms {
                continue;
            } else if entry.is_dir() {
                open.push(entry);
            } else if [".md", ".rs"].iter().any(|ending| name.ends_with(ending)) && !name.ends_with("glossary.md") {
                told.push((name, fs::read_to_string(entry).unwrap()));
            }
        }
    }
    let has = |text: &str, word: &str| {
        let text = text.to_lowercase();
        let edge = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric() && c != '_');
        text.match_indices(word)
            .any(|(at, _)| edge(text[..at].chars().next_back()) && edge(text[at + word.len()..].chars().next()))
    };
    for (words, instead) in &rows {
        for word in words {
            assert!(told.iter().any(|(_, text)| has(text, word)), "`{word}` is in the glossary and said nowhere");
        }
        for word in instead {
            for (place, text) in &told {
                assert!(!has(text, word), "{place} says `{word}` for {words:?}");
            }
        }
    }
}
