//! Answer of `compare`.

use schemars::JsonSchema;
use serde::Serialize;
use yostel_findings::{Cause, Compared, Comparison, MoveKind, NeedChange};
use yostel_flows::{CompareReport, Side};

use super::Told;
use super::advisories::{ThreatTold, UnreadAdvisoryTold};
use super::parts::{MoveTold, texts, told};
use crate::words::side_words;

/// Answer of `compare`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CompareAnswer {
    /// What was compared with the other.
    pub old: SideTold,
    /// The other.
    pub new: SideTold,
    /// Whether a release has other content, or is described otherwise, than before under the same version.
    pub alarm: bool,
    /// What moved, by package.
    pub moves: Vec<ComparedTold>,
    /// Advisories that affect `new` and did not affect `old`, the worst first.
    pub advisories_in: Vec<ThreatTold>,
    /// Advisories that affect `old` and do not affect `new`.
    pub advisories_out: Vec<ThreatTold>,
    /// Advisories that could not be read.
    pub unread_advisories: Vec<UnreadAdvisoryTold>,
    /// Licences that nothing in `old` has.
    pub new_licences: Vec<LicenceTold>,
    /// How many more bytes are to be fetched for this machine's platform; less than nothing when it is less.
    pub bytes: i64,
    /// Why licences and advisories are not told; null when they are.
    pub untold: Option<String>,
}

impl Told for CompareAnswer {
    const COMMAND: &'static str = "compare";
}

/// One of the two lockfiles.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SideTold {
    /// Which it is: `now`, a file, or a revision.
    pub named: String,
    /// How many packages it locks.
    pub packages: usize,
}

/// A move, and what caused it.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ComparedTold {
    /// What moved.
    #[serde(flatten)]
    pub moved: MoveTold,
    /// What caused it.
    pub cause: CauseTold,
    /// The need that changed at the root of it, where a release that came along caused it.
    pub root: Option<NeedChangeTold>,
    /// The licences, when they are not the same.
    pub licences: Option<LicencesTold>,
    /// When the release was published that is there now; null where it is gone, or that is not told.
    pub published: Option<String>,
}

/// What caused a move.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum CauseTold {
    /// A need of a project, which changed.
    Need {
        /// The need.
        need: NeedChangeTold,
    },
    /// A release that came, or that is gone.
    Release {
        /// The package.
        package: String,
        /// The version.
        version: String,
        /// Whether it is there now.
        is_there: bool,
        /// What it asks for, or asked for.
        accept: String,
    },
    /// The manifest forces the version, or did.
    Force {
        /// Whether it does now.
        is_there: bool,
    },
    /// Its release before did not accept what moved.
    MadeWay {
        /// What moved.
        package: String,
        /// The version that it has now.
        version: String,
        /// What the release before accepted of it.
        accept: String,
    },
    /// Nothing that asks for it changed.
    Unprovoked,
}

/// A need that is not as it was.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NeedChangeTold {
    /// The project.
    pub project: String,
    /// What it needs.
    pub package: String,
    /// What for.
    pub purpose: String,
    /// The constraint before; null when there was no such need.
    pub before: Option<String>,
    /// The constraint now; null when there is no such need any more.
    pub after: Option<String>,
}

/// Licences of a package that moved, as SPDX expressions; null where none is told.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LicencesTold {
    /// Before.
    pub before: Option<String>,
    /// Now.
    pub after: Option<String>,
}

/// A licence, and who has it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LicenceTold {
    /// The SPDX expression.
    pub licence: String,
    /// The packages.
    pub packages: Vec<String>,
}

impl From<&NeedChange> for NeedChangeTold {
    fn from(need: &NeedChange) -> Self {
        Self {
            project: need.project.to_string(),
            package: need.package.to_string(),
            purpose: need.purpose.to_string(),
            before: need.before.as_ref().map(ToString::to_string),
            after: need.after.as_ref().map(ToString::to_string),
        }
    }
}

impl From<&Cause> for CauseTold {
    fn from(cause: &Cause) -> Self {
        match cause {
            Cause::Need(need) => Self::Need { need: need.into() },
            Cause::Release { package, version, is_there, accept } => Self::Release {
                package: package.to_string(),
                version: version.to_string(),
                is_there: *is_there,
                accept: accept.to_string(),
            },
            Cause::Force { is_there } => Self::Force { is_there: *is_there },
            Cause::MadeWay { package, version, accept } => {
                Self::MadeWay { package: package.to_string(), version: version.to_string(), accept: accept.to_string() }
            }
            Cause::Unprovoked => Self::Unprovoked,
        }
    }
}

impl From<&Compared> for ComparedTold {
    fn from(compared: &Compared) -> Self {
        let licences = compared.licences.clone().map(|(before, after)| LicencesTold { before, after });
        let (moved, cause) = ((&compared.moved).into(), (&compared.cause).into());
        let root = compared.root.as_ref().map(NeedChangeTold::from);
        Self { moved, cause, root, licences, published: compared.published.map(|published| published.to_string()) }
    }
}

/// Tells whether a move is one that should never be: what is locked at one version is not what it was.
pub fn is_alarm(kind: &MoveKind) -> bool {
    matches!(kind, MoveKind::Content { .. } | MoveKind::Record { .. })
}

/// Tells the licences that nothing had before.
pub(crate) fn licences_told(comparison: &Comparison) -> Vec<LicenceTold> {
    let licence =
        |(licence, packages): (&String, &Vec<_>)| LicenceTold { licence: licence.clone(), packages: texts(packages) };
    comparison.new_licences.iter().map(licence).collect()
}

impl From<&CompareReport> for CompareAnswer {
    fn from(report: &CompareReport) -> Self {
        let comparison = &report.comparison;
        let side = |side: &Side, packages| SideTold { named: side_words(side), packages };
        Self {
            old: side(&report.sides[0], comparison.packages_before),
            new: side(&report.sides[1], comparison.packages),
            alarm: comparison.moves.iter().any(|compared| is_alarm(&compared.moved.kind)),
            moves: told(&comparison.moves),
            advisories_in: told(&comparison.advisories_in),
            advisories_out: told(&comparison.advisories_out),
            unread_advisories: told(&report.unread),
            new_licences: licences_told(comparison),
            bytes: comparison.bytes,
            untold: report.untold.clone(),
        }
    }
}
