//! What a change of the lockfile means: two files, two revisions, or one of them and what is here now.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use yostel_documents::{Chosen, Lockfile, Seal};
use yostel_findings::{Advisories, Comparison, UnreadAdvisory, comparison};
use yostel_sources::{FileAt, GitError, file_at};

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::error::{FlowError, LockError, ProjectError};
use crate::look::as_of::lockfile_as_of;
use crate::look::gather::{Sought, gather};
use crate::project::LoadedProject;
use crate::project::files::{LOCKFILE_NAME, MOST_LOCKFILE};
use crate::project::read::load_lockfile;
use crate::search::rules::Keep;

/// One of two lockfiles.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Side {
    /// The one that is here now.
    Now,
    /// A file.
    File(PathBuf),
    /// The project's, as git has it at a revision.
    Revision(String),
    /// What would be locked with nothing to keep and only the releases published by then.
    AsOf(Timestamp),
    /// One that is not written.
    Unwritten(Box<Lockfile>),
}

impl Side {
    /// Reads what was typed: a file where there is one, the lockfile of a folder, or else a revision.
    pub fn of(text: &str, folder: &Path) -> Self {
        let path = folder.join(text);
        match path.is_dir() {
            true if path.join(LOCKFILE_NAME).is_file() => Self::File(path.join(LOCKFILE_NAME)),
            false if path.exists() => Self::File(path),
            _ => Self::Revision(text.to_owned()),
        }
    }
}

/// What a change of a lockfile means.
#[derive(Debug)]
pub struct CompareReport {
    /// What was compared with what.
    pub sides: [Side; 2],
    /// What it means.
    pub comparison: Comparison,
    /// Why licences and advisories are not told, when they are not.
    pub untold: Option<String>,
    /// Advisories that could not be read.
    pub unread: Vec<UnreadAdvisory>,
}

/// Compares two lockfiles of a project.
///
/// # Errors
/// `NothingToCompare`, `NoSuchRevision`, `Read`, `NoLockfile`, `Lockfile`, `NotALockfile`, `Stopped`. Sources that cannot be asked are told.
pub fn compare_lockfiles(
    project: &LoadedProject,
    sides: [Side; 2],
    context: &Context<'_>,
) -> Result<CompareReport, FlowError> {
    let old = lockfile_of(project, &sides[0], context)?;
    let new = lockfile_of(project, &sides[1], context)?;
    let names = &from_sources(&old) | &from_sources(&new);
    let told = told_by_sources(project, &names, context.observer).and_then(|documents| {
        let sources = project.sources_and_elsewhere(None, &Keep::Nothing, context)?;
        let mut sought = Sought::on(&old);
        sought.add(&new);
        let (advisories, unread) = gather(&sought, &documents, (project, &sources), context)?;
        Ok((documents, advisories, unread))
    });
    let (documents, advisories, unread, untold) = match told {
        Ok((documents, advisories, unread)) => (documents, advisories, unread, None),
        Err(FlowError::Stopped) => return Err(FlowError::Stopped),
        Err(error) => (BTreeMap::new(), Advisories::default(), Vec::new(), Some(error.to_string())),
    };
    let comparison = comparison(&old, &new, &documents, &advisories, &context.settings.platform);
    Ok(CompareReport { sides, comparison, untold, unread })
}

/// Compares the texts of two lockfiles without asking anybody; an empty one has no packages.
///
/// # Errors
/// `NotALockfile`.
pub fn compare_texts(old: (&Path, &str), new: (&Path, &str), platform: &str) -> Result<Comparison, FlowError> {
    let (old, new) = (parsed(old)?, parsed(new)?);
    Ok(comparison(&old, &new, &BTreeMap::new(), &Advisories::default(), platform))
}

fn parsed((path, text): (&Path, &str)) -> Result<Lockfile, FlowError> {
    if text.is_empty() {
        return Ok(Lockfile { declarations: Seal::of(b""), chosen: Chosen::default() });
    }
    Lockfile::parse(text).map_err(|error| LockError::NotALockfile { path: path.to_owned(), error }.into())
}

pub(crate) fn lockfile_of(project: &LoadedProject, side: &Side, context: &Context<'_>) -> Result<Lockfile, FlowError> {
    let read = |path: &Path| match project.files.read(path, MOST_LOCKFILE) {
        Ok(text) => parsed((path, &text)),
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => Err(LockError::NoLockfile(path.to_owned()).into()),
        Err(cause) => Err(ProjectError::Read { path: path.to_owned(), cause }.into()),
    };
    match side {
        Side::Now => load_lockfile(project)?.ok_or_else(|| LockError::NoLockfile(project.lockfile_path()).into()),
        Side::File(path) => read(path),
        Side::Unwritten(lockfile) => Ok((**lockfile).clone()),
        Side::AsOf(day) => lockfile_as_of(project, *day, context),
        Side::Revision(revision) => {
            let found = file_at(&project.root, LOCKFILE_NAME, revision, MOST_LOCKFILE, &project.git_config());
            let name = PathBuf::from(format!("{LOCKFILE_NAME} of {revision}"));
            match found {
                Ok(FileAt::Text(text)) => parsed((&name, &String::from_utf8_lossy(&text))),
                // A change may be the first that has one.
                Ok(FileAt::NoFile) => parsed((&name, "")),
                Ok(FileAt::NoRevision { is_shallow }) => {
                    Err(LockError::NoSuchRevision { revision: revision.clone(), is_shallow }.into())
                }
                Err(GitError::Stopped(_)) => Err(FlowError::Stopped),
                Err(error) => {
                    Err(LockError::NothingToCompare { revision: revision.clone(), said: error.to_string() }.into())
                }
            }
        }
    }
}
