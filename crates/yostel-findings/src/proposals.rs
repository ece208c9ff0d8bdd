//! Which proposals are opened, made anew, closed, or wait: a pure function of what could move and what was proposed already.

use std::collections::{BTreeMap, BTreeSet};

/// What could be proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate {
    /// Its name: that of a package or a group, as branches can have it.
    pub name: String,
    /// Where its own packages would be.
    pub targets: BTreeMap<String, String>,
    /// What would be written, as a digest: the same is the same proposal.
    pub digest: String,
    /// Whether it ends an advisory.
    pub is_urgent: bool,
}

/// What became of a proposal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ProposalState {
    /// It waits for somebody to decide.
    Open,
    /// It was taken.
    Accepted,
    /// It was not wanted.
    Declined,
    /// Nothing is left of it to do.
    Closed,
}

/// What was proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposed {
    /// Its name.
    pub name: String,
    /// What became of it.
    pub state: ProposalState,
    /// Where its own packages would be.
    pub targets: BTreeMap<String, String>,
    /// What would be written, as a digest.
    pub digest: String,
    /// The commit that it is made on.
    pub base: String,
}

/// What is to be done about a proposal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ProposalStep {
    /// It is opened.
    Open,
    /// It is open, and made anew: there is something newer, or what it is made on moved.
    Redo,
    /// It is open, and as it should be.
    Keep,
    /// It is open, and nothing is left of it to do.
    Close,
    /// It waits for the hours in which proposals are made.
    WaitForHours,
    /// It waits until fewer are open.
    WaitForRoom,
    /// It was declined, and there is nothing newer.
    StayDeclined,
}

/// When proposals may be made, and how many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProposalLimits<'l> {
    /// How many may be open.
    pub at_once: usize,
    /// Whether now is a time at which they are made.
    pub is_time: bool,
    /// The commit that they are made on now.
    pub base: &'l str,
}

/// Decides what is to be done, by name. What ends an advisory waits for nothing; of the rest, those come first that are named
/// first in `candidates`. Closing waits for nothing either.
pub fn proposal_steps(
    candidates: &[Candidate],
    proposed: &[Proposed],
    limits: ProposalLimits<'_>,
) -> Vec<(String, ProposalStep)> {
    let by_name: BTreeMap<&str, &Proposed> = proposed.iter().map(|one| (one.name.as_str(), one)).collect();
    let names: BTreeSet<&str> = candidates.iter().map(|one| one.name.as_str()).collect();
    let is_open = |one: &&Proposed| one.state == ProposalState::Open;
    let gone = proposed.iter().filter(is_open).filter(|one| !names.contains(one.name.as_str()));
    let mut steps: Vec<(String, ProposalStep)> = gone.map(|one| (one.name.clone(), ProposalStep::Close)).collect();
    let mut open = proposed.iter().filter(is_open).count() - steps.len();
    let (urgent, others): (Vec<&Candidate>, Vec<&Candidate>) = candidates.iter().partition(|one| one.is_urgent);
    for candidate in urgent.into_iter().chain(others) {
        let before = by_name.get(candidate.name.as_str()).copied();
        let may = limits.is_time || candidate.is_urgent;
        let step = match before {
            Some(before) if before.state == ProposalState::Open => {
                let is_same = before.digest == candidate.digest && before.base == limits.base;
                if is_same || !may { ProposalStep::Keep } else { ProposalStep::Redo }
            }
            Some(before) if before.state == ProposalState::Declined && before.targets == candidate.targets => {
                ProposalStep::StayDeclined
            }
            _ if !may => ProposalStep::WaitForHours,
            _ if open >= limits.at_once && !candidate.is_urgent => ProposalStep::WaitForRoom,
            _ => {
                open += 1;
                ProposalStep::Open
            }
        };
        steps.push((candidate.name.clone(), step));
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;

    fn candidate(name: &str, version: &str, is_urgent: bool) -> Candidate {
        let targets = [(name.to_owned(), version.to_owned())].into();
        Candidate { name: name.into(), targets, digest: format!("{name} {version}"), is_urgent }
    }

    fn proposed(name: &str, version: &str, state: ProposalState) -> Proposed {
        let Candidate { name, targets, digest, .. } = candidate(name, version, false);
        Proposed { name, state, targets, digest, base: "b".into() }
    }

    fn steps(candidates: &[Candidate], proposed: &[Proposed], at_once: usize, is_time: bool) -> Vec<ProposalStep> {
        let limits = ProposalLimits { at_once, is_time, base: "b" };
        let mut steps = proposal_steps(candidates, proposed, limits);
        steps.sort();
        steps.into_iter().map(|(_, step)| step).collect()
    }

    #[test]
    fn proposals_are_opened_up_to_the_limit_and_what_is_urgent_waits_for_nothing() {
        use ProposalState::{Accepted, Closed, Declined, Open};
        use ProposalStep as Step;
        let three = [candidate("a", "2", false), candidate("b", "2", false), candidate("c", "2", true)];
        assert_eq!(steps(&three, &[], 2, true), [Step::Open, Step::WaitForRoom, Step::Open]);
        assert_eq!(steps(&three, &[], 9, false), [Step::WaitForHours, Step::WaitForHours, Step::Open]);
        let open = [proposed("a", "2", Open), proposed("b", "1", Open), proposed("z", "1", Open)];
        assert_eq!(steps(&three, &open, 1, true), [Step::Keep, Step::Redo, Step::Open, Step::Close]);
        assert_eq!(steps(&three, &open, 1, false), [Step::Keep, Step::Keep, Step::Open, Step::Close]);
        // What closes makes room.
        assert_eq!(steps(&three[..1], &[proposed("z", "1", Open)], 1, true), [Step::Open, Step::Close]);
        let declined = [proposed("a", "2", Declined), proposed("b", "1", Declined), proposed("c", "2", Accepted)];
        assert_eq!(steps(&three, &declined, 9, true), [Step::StayDeclined, Step::Open, Step::Open]);
        assert_eq!(steps(&three[..1], &[proposed("a", "2", Closed)], 9, true), [Step::Open]);
        // What it is made on moved.
        let moved = ProposalLimits { at_once: 9, is_time: true, base: "later" };
        assert_eq!(proposal_steps(&three[..1], &open[..1], moved), [("a".to_owned(), Step::Redo)]);
    }
}
