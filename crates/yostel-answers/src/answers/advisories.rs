//! Advisories in the answer of `audit`.

use schemars::JsonSchema;
use serde::Serialize;
use yostel_findings::{Advised, Dismissed, Rating, Threat, UnreadAdvisory, WayOut};

use super::parts::{AskedTold, texts, told};

/// An advisory that affects a locked release.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AdvisedTold {
    /// The advisory's name.
    pub id: String,
    /// The same matter by other names.
    pub aliases: Vec<String>,
    /// What it is about; null when it does not say.
    pub summary: Option<String>,
    /// How bad it is; null when nobody says.
    pub severity: Option<SeverityTold>,
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// The lowest newer release that no advisory affects; null when there is none.
    pub fixed: Option<String>,
    /// How to get out of it.
    pub way: WayTold,
}

/// An advisory that affects a release.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ThreatTold {
    /// The advisory's name.
    pub id: String,
    /// How bad it is; null when nobody says.
    pub severity: Option<SeverityTold>,
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
}

/// How bad something is.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SeverityTold {
    /// `none`, `low`, `medium`, `high` or `critical`.
    pub rating: &'static str,
    /// The CVSS score, from 0 to 10.
    pub score: f64,
}

/// How to get a release that an advisory does not affect.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum WayTold {
    /// `lock --fresh` takes this version.
    Fresh {
        /// The version.
        version: String,
    },
    /// Another constraint for a need, which locks.
    Need {
        /// The project.
        project: String,
        /// The purpose.
        purpose: String,
        /// The constraint that it has.
        from: String,
        /// The one that does.
        accept: String,
        /// How many other packages move then.
        others: usize,
    },
    /// Others keep it out.
    Held {
        /// Who does not accept `fixed`; empty when everyone does, and something further away keeps it out.
        by: Vec<AskedTold>,
    },
    /// The manifest forces the version that is locked.
    Forced,
    /// There is no such release.
    NoRelease,
    /// A commit of the repository that it comes from ends it.
    Commit {
        /// The commit.
        commit: String,
    },
}

/// An advisory of which somebody says that it does not affect what is locked.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DismissedTold {
    /// The advisory's name.
    pub id: String,
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// Why it does not count; null when the document does not say.
    pub why: Option<String>,
    /// The last day on which it does not; null when there is none.
    pub until: Option<String>,
    /// The document that says so.
    pub file: String,
}

/// An advisory that could not be read.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct UnreadAdvisoryTold {
    /// The source, or the place that the manifest names, or the repository.
    pub source: String,
    /// Its file; `advisories` when that folder cannot be read, `the history` of a repository.
    pub file: String,
    /// Why.
    pub why: String,
}

fn severity((rating, score): (Rating, f64)) -> SeverityTold {
    SeverityTold { rating: rating.word(), score }
}

impl From<&Threat> for ThreatTold {
    fn from(threat: &Threat) -> Self {
        Self {
            id: threat.id.clone(),
            severity: threat.severity.map(severity),
            package: threat.package.to_string(),
            version: threat.version.to_string(),
        }
    }
}

impl From<&Advised> for AdvisedTold {
    fn from(advised: &Advised) -> Self {
        let threat = &advised.threat;
        Self {
            id: threat.id.clone(),
            aliases: texts(&threat.aliases),
            summary: threat.summary.clone(),
            severity: threat.severity.map(severity),
            package: threat.package.to_string(),
            version: threat.version.to_string(),
            fixed: threat.fixed.as_ref().map(ToString::to_string),
            way: (&advised.way).into(),
        }
    }
}

impl From<&WayOut> for WayTold {
    fn from(way: &WayOut) -> Self {
        match way {
            WayOut::Fresh(version) => Self::Fresh { version: version.to_string() },
            WayOut::Need { requirement, accept, others } => Self::Need {
                project: requirement.asker.to_string(),
                purpose: requirement.purpose.to_string(),
                from: requirement.accept.to_string(),
                accept: accept.to_string(),
                others: *others,
            },
            WayOut::Held(by) => Self::Held { by: told(by) },
            WayOut::Forced => Self::Forced,
            WayOut::NoRelease => Self::NoRelease,
            WayOut::Commit(commit) => Self::Commit { commit: commit.clone() },
        }
    }
}

impl From<&Dismissed> for DismissedTold {
    fn from(dismissed: &Dismissed) -> Self {
        let Dismissed { threat, why, until, file } = dismissed;
        Self {
            id: threat.id.clone(),
            package: threat.package.to_string(),
            version: threat.version.to_string(),
            why: why.clone(),
            until: until.map(|until| until.to_string()),
            file: file.clone(),
        }
    }
}

impl From<&UnreadAdvisory> for UnreadAdvisoryTold {
    fn from(unread: &UnreadAdvisory) -> Self {
        Self { source: unread.place.clone(), file: unread.file.clone(), why: unread.why.clone() }
    }
}
