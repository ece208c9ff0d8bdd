//! What git is answered, which calls `compare --for-git` for diffs of lockfiles.
//!
//! As `diff.NAME.textconv` it is called with one file, and what it prints is what git compares; as `diff.NAME.command`
//! with seven or nine words (gitattributes(5), "Defining an external diff driver"), and what it prints is the diff. Git
//! takes any status but 0 for a failure, and shows no diff at all then.

use std::fmt::Write;
use std::path::Path;

use similar::TextDiff;
use yostel_answers::words::cause_words;
use yostel_documents::Lockfile;
use yostel_flows::{MOST_LOCKFILE, Settings, compare_texts};

use super::words::table;
use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::sanitise::sanitise;

/// Answers what git asked for.
pub(super) fn run(words: &[String], call: &Call) -> Answer {
    let text = |file: &str| {
        // What is not there on one side.
        if file == "/dev/null" {
            return String::new();
        }
        let bytes = call.settings.files.read(&call.folder.join(file), MOST_LOCKFILE);
        bytes.unwrap_or_else(|error| format!("{file} cannot be read: {error}\n"))
    };
    let stdout = match words {
        [path, old, _, _, new, _, _, ..] => diff(path, &text(old), &text(new), &call.settings),
        [file, ..] => plain(&text(file)),
        [] => String::new(),
    };
    Answer::words(Exit::Fine, stdout)
}

/// Tells what a change means; where one side is no lockfile, as in a merge that is not finished, the lines that differ.
fn diff(path: &str, old: &str, new: &str, settings: &Settings) -> String {
    match compare_texts((Path::new(path), old), (Path::new(path), new), &settings.platform) {
        Ok(comparison) => table(&comparison, &sanitise(path), settings.now, &cause_words, (&|_| false, usize::MAX)),
        Err(_) => {
            let diff = TextDiff::from_lines(old, new).unified_diff().context_radius(3).header(path, path).to_string();
            diff.split_inclusive('\n').map(|line| sanitise(line.trim_end_matches('\n')) + "\n").collect()
        }
    }
}

/// Writes a lockfile with a line for each thing that may change, so that a line that differs says what changed; a text that
/// is none as it is.
fn plain(text: &str) -> String {
    let Ok(lockfile) = Lockfile::parse(text) else {
        return text.split_inclusive('\n').map(|line| sanitise(line.trim_end_matches('\n')) + "\n").collect();
    };
    let mut plain = String::new();
    for (name, locked) in lockfile.chosen.iter() {
        let purposes: Vec<&str> = locked.purposes.iter().map(|purpose| purpose.as_str()).collect();
        let forced = if locked.forced { ", forced" } else { "" };
        let altered = if locked.altered.is_some() { ", with a patch" } else { "" };
        let mut line = |says: String| writeln!(plain, "{}", sanitise(&says)).expect("a text takes what is written");
        line(format!("{name} {}{forced}{altered}", locked.version));
        line(format!("  from {}, for {}", locked.from, purposes.join(", ")));
        for artifact in &locked.artifacts {
            line(format!("  {} {}, {} bytes", artifact.platform, artifact.digest, artifact.size));
        }
        for asked in &locked.asked_by {
            line(format!("  asked for by {} ({}) for {}", asked.who.name(), asked.accept, asked.purpose));
        }
    }
    plain
}
