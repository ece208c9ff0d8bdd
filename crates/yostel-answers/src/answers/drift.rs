//! Answer of `drift`.

use schemars::JsonSchema;
use serde::Serialize;
use yostel_findings::{Lag, years};
use yostel_flows::{DriftPoint, DriftReport};

use super::Told;
use super::advisories::UnreadAdvisoryTold;
use super::parts::told;

/// Answer of `drift`.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DriftAnswer {
    /// The project that is worked on.
    pub project: String,
    /// How far behind it was at each commit that changed the lockfile, and last, how far it is now.
    pub points: Vec<DriftPointTold>,
    /// The same at 60 times as far from each other as the next, with what was locked then; empty without a history.
    pub curve: Vec<CurvePointTold>,
    /// What is behind now, the furthest first.
    pub packages: Vec<PackageLagTold>,
    /// How many commits of the lockfile are left out between the points.
    pub left_out: usize,
    /// How many commits have a lockfile that cannot be read, or are of no time before now.
    pub unreadable: usize,
    /// Whether only a part of git's history is here.
    pub shallow: bool,
    /// Why there is no history; null when there is one.
    pub no_history: Option<String>,
    /// Advisories that could not be read.
    pub unread_advisories: Vec<UnreadAdvisoryTold>,
}

impl Told for DriftAnswer {
    const COMMAND: &'static str = "drift";
    const LOOKS: bool = true;
}

/// How far behind a project was at a time.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DriftPointTold {
    /// When, in UTC.
    pub at: String,
    /// The commit; null for what is here now.
    pub commit: Option<String>,
    /// How many releases were locked of which a source tells.
    pub packages: usize,
    /// How many more were locked of which none tells.
    pub unknown: usize,
    /// How far behind they were together.
    #[serde(flatten)]
    pub lag: LagTold,
}

/// How far behind a project was at a time, whether or not anything was committed.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct CurvePointTold {
    /// When, in UTC.
    pub at: String,
    /// How far behind.
    #[serde(flatten)]
    pub lag: LagTold,
}

/// How far behind something is.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LagTold {
    /// Years from the locked release to the newest, by when they were published, to the thousandth.
    pub years: f64,
    /// Newer releases.
    pub releases: usize,
    /// Newer compatible lines.
    pub lines: usize,
    /// Advisories that affect it.
    pub advisories: usize,
}

impl From<Lag> for LagTold {
    fn from(lag: Lag) -> Self {
        Self { years: years(lag.seconds), releases: lag.releases, lines: lag.lines, advisories: lag.advisories }
    }
}

/// How far behind a package is.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PackageLagTold {
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// How far behind it is.
    #[serde(flatten)]
    pub lag: LagTold,
}

impl From<&DriftPoint> for DriftPointTold {
    fn from(point: &DriftPoint) -> Self {
        Self {
            at: point.at.to_string(),
            commit: point.commit.clone(),
            packages: point.drift.packages,
            unknown: point.drift.unknown,
            lag: point.drift.total.into(),
        }
    }
}

impl From<&DriftReport> for DriftAnswer {
    fn from(report: &DriftReport) -> Self {
        let now = report.points.last().map(|point| &point.drift.each[..]).unwrap_or_default();
        let mut packages: Vec<_> = now.iter().collect();
        packages
            .sort_by_key(|(package, _, lag)| (std::cmp::Reverse((lag.advisories, lag.seconds, lag.releases)), package));
        let packages = packages.into_iter().map(|(package, version, lag)| PackageLagTold {
            package: package.to_string(),
            version: version.to_string(),
            lag: (*lag).into(),
        });
        Self {
            project: report.project.to_string(),
            points: told(&report.points),
            curve: report
                .curve
                .iter()
                .map(|(at, lag)| CurvePointTold { at: at.to_string(), lag: (*lag).into() })
                .collect(),
            packages: packages.collect(),
            left_out: report.left_out,
            unreadable: report.unreadable,
            shallow: report.is_shallow,
            no_history: report.no_history.clone(),
            unread_advisories: told(&report.unread),
        }
    }
}
