//! Which commits of a repository are before which.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use crate::git::{GitConfig, GitError, Output, run, start, unreachable_by};

/// What is asked of a history.
#[derive(Debug)]
pub struct AncestryAsked<'a> {
    /// The commits that it is all about: the repository must have them.
    pub commits: &'a BTreeSet<String>,
    /// Others of which it is asked what is before them.
    pub ends: &'a BTreeSet<String>,
    /// All that may be before one of those.
    pub named: &'a BTreeSet<String>,
}

/// Fetches the history of a repository into an empty folder, and says of each commit and each end which of what is named is
/// before it. What is named and the repository does not have is before nothing.
///
/// # Errors
/// `NoProgram`, `Address`, `Unreachable`, `OutOfTime`, `Stopped`, `Write`; `NoSuchCommit` when it does not have a commit, and
/// `Shallow` when a part of the history is missing: then nobody can say what is before what.
pub fn ancestry_of(
    address: &str,
    asked: &AncestryAsked<'_>,
    work: &Path,
    config: &GitConfig,
) -> Result<BTreeMap<String, BTreeSet<String>>, GitError> {
    config.check(address)?;
    let is_long = asked.commits.first().is_some_and(|commit| commit.len() == 64);
    start(work, is_long, config)?;
    let ask = |arguments: &[&str]| -> Result<Output, GitError> {
        let mut command = config.git(Some(work));
        command.args(arguments);
        run(command, address, &config.patience)
    };
    let fetch = |what: &[&str]| {
        // Files too: of a clone without them, git asks for each commit that is missing, again and again. And a part of a
        // history only, so that it is seen that it is one.
        let how = ["fetch", "--progress", "--no-tags", "--no-write-fetch-head", "--no-recurse-submodules"];
        ask(&[&how[..], &["--update-shallow", "--", address], what].concat())
    };
    let fetched = fetch(&["+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"])?;
    if !fetched.status.success() {
        return Err(unreachable_by(address, &fetched));
    }
    let has = |commit: &str| Ok(ask(&["cat-file", "-e", &format!("{commit}^{{commit}}")])?.status.success());
    for commit in asked.commits {
        // One that no branch shows any more may still be handed out by its name.
        if !has(commit)? {
            fetch(&[commit.as_str()])?;
        }
        if !has(commit)? {
            return Err(GitError::NoSuchCommit { address: address.to_owned(), commit: commit.clone() });
        }
    }
    if ask(&["rev-parse", "--is-shallow-repository"])?.stdout.starts_with(b"true") {
        return Err(GitError::Shallow(address.to_owned()));
    }
    for commit in asked.named {
        // Refused for what the repository does not have.
        ask(&["update-ref", &format!("refs/asked/{commit}"), &format!("{commit}^{{commit}}")])?;
    }
    let mut told = BTreeMap::new();
    for commit in asked.commits.union(asked.ends) {
        let merged = format!("--merged={commit}");
        let listed = ask(&["for-each-ref", &merged, "--format=%(refname:lstrip=2)", "refs/asked"])?;
        if listed.status.success() {
            let text = String::from_utf8_lossy(&listed.stdout).into_owned();
            let before = text.lines().map(str::to_owned).filter(|other| other != commit);
            told.insert(commit.clone(), before.collect());
        } else if asked.commits.contains(commit) {
            return Err(unreachable_by(address, &listed));
        }
    }
    Ok(told)
}
