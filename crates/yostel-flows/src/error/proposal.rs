//! Proposals in a repository.

use yostel_sources::GitError;

/// Why nothing can be proposed, or a proposal not be decided.
#[derive(Debug, thiserror::Error)]
pub enum ProposalError {
    /// No branch is checked out.
    #[error("no branch is checked out, so nobody knows what to propose for")]
    NoBranch,
    /// What is checked out is a proposal itself.
    #[error("{0} is a proposal itself")]
    OnProposal(String),
    /// The branch has no commit yet.
    #[error("the branch {0} has no commit yet")]
    NoCommit(String),
    /// Manifests or the lockfile are not as they were committed.
    #[error("manifests or the lockfile are not as they were committed")]
    NotCommitted(Vec<String>),
    /// There is no proposal of this name.
    #[error("there is no proposal named {name}")]
    NoSuch {
        /// The name.
        name: String,
        /// The names of those that are open.
        known: Vec<String>,
    },
    /// Somebody decided already, or nothing is left of it.
    #[error("the proposal {name} is {state} already")]
    NotOpen {
        /// Its name.
        name: String,
        /// What became of it.
        state: String,
    },
    /// A branch is checked out that is to go.
    #[error("the branch {0} is checked out")]
    CheckedOut(String),
    /// It cannot be merged into the branch that it is for.
    #[error("the proposal {name} cannot be merged into {branch}")]
    NotMerged {
        /// Its name.
        name: String,
        /// The branch.
        branch: String,
        /// What git said; nothing when that branch is not checked out, and has moved.
        said: Option<String>,
    },
    /// Git cannot do it.
    #[error("git: {}", said(.0))]
    Git(GitError),
}

/// Returns what git said itself, where it said something: nothing had to be reached.
pub(crate) fn said(error: &GitError) -> String {
    match error {
        GitError::Unreachable { said, .. } => said.clone(),
        error => error.to_string(),
    }
}
