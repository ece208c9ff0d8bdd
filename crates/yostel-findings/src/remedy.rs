//! What ends a finding, as data: texts to write, then commands to run.

/// What ends a finding: first the edits, then the commands, one after the other.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remedy {
    /// Edits of manifests.
    pub edits: Vec<TextEdit>,
    /// Commands, as they are typed at the workspace's root.
    pub commands: Vec<String>,
}

/// One part of a file to write anew. Lines and columns count from 1, columns in characters; the end is the first that stays.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextEdit {
    /// The file, relative to the workspace's root.
    pub file: String,
    /// Line and column where it begins.
    pub from: (usize, usize),
    /// Line and column where what stays goes on.
    pub to: (usize, usize),
    /// What to write there.
    pub with: String,
}

impl TextEdit {
    /// Finds the shortest part of a text that must be written anew to get another, in whole lines; nothing when they are the
    /// same.
    pub fn between(file: &str, before: &str, after: &str) -> Option<Self> {
        if before == after {
            return None;
        }
        let (old, new): (Vec<&str>, Vec<&str>) =
            (before.split_inclusive('\n').collect(), after.split_inclusive('\n').collect());
        let start = old.iter().zip(&new).take_while(|(one, other)| one == other).count();
        let most = old.len().min(new.len()) - start;
        let same_end = |at: &usize| old[old.len() - 1 - at] == new[new.len() - 1 - at];
        let end = (0..most).take_while(same_end).count();
        // What ends without a line break ends within its last line.
        let to = match old.last().filter(|last| end == 0 && !last.ends_with('\n')) {
            Some(last) => (old.len(), last.chars().count() + 1),
            None => (old.len() - end + 1, 1),
        };
        let with = new[start..new.len() - end].concat();
        // A line that goes after the last one, which has no line break.
        let from = match old.get(start.wrapping_sub(1)).filter(|last| start == old.len() && !last.ends_with('\n')) {
            Some(last) => (start, last.chars().count() + 1),
            None => (start + 1, 1),
        };
        Some(Self { file: file.to_owned(), from, to, with })
    }

    /// Makes the edit in a text that is as it was.
    pub fn apply(&self, text: &str) -> String {
        let at = |(line, column): (usize, usize)| {
            let start: usize = text.split_inclusive('\n').take(line - 1).map(str::len).sum();
            let within: usize = text[start..].chars().take(column - 1).map(char::len_utf8).sum();
            start + within
        };
        format!("{}{}{}", &text[..at(self.from)], self.with, &text[at(self.to)..])
    }
}
