//! Taking a proposal, or declining it.

use std::path::Path;

use yostel_documents::ProposalRecord;

use crate::context::Context;
use crate::error::{FlowError, ProposalError, said};
use crate::moving::propose::host::{Host, Kept, LocalHost, git};

/// What somebody decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// It is merged into the branch that it is for.
    Accept,
    /// It is not wanted, until something newer is there.
    Decline,
}

/// Lists what is remembered of proposals, by name.
///
/// # Errors
/// `ProposalError::Git`.
pub fn proposals(folder: &Path, context: &Context<'_>) -> Result<Vec<ProposalRecord>, FlowError> {
    let made = context.cache.work_folder()?;
    let host = LocalHost::open(folder, made.folder(), context)?;
    Ok(host.records()?.into_values().map(|kept| kept.record).collect())
}

/// Takes a proposal, or declines it; its branch goes, unless somebody committed to what is declined.
///
/// # Errors
/// `NoSuch`, `NotOpen`, `CheckedOut`, `NotMerged`, `ProposalError::Git`. Everything is then as it was.
pub fn decide(
    folder: &Path,
    name: &str,
    decision: Decision,
    why: Option<&str>,
    context: &Context<'_>,
) -> Result<ProposalRecord, FlowError> {
    let made = context.cache.work_folder()?;
    let host = LocalHost::open(folder, made.folder(), context)?;
    let mut records = host.records()?;
    let Some(kept) = records.remove(name) else {
        let open = records.into_values().filter(|kept| kept.record.is_open());
        let known = open.map(|kept| kept.record.name).collect();
        return Err(ProposalError::NoSuch { name: name.to_owned(), known }.into());
    };
    if !kept.record.is_open() {
        return Err(ProposalError::NotOpen { name: name.to_owned(), state: kept.record.state }.into());
    }
    if decision == Decision::Decline && kept.is_checked_out {
        return Err(ProposalError::CheckedOut(kept.record.branch()).into());
    }
    match decision {
        Decision::Accept => accepted(&host, &kept, why.unwrap_or_default(), context),
        Decision::Decline => closed(&host, &kept, "declined", why.unwrap_or_default(), context),
    }
}

/// Merges a proposal, and notes that.
pub(crate) fn accepted(
    host: &LocalHost<'_>,
    kept: &Kept,
    why: &str,
    context: &Context<'_>,
) -> Result<ProposalRecord, FlowError> {
    let ProposalRecord { name, base_branch: branch, subject, .. } = &kept.record;
    let not_merged = |said| ProposalError::NotMerged { name: name.clone(), branch: branch.clone(), said };
    let here = host.repository.branch().map_err(git)?;
    let Some(tip) = kept.branch.as_ref().filter(|_| here.as_ref() == Some(branch)) else {
        return Err(not_merged(None).into());
    };
    let message = format!("{subject}\n\nThe proposal {name} was accepted.\n");
    match host.repository.merge(tip, &message) {
        Ok(()) => closed(host, kept, "accepted", why, context),
        Err(yostel_sources::GitError::Stopped(_)) => Err(FlowError::Stopped),
        Err(error) => Err(not_merged(Some(said(&error))).into()),
    }
}

/// Notes what became of a proposal.
pub(crate) fn closed(
    host: &LocalHost<'_>,
    kept: &Kept,
    state: &str,
    why: &str,
    context: &Context<'_>,
) -> Result<ProposalRecord, FlowError> {
    let record = ProposalRecord {
        state: state.to_owned(),
        decided: Some(context.settings.now),
        why: (!why.is_empty()).then(|| why.to_owned()),
        ..kept.record.clone()
    };
    host.settle(&record, kept)?;
    Ok(record)
}
