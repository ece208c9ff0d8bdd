//! Which commits of a repository are before which, without any of its files.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use crate::git::{GitConfig, GitError, Output, run, start, unreachable_by};

/// Fetches the history of a repository into an empty folder, and says of each of some commits which of `others` are before
/// it or are it. Commits that the repository does not have are left out.
///
/// # Errors
/// `NoProgram`, `Address`, `Unreachable`, `OutOfTime`, `Stopped`, `Write`.
pub fn ancestry_of(
    address: &str,
    commits: &BTreeSet<String>,
    others: &BTreeSet<String>,
    work: &Path,
    config: &GitConfig,
) -> Result<BTreeMap<String, BTreeSet<String>>, GitError> {
    config.check(address)?;
    let is_long = commits.iter().next().is_some_and(|commit| commit.len() == 64);
    start(work, is_long, config)?;
    let ask = |arguments: &[&str]| -> Result<Output, GitError> {
        let mut command = config.git(Some(work));
        command.args(arguments);
        run(command, address, &config.patience)
    };
    let fetch = ["fetch", "--progress", "--no-tags", "--no-write-fetch-head", "--no-recurse-submodules"];
    // What was committed is enough; where a server has no such filter, it sends everything.
    let what = ["--filter=tree:0", "--", address, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"];
    let fetched = ask(&[&fetch[..], &what[..]].concat())?;
    if !fetched.status.success() {
        return Err(unreachable_by(address, &fetched));
    }
    // A commit that no branch shows any more may still be handed out by its name.
    for commit in commits {
        if !ask(&["cat-file", "-e", &format!("{commit}^{{commit}}")])?.status.success() {
            ask(&[&fetch[..], &["--filter=tree:0", "--", address, commit.as_str()]].concat())?;
        }
    }
    for commit in others.iter().chain(commits) {
        // Refused for what the repository does not have.
        ask(&["update-ref", &format!("refs/asked/{commit}"), &format!("{commit}^{{commit}}")])?;
    }
    let mut told = BTreeMap::new();
    for commit in commits.iter().chain(others) {
        let merged = format!("--merged={commit}");
        let listed = ask(&["for-each-ref", &merged, "--format=%(refname:lstrip=2)", "refs/asked"])?;
        if listed.status.success() {
            let text = String::from_utf8_lossy(&listed.stdout).into_owned();
            let before = text.lines().map(str::to_owned).filter(|other| other != commit);
            told.insert(commit.clone(), before.collect());
        }
    }
    Ok(told)
}
