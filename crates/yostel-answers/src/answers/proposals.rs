//! Answers of `propose` and `proposals`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::ProposalRecord;
use yostel_findings::ProposalStep;
use yostel_flows::{ProposeReport, Stepped, WhyLeft};

use super::Told;
use super::parts::{texts, told};

/// A proposal.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ProposalTold {
    /// Its name.
    pub name: String,
    /// `open`, `accepted`, `declined` or `closed`.
    pub state: String,
    /// Its branch; it is there as long as the proposal is open.
    pub branch: String,
    /// The branch that it is for.
    pub base_branch: String,
    /// The commit that it is made on.
    pub base: String,
    /// Its own commit.
    pub commit: String,
    /// What moves, from and to which version, by package.
    pub moves: BTreeMap<String, (Option<String>, Option<String>)>,
    /// Whether it ends an advisory.
    pub urgent: bool,
    /// What the checks came to: `passed`, `failed`, or `none`.
    pub checks: String,
    /// When it was opened.
    pub opened: String,
    /// When it was decided; null while it is open.
    pub decided: Option<String>,
    /// Why it was decided so.
    pub why: Option<String>,
    /// What it is, in a line.
    pub subject: String,
    /// What a reviewer should know, in Markdown.
    pub summary: String,
}

impl From<&ProposalRecord> for ProposalTold {
    fn from(record: &ProposalRecord) -> Self {
        Self {
            name: record.name.clone(),
            state: record.state.clone(),
            branch: record.branch(),
            base_branch: record.base_branch.clone(),
            base: record.base.clone(),
            commit: record.commit.clone(),
            moves: record.moves.clone(),
            urgent: record.urgent,
            checks: record.checks.clone(),
            opened: record.opened.to_string(),
            decided: record.decided.map(|at| at.to_string()),
            why: record.why.clone(),
            subject: record.subject.clone(),
            summary: record.summary.clone(),
        }
    }
}

/// What became of a proposal.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SteppedTold {
    /// Its name.
    pub name: String,
    /// `opened`, `redone`, `kept`, `closed`, `waits-for-hours`, `waits-for-room`, `stays-declined`, or `left`.
    pub step: &'static str,
    /// Why it was left as it is: `changed-by-others`, `checked-out` or `branch-there`; else null.
    pub left: Option<&'static str>,
    /// Whether it was taken without being asked.
    pub taken: bool,
    /// The proposal; null of what is not open.
    pub proposal: Option<ProposalTold>,
}

impl From<&Stepped> for SteppedTold {
    fn from(stepped: &Stepped) -> Self {
        let step = match stepped.step {
            _ if stepped.left.is_some() => "left",
            ProposalStep::Open => "opened",
            ProposalStep::Redo => "redone",
            ProposalStep::Keep => "kept",
            ProposalStep::Close => "closed",
            ProposalStep::WaitForHours => "waits-for-hours",
            ProposalStep::WaitForRoom => "waits-for-room",
            ProposalStep::StayDeclined => "stays-declined",
        };
        let left = stepped.left.map(|why| match why {
            WhyLeft::ChangedByOthers => "changed-by-others",
            WhyLeft::CheckedOut => "checked-out",
            WhyLeft::BranchThere => "branch-there",
        });
        let proposal = stepped.record.as_ref().map(ProposalTold::from);
        Self { name: stepped.name.clone(), step, left, taken: stepped.taken, proposal }
    }
}

/// Answer of `propose`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ProposeAnswer {
    /// The branch that is proposed for.
    pub branch: String,
    /// Its commit.
    pub base: String,
    /// What became of each proposal.
    pub steps: Vec<SteppedTold>,
    /// Packages that are left out, and whose day is past.
    pub overdue: Vec<String>,
    /// Whether it was written.
    pub written: bool,
}

impl Told for ProposeAnswer {
    const COMMAND: &'static str = "propose";
}

impl From<&ProposeReport> for ProposeAnswer {
    fn from(report: &ProposeReport) -> Self {
        Self {
            branch: report.branch.clone(),
            base: report.base.clone(),
            steps: told(&report.steps),
            overdue: texts(&report.overdue),
            written: report.written,
        }
    }
}

/// Answer of `proposals list`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProposalsAnswer {
    /// The proposals, by name.
    pub proposals: Vec<ProposalTold>,
}

impl Told for ProposalsAnswer {
    const COMMAND: &'static str = "proposals list";
}

impl ProposalsAnswer {
    /// Tells of proposals.
    pub fn of(records: &[ProposalRecord]) -> Self {
        Self { proposals: told(records) }
    }
}

/// Answer of `proposals show`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct ProposalAnswer(ProposalTold);

impl Told for ProposalAnswer {
    const COMMAND: &'static str = "proposals show";
}

impl ProposalAnswer {
    /// Tells of a proposal.
    pub fn of(record: &ProposalRecord) -> Self {
        Self(ProposalTold::from(record))
    }
}

/// Answer of `proposals accept` and `proposals decline`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct DecidedAnswer(ProposalTold);

impl Told for DecidedAnswer {
    const COMMAND: &'static str = "proposals decide";
}

impl DecidedAnswer {
    /// Tells what somebody decided.
    pub fn of(record: &ProposalRecord) -> Self {
        Self(ProposalTold::from(record))
    }
}
