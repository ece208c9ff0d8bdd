//! Where proposals are kept: here, branches and records in references of the repository's own.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;

use yostel_documents::{ProposalRecord, proposal_path};
use yostel_files::{Folder, Hold, lock};
use yostel_sources::{GitConfig, GitError, RefChange, Reference, Repository};

use crate::context::Context;
use crate::error::{FlowError, ProposalError};
use crate::observer::{Event, waiting};

/// Where branches of proposals are.
const BRANCHES: &str = "refs/heads/proposals/";

/// Where their records are.
const RECORDS: &str = "refs/yostel/proposals/";

/// Longest record that is read, in bytes.
const MOST_RECORD: u64 = 4 << 20;

/// Returns the branch of a proposal.
fn branch_of(name: &str) -> String {
    format!("{BRANCHES}{}", proposal_path(name))
}

/// Returns the reference of a proposal's record.
fn record_of(name: &str) -> String {
    format!("{RECORDS}{}", proposal_path(name))
}

/// What keeps proposals. A server that people look at in a browser would be another.
pub(crate) trait Host {
    /// Lists what is remembered, by name, each with where its branch is now; nothing where it has none.
    fn records(&self) -> Result<BTreeMap<String, Kept>, FlowError>;

    /// Returns the commit of a branch of that name that is there, whoever made it.
    fn branch_of(&self, name: &str) -> Result<Option<String>, FlowError>;

    /// Opens a proposal, or makes it anew: branch and record change together.
    fn publish(&self, record: &ProposalRecord, before: Option<&Kept>) -> Result<(), FlowError>;

    /// Notes what became of a proposal; its branch goes, unless somebody works on it.
    fn settle(&self, record: &ProposalRecord, before: &Kept) -> Result<(), FlowError>;
}

/// A proposal that is remembered.
#[derive(Debug, Clone)]
pub(crate) struct Kept {
    pub(crate) record: ProposalRecord,
    /// The object of the record.
    object: String,
    /// Where its branch is.
    pub(crate) branch: Option<String>,
    /// Whether a working tree has its branch checked out.
    pub(crate) is_checked_out: bool,
}

impl Kept {
    /// Tells whether somebody else committed to its branch.
    pub(crate) fn is_changed_by_others(&self) -> bool {
        self.branch.as_ref().is_some_and(|branch| *branch != self.record.commit)
    }
}

/// The repository itself.
pub(crate) struct LocalHost<'h> {
    pub(crate) repository: Repository,
    work: &'h Folder,
    /// Nobody else proposes or decides meanwhile.
    _held: Option<File>,
}

/// Makes an error of git's one of proposals.
pub(crate) fn git(error: GitError) -> FlowError {
    match error {
        GitError::Stopped(_) => FlowError::Stopped,
        error => ProposalError::Git(error).into(),
    }
}

impl<'h> LocalHost<'h> {
    /// Opens the repository that a folder is in, and waits until nobody else proposes in it. `work` is for what is needed
    /// meanwhile.
    pub(crate) fn open(folder: &Path, work: &'h Folder, context: &Context<'_>) -> Result<Self, FlowError> {
        let config = GitConfig { patience: context.settings.patience.clone(), ..GitConfig::default() };
        let repository = Repository::of(folder, &config).map_err(git)?;
        let common = repository.common_folder();
        let held = File::open(common).ok();
        if let Some(folder) = &held {
            lock(folder, Hold::Alone, common, waiting(context.observer, Event::Wait)).ok();
        }
        crate::observer::go_on(context.observer)?;
        Ok(Self { repository, work, _held: held })
    }

    fn change(&self, changes: &[RefChange]) -> Result<(), FlowError> {
        self.repository.change(changes, self.work).map_err(git)
    }

    fn written(&self, record: &ProposalRecord) -> Result<String, FlowError> {
        self.repository.write_blob(record.to_text().as_bytes(), self.work).map_err(git)
    }
}

impl Host for LocalHost<'_> {
    fn records(&self) -> Result<BTreeMap<String, Kept>, FlowError> {
        let branches = self.repository.references(BRANCHES, 0).map_err(git)?.into_iter();
        let mut branches: BTreeMap<String, Reference> = branches.map(|one| (one.name.clone(), one)).collect();
        let mut records = BTreeMap::new();
        for Reference { name: reference, object, .. } in
            self.repository.references(RECORDS, MOST_RECORD).map_err(git)?
        {
            let Ok(text) = self.repository.blob(&object) else { continue };
            // What somebody else put there is nothing of ours.
            let Some(record) = std::str::from_utf8(&text).ok().and_then(ProposalRecord::parse) else { continue };
            if reference != record_of(&record.name) {
                continue;
            }
            let branch = branches.remove(&branch_of(&record.name));
            let is_checked_out = branch.as_ref().is_some_and(|branch| branch.is_checked_out);
            let branch = branch.map(|branch| branch.object);
            records.insert(record.name.clone(), Kept { record, object, branch, is_checked_out });
        }
        Ok(records)
    }

    fn branch_of(&self, name: &str) -> Result<Option<String>, FlowError> {
        self.repository.object(&branch_of(name)).map_err(git)
    }

    fn publish(&self, record: &ProposalRecord, before: Option<&Kept>) -> Result<(), FlowError> {
        let object = self.written(record)?;
        let branch = before.and_then(|before| before.branch.clone());
        self.change(&[
            (branch_of(&record.name), Some(record.commit.clone()), branch),
            (record_of(&record.name), Some(object), before.map(|before| before.object.clone())),
        ])
    }

    fn settle(&self, record: &ProposalRecord, before: &Kept) -> Result<(), FlowError> {
        let object = self.written(record)?;
        let mut changes = vec![(record_of(&record.name), Some(object), Some(before.object.clone()))];
        // What somebody else committed to it would be lost with it, unless it was merged.
        let is_theirs = before.is_checked_out || before.is_changed_by_others() && record.state != "accepted";
        if let Some(branch) = before.branch.as_ref().filter(|_| !is_theirs) {
            changes.push((branch_of(&record.name), None, Some(branch.clone())));
        }
        self.change(&changes)
    }
}
