//! Unified diffs, as `diff -u`, `patch` and version control share them: POSIX.1-2024 `diff`, "Diff -u Output Format",
//! with the headers that version control adds for files that are new, gone, or changed their mode.

use std::fmt::{self, Write};

use super::EntryKind;
use super::listing::check_entry_path;

/// Changes to the files of a tree.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Patch {
    /// By path, sorted; no path twice.
    pub files: Vec<FilePatch>,
}

/// Changes to one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilePatch {
    /// The path.
    pub path: String,
    /// What it was; nothing for a new file. A patch that does not tell says [`EntryKind::File`], which then stands for a
    /// program too.
    pub before: Option<EntryKind>,
    /// What it becomes; nothing for a file that goes.
    pub after: Option<EntryKind>,
    /// Its changed places, from top to bottom.
    pub hunks: Vec<Hunk>,
}

/// One changed place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hunk {
    /// The first line it takes, from 1; the line before it when it takes none.
    pub old_start: usize,
    /// The same in what it becomes.
    pub new_start: usize,
    /// Its lines.
    pub lines: Vec<HunkLine>,
    /// Where it is in the patch's text, from 1; 0 when it was not read from one.
    pub at: usize,
}

/// A line of a hunk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HunkLine {
    /// What happens to it.
    pub mark: Mark,
    /// Its text with its line feed, which only a file's last line can lack.
    pub text: String,
}

/// What happens to a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// It stays.
    Same,
    /// It goes.
    Removed,
    /// It comes.
    Added,
}

/// Why a text is no patch. The line counts from 1.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {reason}")]
pub struct PatchError {
    /// Line of the text.
    pub line: usize,
    /// What is wrong there.
    pub reason: &'static str,
}

impl Mark {
    /// Returns the sign that a diff writes before the line.
    pub fn sign(self) -> char {
        match self {
            Self::Same => ' ',
            Self::Removed => '-',
            Self::Added => '+',
        }
    }
}

impl Hunk {
    /// Counts its lines before and after.
    pub fn lengths(&self) -> (usize, usize) {
        let count = |other: Mark| self.lines.iter().filter(|line| line.mark != other).count();
        (count(Mark::Added), count(Mark::Removed))
    }
}

impl fmt::Display for Hunk {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (old, new) = self.lengths();
        writeln!(f, "@@ -{} +{} @@", range(self.old_start, old), range(self.new_start, new))?;
        for line in &self.lines {
            write!(f, "{}{}", line.mark.sign(), line.text)?;
            if !line.text.ends_with('\n') {
                writeln!(f, "\n{NO_LINE_FEED}")?;
            }
        }
        Ok(())
    }
}

fn range(start: usize, length: usize) -> String {
    if length == 1 { start.to_string() } else { format!("{start},{length}") }
}

const NO_LINE_FEED: &str = "\\ No newline at end of file";
const NOWHERE: &str = "/dev/null";

fn mode(kind: EntryKind) -> &'static str {
    match kind {
        EntryKind::File => "100644",
        EntryKind::Program => "100755",
        EntryKind::Link => "120000",
    }
}

fn kind_of(mode: &str) -> Option<EntryKind> {
    match mode {
        "100644" | "100664" => Some(EntryKind::File),
        "100755" | "100775" => Some(EntryKind::Program),
        "120000" => Some(EntryKind::Link),
        _ => None,
    }
}

impl Patch {
    /// Writes the text of the patch.
    pub fn write(&self) -> String {
        let mut text = String::new();
        for file in &self.files {
            file.write(&mut text);
        }
        text
    }

    /// Reads a patch. What is before the first file is passed over, as is custom.
    ///
    /// # Errors
    /// The first line that is not a patch's, or that changes a path no package can have.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::Patch;
    /// let patch = Patch::parse("--- a/limits.txt\n+++ b/limits.txt\n@@ -1 +1 @@\n-12\n+14\n").unwrap();
    /// assert_eq!(patch.files[0].path, "limits.txt");
    /// ```
    pub fn parse(text: &str) -> Result<Self, PatchError> {
        let mut reader = Reader { lines: text.split_inclusive('\n').collect(), at: 0 };
        let mut patch = Self::default();
        while reader.find_file() {
            let at = reader.at;
            let file = reader.file()?;
            if check_entry_path(&file.path).is_err() {
                return Err(PatchError { line: at + 1, reason: "no package can have a file with this path" });
            }
            patch.files.push(file);
        }
        if patch.files.is_empty() {
            return Err(PatchError { line: 1, reason: "it changes no file" });
        }
        patch.files.sort_by(|a, b| a.path.cmp(&b.path));
        if patch.files.windows(2).any(|pair| pair[0].path == pair[1].path) {
            return Err(PatchError { line: 1, reason: "it changes one file twice" });
        }
        Ok(patch)
    }
}

