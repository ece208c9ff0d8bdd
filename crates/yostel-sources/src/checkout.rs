//! Whether a folder is as a commit has it. Nothing that the repository names is run for that, so no filter either: a file that
//! git would change on its way counts as changed, and what a part of a repository lacks is not fetched.

use std::ffi::OsStr;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::Path;

use yostel_files::{Folder, Kind};

use crate::git::{GitConfig, GitError, Output, run, unreachable_by};

/// How many files are looked at in one call.
const AT_ONCE: usize = 400;

/// What a folder is to the repository that it is in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckedOut {
    /// All that is not ignored is as this commit has it.
    Commit(String),
    /// It is in no repository.
    NoRepository,
    /// No commit has anything of it.
    NothingCommitted,
    /// This file or folder, relative to it, is not as the last commit has it, or not in that.
    Changed(String),
    /// This folder in it is a repository of its own, of which the commit has no files.
    Nested(String),
}

/// A line of the index.
struct Tracked<'o> {
    mode: &'o [u8],
    object: &'o str,
    path: &'o [u8],
}

/// Tells whether a folder is as a commit has it. What yostel keeps in `.yostel` counts for nothing.
///
/// # Errors
/// `NoProgram`, `OutOfTime`, `Stopped`, `Unreachable`.
pub fn checked_out(folder: &Path, config: &GitConfig) -> Result<CheckedOut, GitError> {
    let address = folder.to_string_lossy();
    let ask = |arguments: &[&str]| -> Result<Output, GitError> {
        let mut command = config.git_in(folder);
        command.args(arguments);
        run(command, &address, &config.patience)
    };
    let told = |arguments: &[&str]| -> Result<Vec<u8>, GitError> {
        let output = ask(arguments)?;
        if output.status.success() { Ok(output.stdout) } else { Err(unreachable_by(&address, &output)) }
    };
    let inside = ask(&["rev-parse", "--is-inside-work-tree"])?;
    match (inside.status.success(), unreachable_by(&address, &inside)) {
        (true, _) if inside.stdout == b"true\n" => {}
        // Others' repositories are refused by git, which is another matter.
        (false, GitError::Unreachable { said, .. }) if !said.starts_with("not a git repository") => {
            return Err(GitError::Unreachable { address: address.into_owned(), said });
        }
        _ => return Ok(CheckedOut::NoRepository),
    }
    let commit = ask(&["rev-parse", "--verify", "--quiet", "HEAD"])?.stdout;
    let commit = String::from_utf8_lossy(&commit).trim().to_owned();
    let index = told(&["ls-files", "-z", "--stage", "--", "."])?;
    let tracked: Vec<Tracked<'_>> = index.split(|byte| *byte == 0).filter_map(Tracked::read).collect();
    if commit.is_empty() || tracked.is_empty() {
        return Ok(CheckedOut::NothingCommitted);
    }
    let text = |path: &[u8]| String::from_utf8_lossy(path).into_owned();
    if let Some(nested) = tracked.iter().find(|one| one.mode == b"160000") {
        return Ok(CheckedOut::Nested(text(nested.path)));
    }
    for changed in [
        told(&["diff-index", "--cached", "--name-only", "--relative", "-z", "HEAD", "--", "."])?,
        told(&["ls-files", "-z", "--others", "--exclude-standard", "--directory", "-x", ".yostel", "--", "."])?,
    ] {
        if let Some(first) = changed.split(|byte| *byte == 0).find(|path| !path.is_empty()) {
            return Ok(CheckedOut::Changed(text(first)));
        }
    }
    let Ok(held) = Folder::open(folder) else { return Ok(CheckedOut::Changed(".".to_owned())) };
    for some in tracked.chunks(AT_ONCE) {
        if let Some(changed) = first_changed((folder, &held), some, &address, config)? {
            return Ok(CheckedOut::Changed(text(changed)));
        }
    }
    Ok(CheckedOut::Commit(commit))
}

impl<'o> Tracked<'o> {
    /// Reads a mode, an object and a stage, and behind a tab the path.
    fn read(line: &'o [u8]) -> Option<Self> {
        let tab = line.iter().position(|byte| *byte == b'\t')?;
        let mut words = line[..tab].split(|byte| *byte == b' ');
        let (mode, object) = (words.next()?, std::str::from_utf8(words.next()?).ok()?);
        Some(Self { mode, object, path: &line[tab + 1..] })
    }

    /// Tells whether what is there is of the kind that the index has, and for a link whether it is that one.
    fn is_of_its_kind(&self, held: &Folder, target: impl Fn(&str) -> Option<Vec<u8>>) -> bool {
        let path = Path::new(OsStr::from_bytes(self.path));
        let Ok(there) = held.meta(path) else { return false };
        let (is_file, is_program) = (there.kind == Kind::File, there.mode & 0o100 != 0);
        match self.mode {
            b"100644" => is_file && !is_program,
            b"100755" => is_file && is_program,
            b"120000" => held.read_link(path).is_ok_and(|to| target(self.object) == Some(to.into_vec())),
            _ => false,
        }
    }
}

/// Returns the first of these files that is not as the index has it.
fn first_changed<'o>(
    (folder, held): (&Path, &Folder),
    tracked: &[Tracked<'o>],
    address: &str,
    config: &GitConfig,
) -> Result<Option<&'o [u8]>, GitError> {
    let target = |object: &str| {
        let mut command = config.git_in(folder);
        command.args(["cat-file", "blob", object]);
        run(command, address, &config.patience).ok().map(|output| output.stdout)
    };
    if let Some(other) = tracked.iter().find(|one| !one.is_of_its_kind(held, target)) {
        return Ok(Some(other.path));
    }
    let files: Vec<&Tracked<'o>> = tracked.iter().filter(|one| one.mode != b"120000").collect();
    if files.is_empty() {
        return Ok(None);
    }
    let mut command = config.git_in(folder);
    command.args(["hash-object", "--no-filters", "--"]);
    command.args(files.iter().map(|one| OsStr::from_bytes(one.path)));
    let output = run(command, address, &config.patience)?;
    if !output.status.success() {
        return Err(unreachable_by(address, &output));
    }
    let objects = String::from_utf8_lossy(&output.stdout).into_owned();
    let mut objects = objects.lines();
    Ok(files.iter().find(|one| objects.next() != Some(one.object)).map(|one| one.path))
}
