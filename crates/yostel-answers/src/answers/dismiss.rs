//! Answer of `audit dismiss`.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_flows::DismissReport;

use super::Told;
use super::advisories::ThreatTold;
use super::parts::told;

/// Answer of `audit dismiss`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DismissAnswer {
    /// The document that was written.
    pub file: PathBuf,
    /// The advisory, as it was named.
    pub advisory: String,
    /// What it affects and does not count for any more.
    pub dismissed: Vec<ThreatTold>,
    /// Those of them that count all the same, since another document said otherwise later.
    pub contradicted: Vec<ThreatTold>,
    /// How many statements were taken back.
    pub taken_back: usize,
}

impl Told for DismissAnswer {
    const COMMAND: &'static str = "audit dismiss";
}

impl From<&DismissReport> for DismissAnswer {
    fn from(report: &DismissReport) -> Self {
        Self {
            file: report.path.clone(),
            advisory: report.id.clone(),
            dismissed: told(&report.dismissed),
            contradicted: told(&report.contradicted),
            taken_back: report.taken_back,
        }
    }
}