impl FilePatch {
    fn write(&self, text: &mut String) {
        // A path with a space ends with a tab, or where it ends could not be told.
        let tab = if self.path.contains(' ') { "\t" } else { "" };
        let mut line = |line: String| writeln!(text, "{line}").expect("strings take all");
        line(format!("diff --git a/{0} b/{0}", self.path));
        match (self.before, self.after) {
            (None, Some(after)) => line(format!("new file mode {}", mode(after))),
            (Some(before), None) => line(format!("deleted file mode {}", mode(before))),
            (Some(before), Some(after)) if before != after => {
                line(format!("old mode {}", mode(before)));
                line(format!("new mode {}", mode(after)));
            }
            _ => {}
        }
        if self.hunks.is_empty() {
            return;
        }
        let side = |there: bool, letter: char| match there {
            true => format!("{letter}/{}{tab}", self.path),
            false => NOWHERE.to_owned(),
        };
        line(format!("--- {}", side(self.before.is_some(), 'a')));
        line(format!("+++ {}", side(self.after.is_some(), 'b')));
        for hunk in &self.hunks {
            text.push_str(&hunk.to_string());
        }
    }
}

struct Reader<'t> {
    lines: Vec<&'t str>,
    at: usize,
}

impl<'t> Reader<'t> {
    fn peek(&self) -> Option<&'t str> {
        self.lines.get(self.at).map(|line| line.strip_suffix('\n').unwrap_or(line))
    }

    fn wrong<T>(&self, reason: &'static str) -> Result<T, PatchError> {
        Err(PatchError { line: self.at + 1, reason })
    }

    /// Passes over everything up to the next file.
    fn find_file(&mut self) -> bool {
        while let Some(line) = self.peek() {
            let next = self.lines.get(self.at + 1).is_some_and(|next| next.starts_with("+++ "));
            if line.starts_with("diff --git ") || line.starts_with("--- ") && next {
                return true;
            }
            self.at += 1;
        }
        false
    }

    fn file(&mut self) -> Result<FilePatch, PatchError> {
        let mut path = None;
        let (mut before, mut after) = (Some(EntryKind::File), Some(EntryKind::File));
        if let Some(names) = self.peek().and_then(|line| line.strip_prefix("diff --git ")) {
            path = Some(self.name_in_both(names)?);
            self.at += 1;
            while let Some(line) = self.peek() {
                let mode = |text: &str| {
                    let kind = kind_of(text.trim_end());
                    kind.ok_or(PatchError { line: self.at + 1, reason: "no package can have a file of this mode" })
                };
                if let Some(text) = line.strip_prefix("old mode ") {
                    before = Some(mode(text)?);
                } else if let Some(text) = line.strip_prefix("new mode ") {
                    after = Some(mode(text)?);
                } else if let Some(text) = line.strip_prefix("new file mode ") {
                    (before, after) = (None, Some(mode(text)?));
                } else if let Some(text) = line.strip_prefix("deleted file mode ") {
                    (before, after) = (Some(mode(text)?), None);
                } else if line.starts_with("index ") {
                    // `index ABC..DEF MODE` tells the mode of both.
                    if let Some(kind) = line.rsplit_once(' ').and_then(|(_, text)| kind_of(text)) {
                        (before, after) = (Some(kind), Some(kind));
                    }
                } else if line.starts_with("GIT binary patch") || line.starts_with("Binary files ") {
                    return self.wrong("it changes a file that is not text; publish a package instead");
                } else if line.starts_with("rename ") || line.starts_with("copy ") || line.starts_with("similarity ") {
                    return self.wrong("it renames or copies a file; write it as one that goes and one that is new");
                } else {
                    break;
                }
                self.at += 1;
            }
        }
        let mut hunks = Vec::new();
        if let Some(old) = self.peek().and_then(|line| line.strip_prefix("--- ")) {
            let old = self.side(old, "a/")?;
            self.at += 1;
            let Some(new) = self.peek().and_then(|line| line.strip_prefix("+++ ")) else {
                return self.wrong("after `--- ` there should be a line that begins with `+++ `");
            };
            let new = self.side(new, "b/")?;
            if old.is_none() {
                before = None;
            }
            if new.is_none() {
                after = None;
            }
            let told = match (&old, &new) {
                (Some(old), Some(new)) if old != new => {
                    return self.wrong("it renames a file; write it as one that goes and one that is new");
                }
                (Some(name), _) | (None, Some(name)) => name.clone(),
                (None, None) => return self.wrong("both sides are /dev/null"),
            };
            if path.as_ref().is_some_and(|path| *path != told) {
                return self.wrong("the two headers name different files");
            }
            path = Some(told);
            self.at += 1;
            while self.peek().is_some_and(|line| line.starts_with("@@ ")) {
                hunks.push(self.hunk()?);
            }
            if hunks.is_empty() {
                return self.wrong("here should be a hunk, which begins with `@@ `");
            }
        }
        let Some(path) = path else { return self.wrong("it names no file") };
        if hunks.windows(2).any(|pair| pair[0].old_start + pair[0].lengths().0 > pair[1].old_start) {
            return self.wrong("its hunks overlap or are out of order");
        }
        Ok(FilePatch { path, before, after, hunks })
    }

    /// Reads `a/PATH b/PATH`, which is one path twice.
    fn name_in_both(&self, names: &str) -> Result<String, PatchError> {
        // A path may end in a space.
        let names = names.trim_end_matches('\r');
        let half = names.len() / 2;
        let halves = names.get(..half).zip(names.get(half + 1..));
        match halves.and_then(|(old, new)| Some((old.strip_prefix("a/")?, new.strip_prefix("b/")?))) {
            Some((old, new)) if old == new => Ok(old.to_owned()),
            _ => self.wrong("it should be `a/PATH b/PATH` with one unquoted path twice"),
        }
    }

    /// Reads the path after `--- ` or `+++ `; nothing for a file that is not there.
    fn side(&self, text: &str, prefix: &str) -> Result<Option<String>, PatchError> {
        // What follows a tab is a time, or nothing.
        let text = text.split('\t').next().unwrap_or(text).trim_end_matches('\r');
        if text == NOWHERE {
            return Ok(None);
        }
        if text.starts_with('"') {
            return self.wrong("the path is quoted; write it as it is");
        }
        Ok(Some(text.strip_prefix(prefix).unwrap_or(text).to_owned()))
    }

    fn hunk(&mut self) -> Result<Hunk, PatchError> {
        let at = self.at + 1;
        let head = self.peek().unwrap_or_default();
        let read = |part: &str, sign: char| {
            let (start, length) = part.strip_prefix(sign)?.split_once(',').unwrap_or((&part[1..], "1"));
            // More lines than fit into 32 bits are in no file that is patched.
            Some((start.parse::<u32>().ok()? as usize, length.parse::<u32>().ok()? as usize))
        };
        let mut words = head.split(' ').skip(1);
        let ranges = words.next().and_then(|old| read(old, '-')).zip(words.next().and_then(|new| read(new, '+')));
        let (Some(((old_start, mut old), (new_start, mut new))), Some("@@")) = (ranges, words.next()) else {
            return self.wrong("a hunk begins like `@@ -1,3 +1,4 @@`");
        };
        self.at += 1;
        let mut lines: Vec<HunkLine> = Vec::new();
        while old > 0 || new > 0 {
            let Some(line) = self.lines.get(self.at) else { return self.wrong("the hunk ends early") };
            let mark = match line.as_bytes().first() {
                Some(b' ') if old > 0 && new > 0 => Mark::Same,
                Some(b'-') if old > 0 => Mark::Removed,
                Some(b'+') if new > 0 => Mark::Added,
                // Editors cut the space from an empty line.
                Some(b'\n') if old > 0 && new > 0 => Mark::Same,
                Some(b'\\') => {
                    self.no_line_feed(&mut lines)?;
                    continue;
                }
                _ => return self.wrong("the hunk has more or fewer lines than its head says"),
            };
            old -= usize::from(mark != Mark::Added);
            new -= usize::from(mark != Mark::Removed);
            let text = line.strip_prefix(mark.sign()).unwrap_or(line).to_owned();
            lines.push(HunkLine { mark, text });
            self.at += 1;
        }
        if self.peek().is_some_and(|line| line.starts_with('\\')) {
            self.no_line_feed(&mut lines)?;
        }
        // A patch whose own last line was cut lacks a line feed that its file has.
        if let Some(last) = lines.last_mut()
            && !last.text.ends_with('\n')
            && self.lines.get(self.at - 1).is_some_and(|line| !line.starts_with('\\'))
        {
            last.text.push('\n');
        }
        Ok(Hunk { old_start, new_start, lines, at })
    }

    fn no_line_feed(&mut self, lines: &mut [HunkLine]) -> Result<(), PatchError> {
        match lines.last_mut() {
            Some(last) if last.text.ends_with('\n') => drop(last.text.pop()),
            _ => return self.wrong("there is no line here that could lack its end"),
        }
        self.at += 1;
        Ok(())
    }
}
