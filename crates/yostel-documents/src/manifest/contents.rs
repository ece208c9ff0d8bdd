//! What of a project's folder is part of its package: `[contents]`, and the patterns in it.

use globset::{ErrorKind, GlobBuilder, GlobMatcher};

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

/// A pattern of paths in a package, in the syntax of the crate `globset`: `*` and `?` stand for any part and any character of
/// one name, `**` for any folders, `[…]` for one of these characters, `{…,…}` for one of these texts, and after `\` a
/// character is itself. A pattern without `/` is that of a name, in any folder; one with `/` is that of a path from the
/// package's folder.
#[derive(Debug, Clone)]
pub struct FilePattern {
    matcher: GlobMatcher,
    is_path: bool,
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
        if path.split('/').any(|name| matches!(name, "" | "." | "..")) {
            return Err("a pattern is that of a name, or of a path from the package's folder without `.` and `..`");
        }
        let glob = GlobBuilder::new(path).literal_separator(true).backslash_escape(true).build();
        let glob = glob.map_err(|error| match error.kind() {
            ErrorKind::UnclosedClass => "its `[` has no `]`",
            ErrorKind::InvalidRange(..) => "a range between `[` and `]` ends before it begins",
            ErrorKind::UnopenedAlternates => "its `}` has no `{`",
            ErrorKind::UnclosedAlternates => "its `{` has no `}`",
            ErrorKind::DanglingEscape => "nothing follows its last `\\`",
            _ => "it is no pattern",
        })?;
        Ok(Self { matcher: glob.compile_matcher(), is_path })
    }

    /// Writes the pattern that names a path and no other of its folder.
    pub fn text_of(path: &str) -> String {
        globset::escape(path)
    }

    /// Tells whether it names a file or folder, by its path from the package's folder.
    pub fn names(&self, path: &str) -> bool {
        let of = if self.is_path { path } else { path.rsplit('/').next().unwrap_or(path) };
        self.matcher.is_match(of)
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
            leave_out: all(&["target", "*.o", "/docs/drafts/", "maps/{raw,old}-?.csv", "a\\*b"]),
            ..Default::default()
        };
        for out in ["target", "deep/target", "gust.o", "a/b/c.o", "docs/drafts", "maps/raw-1.csv", "x/a*b"] {
            assert!(contents.leaves_out(out), "{out}");
        }
        for stays in
            ["targets", "gust.oo", "x/docs/drafts", "docs/drafts.md", "maps/raw-12.csv", "maps/x/raw-1.csv", "axb"]
        {
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
        for text in ["", "/", "a//b", "./a", "a/../b", "[z-a]", "{a", "a\u{7}", &"a".repeat(201)] {
            assert!(FilePattern::parse(text).is_err(), "{text:?}");
        }
        // However many stars, a pattern is compared in time that its length bounds.
        let many = FilePattern::parse(&("a*".repeat(99) + "c")).unwrap();
        assert!(!many.names(&"a".repeat(255)));
    }
}
