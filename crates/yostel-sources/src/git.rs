//! Repositories, by the git program of the machine: its credentials, proxies and keys are the user's own.
//!
//! Nothing of a repository is run, and nothing outside the folders given is written. Submodules are not followed.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use yostel_core::GitAt;

/// What can go wrong with a repository.
#[derive(Debug, thiserror::Error)]
pub enum GitError {
    /// There is no git program.
    #[error("the program git cannot be run")]
    NoProgram(#[source] io::Error),
    /// The repository cannot be asked.
    #[error("{address} cannot be asked: {said}")]
    Unreachable {
        /// Its address.
        address: String,
        /// What git said last.
        said: String,
    },
    /// It has no such branch or tag.
    #[error("{address} has no {what}")]
    NoSuchRef {
        /// Its address.
        address: String,
        /// What was looked for.
        what: String,
    },
    /// It does not have the commit.
    #[error("{address} does not have commit {commit} (any more)")]
    NoSuchCommit {
        /// Its address.
        address: String,
        /// The commit.
        commit: String,
    },
    /// The commit has no such folder.
    #[error("commit {commit} of {address} has no folder {folder}")]
    NoSuchFolder {
        /// The repository's address.
        address: String,
        /// The commit.
        commit: String,
        /// The folder.
        folder: String,
    },
    /// A folder for the work cannot be written.
    #[error("cannot write {}", path.display())]
    Write {
        /// Where.
        path: PathBuf,
        /// Why.
        #[source]
        cause: io::Error,
    },
}

fn git(folder: Option<&Path>) -> Command {
    let mut command = Command::new("git");
    // A hook of the project's own repository may have started us: its variables are not for this one.
    for (name, _) in std::env::vars_os() {
        let name = name.to_string_lossy().into_owned();
        let own =
            ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR", "GIT_PREFIX"];
        if own.contains(&name.as_str()) {
            command.env_remove(name);
        }
    }
    command.env("GIT_TERMINAL_PROMPT", "0").env("LC_ALL", "C").stdin(Stdio::null());
    if let Some(folder) = folder {
        command.current_dir(folder);
    }
    for setting in [
        "protocol.ext.allow=never",
        "core.hooksPath=/dev/null",
        "core.autocrlf=false",
        "core.symlinks=true",
        "core.fileMode=true",
        "core.fsmonitor=false",
        "advice.detachedHead=false",
        "gc.auto=0",
        "maintenance.auto=false",
    ] {
        command.args(["-c", setting]);
    }
    command
}

fn run(command: &mut Command) -> Result<Output, GitError> {
    tracing::debug!(?command, "git");
    command.output().map_err(GitError::NoProgram)
}

/// Returns the line in which git said what was wrong.
fn said(output: &Output) -> String {
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    let lines = || text.lines().map(str::trim).filter(|line| !line.is_empty());
    let fatal = lines().find_map(|line| line.strip_prefix("fatal: ").or_else(|| line.strip_prefix("error: ")));
    fatal.or_else(|| lines().next_back()).unwrap_or("git did not say why").to_owned()
}

fn unreachable_by(address: &str, output: &Output) -> GitError {
    GitError::Unreachable { address: address.to_owned(), said: said(output) }
}

/// Returns the commit that a state of a repository has now, by all of its digits.
///
/// # Errors
/// `NoProgram`, `Unreachable`, `NoSuchRef`.
pub fn commit_of(address: &str, at: &GitAt) -> Result<String, GitError> {
    let (wanted, what) = match at {
        GitAt::Commit(commit) => return Ok(commit.clone()),
        GitAt::Tag(tag) => (format!("refs/tags/{tag}"), format!("tag {tag}")),
        GitAt::Branch(branch) => (format!("refs/heads/{branch}"), format!("branch {branch}")),
        GitAt::Head => ("HEAD".to_owned(), "commit".to_owned()),
    };
    let peeled = format!("{wanted}^{{}}");
    let output = run(git(None).args(["ls-remote", "--quiet", "--", address, &wanted, &peeled]))?;
    if !output.status.success() {
        return Err(unreachable_by(address, &output));
    }
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let pairs = || text.lines().filter_map(|line| line.split_once('\t'));
    // A tag with a text of its own is an object that names the commit.
    let found = pairs().find(|(_, name)| *name == peeled).or_else(|| pairs().find(|(_, name)| *name == wanted));
    let commit = found.map(|(commit, _)| commit.to_owned());
    commit.ok_or_else(|| GitError::NoSuchRef { address: address.to_owned(), what })
}

/// Puts the files of a commit into a folder inside `work`, which must be empty, and returns that folder.
///
/// Only that commit is fetched where the repository hands out commits one by one; else the branch or tag it should be on;
/// else everything.
///
/// # Errors
/// [`GitError`].
pub fn check_out(
    address: &str,
    at: &GitAt,
    commit: &str,
    folder: Option<&str>,
    work: &Path,
) -> Result<PathBuf, GitError> {
    let (store, files) = (work.join("repository"), work.join("files"));
    for path in [&store, &files] {
        fs::create_dir_all(path).map_err(|cause| GitError::Write { path: path.clone(), cause })?;
    }
    let made = run(git(Some(&store)).args(["init", "--quiet", "--bare", "--template=", "."]))?;
    if !made.status.success() {
        let cause = io::Error::other(said(&made));
        return Err(GitError::Write { path: store, cause });
    }
    fetch(address, at, commit, &store)?;
    let mut command = git(Some(&files));
    command.arg("--git-dir").arg(&store).arg("--work-tree").arg(&files);
    command.args(["checkout", "--quiet", "--force", commit, "--"]).arg(folder.unwrap_or("."));
    let output = run(&mut command)?;
    if !output.status.success() {
        return Err(match folder {
            Some(folder) => {
                let (address, commit, folder) = (address.to_owned(), commit.to_owned(), folder.to_owned());
                GitError::NoSuchFolder { address, commit, folder }
            }
            None => unreachable_by(address, &output),
        });
    }
    Ok(folder.map_or(files.clone(), |folder| files.join(folder)))
}

fn fetch(address: &str, at: &GitAt, commit: &str, store: &Path) -> Result<(), GitError> {
    let has = || -> Result<bool, GitError> {
        let output = run(git(Some(store)).args(["cat-file", "-e", &format!("{commit}^{{commit}}")]))?;
        Ok(output.status.success())
    };
    let on = match at {
        GitAt::Tag(tag) => Some(format!("refs/tags/{tag}")),
        GitAt::Branch(branch) => Some(format!("refs/heads/{branch}")),
        GitAt::Commit(_) | GitAt::Head => None,
    };
    let mut steps: Vec<Vec<String>> = vec![vec!["--depth=1".into(), "--".into(), address.into(), commit.into()]];
    steps.extend(on.map(|on| vec!["--depth=1".into(), "--".into(), address.into(), on]));
    let everything = ["+refs/heads/*:refs/heads/*".to_owned(), "+refs/tags/*:refs/tags/*".to_owned()];
    let [heads, tags] = everything;
    steps.push(vec!["--".into(), address.into(), heads, tags]);
    let mut last = None;
    for step in steps {
        let output = run(git(Some(store)).args(["fetch", "--quiet", "--no-tags", "--no-write-fetch-head"]).args(step))?;
        if output.status.success() && has()? {
            return Ok(());
        }
        last = Some(output);
    }
    match last {
        Some(output) if !output.status.success() => Err(unreachable_by(address, &output)),
        _ => Err(GitError::NoSuchCommit { address: address.to_owned(), commit: commit.to_owned() }),
    }
}
