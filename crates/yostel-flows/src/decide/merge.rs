//! Reading the lockfiles of two sides that are to be one.

use std::path::PathBuf;

use yostel_documents::Lockfile;
use yostel_findings::{Merged, merge};
use yostel_sources::{GitError, unmerged};

use crate::error::{FlowError, LockError, ProjectError};
use crate::project::LoadedProject;
use crate::project::files::{LOCKFILE_NAME, MOST_LOCKFILE};

/// Where the lockfiles are that are to be one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sides {
    /// In git, whose merge is not finished.
    Git,
    /// In files: the lockfile that both sides began with, which may be empty, ours, theirs.
    Files([PathBuf; 3]),
}

/// The lockfiles of two sides, and what of them is to be kept.
pub(crate) struct ReadSides {
    pub(crate) merged: Merged,
    /// The one that both began with, where there is one.
    pub(crate) base: Option<Lockfile>,
    pub(crate) ours: Lockfile,
    pub(crate) theirs: Lockfile,
}

/// Reads both sides and joins them.
///
/// # Errors
/// `NothingToMerge`, `Stopped`, `Read`, `Lockfile`.
pub(crate) fn read_sides(project: &LoadedProject, sides: &Sides) -> Result<ReadSides, FlowError> {
    let [base, ours, theirs] = match sides {
        Sides::Git => {
            let nothing = |said: Option<String>| LockError::NothingToMerge { said };
            let texts = unmerged(&project.root, LOCKFILE_NAME, &project.git_config());
            let [base, ours, theirs] = texts.map_err(|error| match error {
                GitError::Stopped(_) => FlowError::Stopped,
                error => nothing(Some(error.to_string())).into(),
            })?;
            let (Some(ours), Some(theirs)) = (ours, theirs) else { return Err(nothing(None).into()) };
            let named = |side: &str, text: Vec<u8>| {
                (PathBuf::from(format!("{LOCKFILE_NAME} of {side}")), String::from_utf8_lossy(&text).into_owned())
            };
            [named("both", base.unwrap_or_default()), named("ours", ours), named("theirs", theirs)]
        }
        Sides::Files(files) => {
            let read = |path: &PathBuf| match project.files.read(path, MOST_LOCKFILE) {
                Ok(text) => Ok((path.clone(), text)),
                Err(cause) => Err(ProjectError::Read { path: path.clone(), cause }),
            };
            let [base, ours, theirs] = files;
            [read(base)?, read(ours)?, read(theirs)?]
        }
    };
    let parse = |(path, text): (PathBuf, String)| {
        Lockfile::parse(&text).map_err(|error| LockError::Lockfile { path, text, error, both_sides: false })
    };
    let base = if base.1.trim().is_empty() { None } else { Some(parse(base)?) };
    let (ours, theirs) = (parse(ours)?, parse(theirs)?);
    let coexist = &project.manifest().policy.coexist;
    Ok(ReadSides { merged: merge(base.as_ref(), &ours, &theirs, coexist), base, ours, theirs })
}
