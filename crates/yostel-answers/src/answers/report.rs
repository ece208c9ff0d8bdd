//! Answer of `report`, of which its page is a rendering.

use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::Baseline;
use yostel_findings::{Bar, judge};
use yostel_flows::{ProjectReport, ReportedPackage};

use super::Told;
use super::drift::DriftAnswer;
use super::findings::FindingTold;
use super::graph::GraphAnswer;
use super::parts::{OriginTold, texts, told};
use crate::words::summary;

/// Answer of `report`.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ReportAnswer {
    /// The project that is worked on.
    pub project: String,
    /// Its version; null when it says none.
    pub version: Option<String>,
    /// When this was found out.
    pub made: String,
    /// The seal of the lockfile that it is of.
    pub seal: String,
    /// What matters, a sentence each.
    pub summary: Vec<String>,
    /// What was found, the worst first.
    pub findings: Vec<FindingTold>,
    /// What is locked, by name and version.
    pub packages: Vec<ReportedPackageTold>,
    /// Who needs whom, as `graph` answers.
    pub graph: GraphAnswer,
    /// How far behind it is and was, as `drift` answers.
    pub drift: DriftAnswer,
    /// The file that was written; null when none was named.
    pub file: Option<String>,
}

impl Told for ReportAnswer {
    const COMMAND: &'static str = "report";
    const LOOKS: bool = true;
}

/// A locked release, and what its source tells of it.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ReportedPackageTold {
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// Whether a project asks for it itself.
    pub direct: bool,
    /// What it is needed for.
    pub purposes: Vec<String>,
    /// Where it comes from.
    pub from: OriginTold,
    /// How many ask for it.
    pub askers: usize,
    /// Its licence; null where no source tells one.
    pub licence: Option<String>,
    /// When it was published; null where no source tells.
    pub published: Option<String>,
    /// The newest release, where it is another one.
    pub newest: Option<String>,
    /// Bytes of its archive for this machine's platform; null where it has none.
    pub bytes: Option<u64>,
}

impl From<&ReportedPackage> for ReportedPackageTold {
    fn from(one: &ReportedPackage) -> Self {
        Self {
            package: one.package.to_string(),
            version: one.version.to_string(),
            direct: one.direct,
            purposes: texts(&one.purposes),
            from: (&one.from).into(),
            askers: one.askers,
            licence: one.licence.clone(),
            published: one.published.map(|published| published.to_string()),
            newest: one.newest.as_ref().map(ToString::to_string),
            bytes: one.bytes,
        }
    }
}

impl From<&ProjectReport> for ReportAnswer {
    fn from(report: &ProjectReport) -> Self {
        let known = Baseline::default();
        let today = report.made.to_zoned(TimeZone::UTC).date();
        let verdict = judge(&report.audit, &known, today, &Bar::default(), |_| true);
        let mut judged: Vec<_> = verdict.all.iter().collect();
        judged.sort_by_key(|judged| std::cmp::Reverse(judged.finding.severity()));
        let findings = judged.into_iter().map(|judged| FindingTold::of(judged, &report.audit)).collect();
        Self {
            project: report.project.to_string(),
            version: report.version.as_ref().map(ToString::to_string),
            made: report.made.to_string(),
            seal: report.seal.to_string(),
            summary: summary(report),
            findings,
            packages: told(&report.packages),
            graph: GraphAnswer::of(&report.graph, Some(&report.audit)),
            drift: (&report.drift).into(),
            file: None,
        }
    }
}
