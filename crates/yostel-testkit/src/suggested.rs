//! What the program suggests is run: in a copy of the sandbox, as somebody would who reads it.

use std::ffi::OsStr;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Set to a file, it has every suggestion run, and noted there: status, suggestion, and what it was said to.
pub(crate) const TRY_SUGGESTIONS: &str = "YOSTEL_TRY_SUGGESTIONS";

/// Statuses that no suggestion may lead to: wrong usage, and a fault of the program itself.
const NEVER: [i32; 2] = [2, 70];

/// Lists the commands that a text suggests whole: nothing in them is to be filled in.
pub(crate) fn suggested(text: &str) -> Vec<Vec<String>> {
    let lines = text.lines().filter_map(|line| {
        let line = line.trim_start();
        line.strip_prefix("next: ").or_else(|| line.strip_prefix("or: "))
    });
    let whole = |command: &Vec<String>| {
        let open = |word: &String| {
            word.contains(['…', '['])
                || word.split_once('<').is_some_and(|(_, after)| after.contains('>'))
                || (word.len() > 1 && word.chars().all(|c| c.is_ascii_uppercase() || c == '-' || c == '_'))
        };
        !command.is_empty() && !command.iter().any(open)
    };
    lines.flat_map(commands).filter(whole).collect()
}

/// Reads `yostel add x '^1', then yostel lock, to …` as two commands, the words of each without the program's name.
fn commands(line: &str) -> Vec<Vec<String>> {
    let mut all = Vec::new();
    let mut rest = line;
    while let Some(command) = rest.strip_prefix("yostel ") {
        let (words, after) = words(command);
        all.push(words);
        rest = after.trim_start_matches(", then ").trim_start_matches(", or ").trim_start_matches(" && ");
    }
    all
}

/// Reads words as a shell does, up to a comma or the end.
fn words(text: &str) -> (Vec<String>, &str) {
    let (mut all, mut word, mut quoted, mut any) = (Vec::new(), String::new(), false, false);
    let mut end = text.len();
    for (at, c) in text.char_indices() {
        match c {
            '\'' => (quoted, any) = (!quoted, true),
            ',' if !quoted && text[at..].starts_with(", ") => {
                end = at;
                break;
            }
            '&' if !quoted => {
                end = at - 1;
                break;
            }
            ' ' if !quoted => {
                if any || !word.is_empty() {
                    all.push(std::mem::take(&mut word));
                }
                any = false;
            }
            c => word.push(c),
        }
    }
    if any || !word.is_empty() {
        all.push(word);
    }
    (all, &text[end..])
}

/// Runs what a text suggests, one after the other, each line from where the sandbox is now.
///
/// # Panics
/// When a suggestion ends as none may.
pub(crate) fn try_all(root: &Path, said_to: &Command, text: &str) {
    let Some(notes) = std::env::var_os(TRY_SUGGESTIONS) else { return };
    let folder = said_to.get_current_dir().and_then(|folder| folder.strip_prefix(root).ok()).map(Path::to_owned);
    // A walk through commands tells what those said, in folders of their own.
    let is_walk = said_to.get_args().next().is_some_and(|word| word == "demo");
    let (Some(folder), false) = (folder, is_walk) else { return };
    // Where something else is in the manifest's place, there is no good way out but to remove it.
    let manifest = root.join(&folder).join("yostel.toml");
    let is_trap = manifest.symlink_metadata().is_ok() && !manifest.is_file();
    // What can be undone is remembered of a folder, and the copy is another.
    let is_undo = |command: &Vec<String>| command.first().is_some_and(|word| word == "undo");
    for command in suggested(text).into_iter().filter(|command| !is_trap && !is_undo(command)) {
        let copy = tempfile::tempdir().unwrap();
        let copied = Command::new("cp").args(["-a", "--"]).arg(root.join(".")).arg(copy.path()).output();
        // Trees thousands of levels deep are more than that program can copy.
        if !copied.unwrap().status.success() {
            continue;
        }
        let moved = |word: &String| word.replace(&*root.to_string_lossy(), &copy.path().to_string_lossy());
        let command: Vec<String> = command.iter().map(moved).collect();
        let status = run(&copy.path().join(&folder), root, copy.path(), said_to, &command);
        let words: Vec<String> = said_to.get_args().map(|word| word.to_string_lossy().into_owned()).collect();
        let line = format!("{status}\t{}\t{}\n", command.join(" "), words.join(" ").replace(['\n', '\t'], " "));
        note(&PathBuf::from(&notes), &line);
        assert!(!NEVER.contains(&status), "`yostel {}` ends with {status}, said to {words:?}", command.join(" "));
    }
}

fn run(folder: &Path, root: &Path, copy: &Path, said_to: &Command, words: &[String]) -> i32 {
    let mut command = Command::new(said_to.get_program());
    command.args(words).current_dir(folder).env_clear().stdin(Stdio::null());
    for (key, value) in said_to.get_envs() {
        let Some(value) = value else { continue };
        let moved = Path::new(value).strip_prefix(root).map(|below| copy.join(below));
        command.env(key, moved.as_deref().map_or(value, |path| OsStr::new(path)));
    }
    command.output().unwrap().status.code().unwrap_or(-1)
}

fn note(file: &Path, line: &str) {
    fs::create_dir_all(file.parent().unwrap()).unwrap();
    let mut file = OpenOptions::new().create(true).append(true).open(file).unwrap();
    file.write_all(line.as_bytes()).unwrap();
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_commands_are_read_as_a_shell_reads_them() {
        let of = |text: &str| suggested(text).into_iter().map(|words| words.join("|")).collect::<Vec<_>>();
        assert_eq!(of("next: yostel lock\n"), ["lock"]);
        assert_eq!(of("  or: yostel add gust '>=1, <3', then yostel lock, to try it\n"), ["add|gust|>=1, <3", "lock"]);
        assert_eq!(of("next: yostel settle --preview 1, or yostel settle 1\n"), ["settle|--preview|1", "settle|1"]);
        assert_eq!(of("next: yostel publish --to REGISTRY\nnext: write \"x\"\nnote: yostel lock\n"), [""; 0]);
        assert_eq!(of("next: yostel alter x --keep --why \"…\"\n"), [""; 0]);
    }
}
