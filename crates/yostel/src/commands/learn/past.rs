//! A project of the made-up world with a past: a repository with a commit for each change of two years, each with the
//! lockfile of its day.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;

use jiff::Timestamp;
use serde::Deserialize;
use yostel_files::FileError;
use yostel_flows::{Context, FlowError, Keep, LockRequest, Settings, Silent, load_project, lock};

use super::world::{FILES, day};

/// Its folder.
pub(super) const PROJECT: &str = "line-watch";

#[derive(Deserialize)]
struct Past {
    commit: Vec<PastCommit>,
}

/// What was committed on a day.
#[derive(Deserialize)]
struct PastCommit {
    on: String,
    says: String,
    needs: BTreeMap<String, String>,
    /// Whether what was locked was not kept.
    #[serde(default)]
    anew: bool,
    /// The lines of its `[policy]`.
    #[serde(default)]
    policy: String,
}

/// Makes the project. Without a git program it has its last state and no past.
pub(super) fn make_past(root: &Path, settings: &Settings) -> Result<(), FlowError> {
    let folder = root.join(PROJECT);
    fs::create_dir_all(&folder).map_err(FileError::when("make the folder", &folder))?;
    let has_git = git(&folder, &["init", "-q", "-b", "main"], None);
    let write = |name: &str, text: &str| {
        let path = folder.join(name);
        fs::write(&path, text).map_err(FileError::when("write", path))
    };
    write(".gitignore", ".yostel/\n")?;
    for commit in read_past().commit {
        let needs: String =
            commit.needs.iter().map(|(package, accept)| format!("{package} = \"{accept}\"\n")).collect();
        let head = "[project]\nname = \"ropeway/line-watch\"\nversion = \"1.0.0\"\n";
        let policy = match commit.policy.as_str() {
            "" => String::new(),
            lines => format!("\n[policy]\n{lines}\n"),
        };
        let sources = "[sources.station]\nfolder = \"../station\"\n";
        write("yostel.toml", &format!("{head}\n[needs.run]\n{needs}\n{sources}{policy}"))?;
        let now = day(&commit.on);
        let settings = Settings { now, ..settings.clone() };
        let keep = if commit.anew { Keep::Nothing } else { Keep::Locked };
        let request = LockRequest { keep, as_of: Some(now), ..LockRequest::default() };
        lock(&load_project(&folder, &settings)?, request, &Context::new(&settings, &Silent))?;
        if has_git {
            git(&folder, &["add", "."], None);
            git(&folder, &["commit", "-q", "-m", &commit.says], Some(now));
        }
    }
    Ok(())
}

/// Runs git, without anybody's settings. Returns whether it did what it should.
fn git(folder: &Path, arguments: &[&str], at: Option<Timestamp>) -> bool {
    let mut command = Command::new("git");
    for (name, _) in std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with("GIT_")) {
        command.env_remove(name);
    }
    command.current_dir(folder).env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1");
    if let Some(at) = at {
        let at = format!("{} +0000", at.as_second());
        command.env("GIT_AUTHOR_DATE", &at).env("GIT_COMMITTER_DATE", &at);
    }
    let who = ["-c", "user.name=Ida", "-c", "user.email=ida@ropeway.example", "-c", "core.hooksPath=/dev/null"];
    command.args(who).args(arguments).output().is_ok_and(|output| output.status.success())
}

fn read_past() -> Past {
    let (_, _, content) = FILES.iter().find(|(path, ..)| *path == "line-watch.toml").expect("the demo has a past");
    let text = std::str::from_utf8(content).expect("the past is text");
    toml::from_str(text).expect("the past is read by a test")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_past_goes_over_two_years_and_forward() {
        let days: Vec<Timestamp> = read_past().commit.iter().map(|commit| day(&commit.on)).collect();
        assert!(days.is_sorted() && days.len() >= 8);
        let span = days[days.len() - 1].as_second() - days[0].as_second();
        assert!(span > 600 * 86_400, "{span}");
    }
}
