//! A tree's listing, whose SHA-256 is the tree's digest. Carries out docs/formats.md §6, byte by byte.

use std::collections::BTreeMap;
use std::fmt::Write;

use crate::digest::{ContentDigest, TreeDigest};

const HEAD: &str = "yostel-tree 1\n";

/// What an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum EntryKind {
    /// A plain file, `f`.
    File,
    /// A file that its owner may execute, `x`.
    Program,
    /// A symbolic link, `l`: digest and size are those of its target's text.
    Link,
}

impl EntryKind {
    fn letter(self) -> char {
        match self {
            Self::File => 'f',
            Self::Program => 'x',
            Self::Link => 'l',
        }
    }
}

/// One file or link of a tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What it is.
    pub kind: EntryKind,
    /// Digest of its content.
    pub digest: ContentDigest,
    /// Size of its content in bytes.
    pub size: u64,
}

/// The entries of a tree by path, sorted by the path's bytes. Folders have no entry: they are where files are.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listing {
    /// By path, with `/` between its parts.
    pub entries: BTreeMap<String, Entry>,
}

/// Why a text is no listing. The line counts from 1.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {0} is not a listing's")]
pub struct ListingError(pub usize);

impl Listing {
    /// Writes the text that the tree digest is over.
    pub fn write(&self) -> String {
        let mut text = String::from(HEAD);
        for (path, entry) in &self.entries {
            let hex = entry.digest.to_hex();
            writeln!(text, "{} {hex} {} {path}", entry.kind.letter(), entry.size).expect("strings take all");
        }
        text
    }

    /// Returns the tree's digest.
    pub fn digest(&self) -> TreeDigest {
        TreeDigest::of(self.write().as_bytes())
    }

    /// Returns the size of all files together, in bytes.
    pub fn size(&self) -> u64 {
        self.entries.values().map(|entry| entry.size).sum()
    }

    /// Reads what [`Self::write`] wrote.
    ///
    /// # Errors
    /// The first line that is not a listing's, or not in its place.
    pub fn parse(text: &str) -> Result<Self, ListingError> {
        let body = text.strip_prefix(HEAD).ok_or(ListingError(1))?;
        let mut entries = BTreeMap::new();
        for (number, line) in (2..).zip(body.split_terminator('\n')) {
            let (path, entry) = parse_line(line).ok_or(ListingError(number))?;
            if entries.last_key_value().is_some_and(|(last, _)| *last >= path) {
                return Err(ListingError(number));
            }
            entries.insert(path, entry);
        }
        if body.is_empty() || body.ends_with('\n') { Ok(Self { entries }) } else { Err(ListingError(0)) }
    }
}

fn parse_line(line: &str) -> Option<(String, Entry)> {
    let mut parts = line.splitn(4, ' ');
    let kind = match parts.next()? {
        "f" => EntryKind::File,
        "x" => EntryKind::Program,
        "l" => EntryKind::Link,
        _ => return None,
    };
    let digest = ContentDigest::parse(&format!("sha256:{}", parts.next()?)).ok()?;
    // There is one text for a listing, or it would have two digests.
    let size = parts.next().filter(|text| *text == "0" || !text.starts_with(['0', '+']))?.parse().ok()?;
    let path = parts.next().filter(|path| check_entry_path(path).is_ok())?;
    Some((path.to_owned(), Entry { kind, digest, size }))
}

/// Checks that a path can be an entry's on every system.
///
/// # Errors
/// The rule it breaks.
pub fn check_entry_path(path: &str) -> Result<(), &'static str> {
    if path.is_empty() {
        return Err("it is empty");
    }
    if path.len() > 1024 {
        return Err("it is longer than 1024 bytes");
    }
    if path.chars().any(|c| c.is_control() || c == '\\') {
        return Err("it holds a control character or `\\`");
    }
    for part in path.split('/') {
        if part.is_empty() || part == "." || part == ".." {
            return Err("it has an empty part, `.` or `..`");
        }
        if part.len() > 255 {
            return Err("a part is longer than 255 bytes");
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn example() -> Listing {
        let entry = |kind, content: &str| Entry {
            kind,
            digest: ContentDigest::of(content.as_bytes()),
            size: content.len() as u64,
        };
        let entries = BTreeMap::from([
            ("bin/run me".to_owned(), entry(EntryKind::Program, "#!/bin/sh\n")),
            ("a.txt".to_owned(), entry(EntryKind::File, "")),
            ("link".to_owned(), entry(EntryKind::Link, "a.txt")),
        ]);
        Listing { entries }
    }

    #[test]
    fn the_text_is_the_one_the_page_defines() {
        let written = example().write();
        let lines: Vec<&str> = written.lines().collect();
        assert_eq!(lines[0], "yostel-tree 1");
        assert_eq!(lines[1], "f e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 0 a.txt");
        assert!(lines[2].starts_with("x ") && lines[2].ends_with(" 10 bin/run me"));
        assert!(lines[3].starts_with("l ") && lines[3].ends_with(" 5 link"));
        assert_eq!(Listing::parse(&written).unwrap(), example());
        assert_eq!(Listing::default().digest(), TreeDigest::of(b"yostel-tree 1\n"));
    }

    #[test]
    fn only_the_one_text_is_read() {
        let text = example().write();
        let swapped: Vec<&str> = text.lines().collect();
        let swapped = format!("{}\n{}\n{}\n{}\n", swapped[0], swapped[2], swapped[1], swapped[3]);
        let broken = [
            text.trim_end().to_owned(),
            text.replace("f e3", "d e3"),
            swapped,
            text.replace("a.txt", "../a"),
            text[1..].into(),
        ];
        for broken in broken {
            assert!(Listing::parse(&broken).is_err(), "{broken}");
        }
    }
}
