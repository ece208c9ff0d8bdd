//! Proposals in a repository.

use yostel_documents::nearest;
use yostel_flows::ProposalError;

use super::{TOLD, join_first, tell};
use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};

/// Tells why nothing can be proposed, or a proposal not be decided.
pub(super) fn of_proposal(error: &ProposalError) -> Diagnostic {
    let headline = error.to_string();
    match error {
        ProposalError::NoBranch | ProposalError::OnProposal(_) => {
            tell(Code::NoBranch, headline, Suggestion::run("git switch BRANCH", "to work on the one to propose for"))
        }
        ProposalError::NoCommit(_) => {
            tell(Code::NoBranch, headline, Suggestion::run("git commit", "to have something to propose for"))
        }
        ProposalError::NotCommitted(files) => {
            let headline = format!(
                "{} not committed as here",
                match &files[..] {
                    [one] => format!("{one} is"),
                    all => format!("{} are", join_first(all.iter().cloned(), TOLD)),
                }
            );
            tell(
                Code::NotCommitted,
                headline,
                Suggestion::run("git commit", "them first; proposals are made on what is committed"),
            )
        }
        ProposalError::NoSuch { name, known } => {
            let near = nearest(name, known.iter().map(String::as_str));
            let list = Suggestion::run("yostel proposals list", "to see all of them");
            let told = tell(Code::NoSuchProposal, headline, list);
            near.into_iter().fold(told, |told, near| told.note(format!("{near} is one")))
        }
        ProposalError::NotOpen { .. } => {
            tell(Code::NotOpen, headline, Suggestion::run("yostel proposals list", "to see those that are open"))
        }
        ProposalError::CheckedOut(_) => {
            let next = Suggestion::run("git switch BRANCH", "there first: it goes when it is declined");
            tell(Code::NotMerged, headline, next).note("nothing was changed")
        }
        ProposalError::NotMerged { branch, said: None, .. } => {
            let switch = Suggestion::run(format!("git switch {branch}"), "and accept it again");
            tell(Code::NotMerged, headline, switch).note(format!("{branch} is not what is checked out here"))
        }
        ProposalError::NotMerged { said: Some(said), .. } => {
            let again = Suggestion::run("yostel propose", "to make it anew, once what git says is put right");
            tell(Code::NotMerged, headline, again).note(said.clone()).note("everything is as it was")
        }
        ProposalError::Git(_) => tell(Code::ProposalGit, headline, "see what git says, and run the same command again"),
    }
}
