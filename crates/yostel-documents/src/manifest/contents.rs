//! What of a project's folder is part of its package: `[contents]`, and the patterns in it.

use std::collections::BTreeSet;

use glob::Pattern;

/// Longest pattern that is read, in bytes.
const MOST_PATTERN: usize = 200;

/// The `[contents]` table.
#[derive(Debug, Clone, Default)]
pub struct Contents {
    /// What is left out, besides what always is.
    pub leave_out: Vec<FilePattern>,
    /// Files that look as if they held secrets, and hold none.
    pub no_secrets: Vec<FilePattern>,
}

impl Contents {
    /// Tells whether a file or folder is left out, by its path from the package's folder; what is in a folder that is left
    /// out is not asked about.
    pub fn leaves_out(&self, path: &str) -> bool {
        self.leave_out.iter().any(|pattern| pattern.names(path))
    }

    /// Tells whether a file is said to hold no secret: itself, or a folder that it is in.
    pub fn holds_no_secret(&self, path: &str) -> bool {
        let ends = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
        ends.into_iter().any(|end| self.no_secrets.iter().any(|pattern| pattern.names(&path[..end])))
    }
}

/// A pattern of paths in a package. In a name, `*` stands for any part, `?` for any character and `[…]` for one of these, as
/// the crate `glob` has it; `**` alone between `/` stands for any folders, or none. A pattern without `/` is that of a name,
/// in any folder; one with `/` is that of a path from the package's folder.
#[derive(Debug, Clone)]
pub struct FilePattern {
    parts: Vec<Part>,
    is_path: bool,
}

/// What is between two `/` of a pattern.
#[derive(Debug, Clone)]
enum Part {
    Folders,
    Name(Pattern),
}

impl FilePattern {
    /// Reads one.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::FilePattern;
    /// let pattern = FilePattern::parse("*.log").unwrap();
    /// assert!(pattern.names("gust.log") && pattern.names("runs/gust.log") && !pattern.names("gust.log.md"));
    /// let pattern = FilePattern::parse("/runs/**/raw-*").unwrap();
    /// assert!(pattern.names("runs/raw-1") && pattern.names("runs/may/12/raw-2") && !pattern.names("old/runs/raw-1"));
    /// assert!(FilePattern::parse("../*").is_err() && FilePattern::parse("[a").is_err());
    /// ```
    pub fn parse(text: &str) -> Result<Self, &'static str> {
        if text.len() > MOST_PATTERN {
            return Err("it has more than 200 bytes");
        }
        if text.chars().any(char::is_control) {
            return Err("it holds a control character");
        }
        let path = text.strip_suffix('/').unwrap_or(text);
        let (path, is_path) = match path.strip_prefix('/') {
            Some(below) => (below, true),
            None => (path, path.contains('/')),
        };
        let part = |part: &str| match part {
            "" | "." | ".." => {
                Err("a pattern is that of a name, or of a path from the package's folder without `.` and `..`")
            }
            "**" => Ok(Part::Folders),
            name if name.contains("**") => Err("`**` stands for folders, alone between `/`"),
            name => Pattern::new(name).map(Part::Name).map_err(|_| "its `[` has no `]`"),
        };
        Ok(Self { parts: path.split('/').map(part).collect::<Result<_, _>>()?, is_path })
    }

    /// Writes the pattern that names a path and no other of its folder.
    pub fn text_of(path: &str) -> String {
        Pattern::escape(path)
    }

    /// Tells whether it names a file or folder, by its path from the package's folder.
    pub fn names(&self, path: &str) -> bool {
        let path = if self.is_path { path } else { path.rsplit('/').next().unwrap_or(path) };
        // After each part of the pattern: how many names of the path may have been passed by then.
        let names: Vec<&str> = path.split('/').collect();
        let mut passed = BTreeSet::from([0]);
        for part in &self.parts {
            passed = match part {
                Part::Folders => passed.first().map_or_else(BTreeSet::new, |first| (*first..=names.len()).collect()),
                Part::Name(pattern) => {
                    let fits = |at: &&usize| names.get(**at).is_some_and(|name| pattern.matches(name));
                    passed.iter().filter(fits).map(|at| at + 1).collect()
                }
            };
        }
        passed.contains(&names.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(patterns: &[&str]) -> Vec<FilePattern> {
        patterns.iter().map(|text| FilePattern::parse(text).unwrap()).collect()
    }

    #[test]
    fn patterns_name_what_their_page_says() {
        let contents = Contents {
            leave_out: all(&["target", "*.o", "/docs/drafts/", "maps/[ro]*-?.csv", "a[*]b", "a/**/b/**/c"]),
            ..Default::default()
        };
        for out in [
            "target",
            "deep/target",
            "gust.o",
            "a/b/c.o",
            "docs/drafts",
            "maps/raw-1.csv",
            "x/a*b",
            "a/b/c",
            "a/x/b/y/z/c",
        ] {
            assert!(contents.leaves_out(out), "{out}");
        }
        for stays in [
            "targets",
            "gust.oo",
            "x/docs/drafts",
            "docs/drafts.md",
            "maps/raw-12.csv",
            "maps/x/raw-1.csv",
            "axb",
            "a/c",
            "x/a/b/c",
            "a/b/c/d",
        ] {
            assert!(!contents.leaves_out(stays), "{stays}");
        }
    }

    #[test]
    fn what_a_folder_is_said_to_hold_counts_for_all_in_it() {
        let contents = Contents { no_secrets: all(&["tests/keys", "*.pem"]), ..Default::default() };
        assert!(contents.holds_no_secret("tests/keys/server/id_ed25519") && contents.holds_no_secret("a/b.pem"));
        assert!(!contents.holds_no_secret("tests/key") && !contents.holds_no_secret("keys/server"));
    }

    #[test]
    fn a_path_is_named_by_the_pattern_that_is_written_for_it() {
        for path in ["keys/[a]*.p12", ".env", "a{b,c}/d?"] {
            let pattern = FilePattern::parse(&FilePattern::text_of(path)).unwrap();
            assert!(pattern.names(path) && !pattern.names("keys/a.p12"), "{path}");
        }
    }

    #[test]
    fn what_is_no_pattern_is_said() {
        for text in ["", "/", "a//b", "./a", "a/../b", "[a", "a**", "a/**b/c", "a\u{7}", &"a".repeat(201)] {
            assert!(FilePattern::parse(text).is_err(), "{text:?}");
        }
        // However many stars, a pattern is compared in time that its length and the path's bound.
        let many = FilePattern::parse(&("a*".repeat(99) + "c")).unwrap();
        assert!(!many.names(&"a".repeat(255)));
        let many = FilePattern::parse(&("**/a*a*a*b/".repeat(16) + "c")).unwrap();
        assert!(!many.names(&"aaaaaaaaaaaa/".repeat(78)));
    }
}
