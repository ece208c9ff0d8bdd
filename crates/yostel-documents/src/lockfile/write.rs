//! The canonical text: sorted, one block per package, one fact per line, final newline.

use std::fmt::{self, Write};

use yostel_versions::Numbering;

use super::{LOCKFILE_FORMAT, Lockfile};
use crate::digest::Seal;
use crate::numbering::NumberingTable;
use crate::origin::{GitAt, Origin};
use crate::requirement::Asker;

pub(super) const SEAL_KEY: &str = "seal = \"";

const HEAD: &str = "# Written by yostel. To change what is locked, change the manifest and run: yostel lock\n";

pub(super) fn sealed(lockfile: &Lockfile) -> (String, Seal) {
    let body = body(lockfile);
    let seal = seal_of(&body);
    (head(seal) + &body, seal)
}

/// Everything up to the body.
pub(super) fn head(seal: Seal) -> String {
    format!("{HEAD}format = {LOCKFILE_FORMAT}\n{SEAL_KEY}{seal}\"\n")
}

pub(super) fn seal_of(body: &str) -> Seal {
    Seal::of(body.as_bytes())
}

/// Everything after the line of the seal.
pub(super) fn body(lockfile: &Lockfile) -> String {
    let mut text = format!("declarations = \"{}\"\n", lockfile.declarations);
    for (name, locked) in lockfile.chosen.iter() {
        text.push_str("\n[[chosen]]\n");
        put(&mut text, format_args!("name = \"{name}\"\n"));
        put(&mut text, format_args!("version = \"{}\"\n", locked.version));
        if locked.numbering != Numbering::default() {
            put(&mut text, format_args!("numbering = {}\n", NumberingTable::of(&locked.numbering).to_toml()));
        }
        put(&mut text, format_args!("from = {}\n", origin(&locked.from)));
        if let Some(record) = locked.record {
            put(&mut text, format_args!("record = \"{record}\"\n"));
        }
        if locked.forced {
            text.push_str("forced = true\n");
        }
        if !locked.stands_in_for.is_empty() {
            let names: Vec<String> = locked.stands_in_for.iter().map(|name| format!("\"{name}\"")).collect();
            put(&mut text, format_args!("stands-in-for = [{}]\n", names.join(", ")));
        }
        if let Some(altered) = &locked.altered {
            put(&mut text, format_args!("patch = \"{}\"\n", altered.patch));
        }
        let purposes: Vec<String> = locked.purposes.iter().map(|purpose| format!("\"{purpose}\"")).collect();
        put(&mut text, format_args!("purposes = [{}]\n", purposes.join(", ")));
        text.push_str("asked-by = [\n");
        for asked in &locked.asked_by {
            let purpose = match asked.who {
                Asker::Project(_) => format!("purpose = \"{}\", ", asked.purpose),
                Asker::Release(..) => String::new(),
            };
            put(&mut text, format_args!("  {{ who = \"{}\", {purpose}accept = \"{}\" }},\n", asked.who, asked.accept));
        }
        text.push_str("]\n");
        if locked.from.local_folder().is_some() {
            continue;
        }
        text.push_str("artifacts = [\n");
        for (at, artifact) in locked.artifacts.iter().enumerate() {
            let altered = locked.altered.as_ref().and_then(|altered| altered.trees.get(at));
            let altered = altered.map(|tree| format!(", altered = \"{tree}\"")).unwrap_or_default();
            put(
                &mut text,
                format_args!(
                    "  {{ platform = \"{}\", size = {}, digest = \"{}\", tree = \"{}\"{altered} }},\n",
                    artifact.platform, artifact.size, artifact.digest, artifact.tree
                ),
            );
        }
        text.push_str("]\n");
    }
    text
}

/// Writes into the text itself: a lockfile has thousands of lines, and each would be a text of its own first.
fn put(text: &mut String, what: fmt::Arguments<'_>) {
    text.write_fmt(what).expect("a text takes whatever is written");
}

fn origin(origin: &Origin) -> String {
    let pairs: Vec<(&str, &str)> = match origin {
        Origin::Source(name) => return format!("\"{name}\""),
        Origin::Git { place, commit } => {
            let at = place.at.to_pair().filter(|(key, _)| *key != "at");
            let folder = place.folder.as_deref().map(|folder| ("inside", folder));
            let asked = match place.at {
                GitAt::Commit(_) => Some(("at", commit.as_str())),
                _ => None,
            };
            let commit = asked.unwrap_or(("commit", commit));
            std::iter::once(("git", place.address.as_str())).chain(at).chain(folder).chain([commit]).collect()
        }
        Origin::Archive { address } => vec![("archive", address)],
        Origin::Path { folder } => vec![("path", folder)],
        Origin::Project { folder } => vec![("project", folder)],
    };
    let pairs: Vec<String> = pairs.into_iter().map(|(key, value)| format!("{key} = {}", quoted(value))).collect();
    format!("{{ {} }}", pairs.join(", "))
}

/// Writes a basic string of TOML.
fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() => quoted.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}
