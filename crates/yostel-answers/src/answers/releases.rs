//! Answer of `explain --releases`.

use schemars::JsonSchema;
use serde::Serialize;
use yostel_flows::{ReleaseSeen, ReleasesReport};
use yostel_resolve::Barred;

use super::parts::{AskedTold, OriginTold, WithdrawnTold, told};

/// The releases of a package.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReleasesTold {
    /// The package.
    pub package: String,
    /// Where they are.
    pub from: OriginTold,
    /// The releases, the newest first.
    pub releases: Vec<ReleaseSeenTold>,
}

/// A release, as the project sees it.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ReleaseSeenTold {
    /// The version.
    pub version: String,
    /// When it was published.
    pub published: String,
    /// Whether it is locked.
    pub locked: bool,
    /// Whether it is a pre-release.
    pub pre_release: bool,
    /// Why and when it was withdrawn; null when it was not.
    pub withdrawn: Option<WithdrawnTold>,
    /// Whether it is too young by the project's rules.
    pub too_young: bool,
    /// When it is old enough; null when it is, or that is beyond all time.
    pub counts_from: Option<String>,
    /// Why it is deprecated; null when it is not.
    pub deprecated: Option<String>,
    /// The package that took its place; null when none did.
    pub replaced_by: Option<String>,
    /// Who needs the package and does not accept it.
    pub not_accepted: Vec<AskedTold>,
    /// Platforms that the project lists and for which it has nothing.
    pub unserved: Vec<String>,
    /// The platforms that it has something for; `any` when one fits all.
    pub platforms: Vec<String>,
    /// What is new in it, by its author; null when nothing is said.
    pub notes: Option<String>,
}

impl From<&ReleasesReport> for ReleasesTold {
    fn from(report: &ReleasesReport) -> Self {
        Self {
            package: report.package.to_string(),
            from: OriginTold::from(&report.from),
            releases: told(&report.releases),
        }
    }
}

impl From<&ReleaseSeen> for ReleaseSeenTold {
    fn from(seen: &ReleaseSeen) -> Self {
        let ReleaseSeen { release, locked, barred, not_accepted, unserved } = seen;
        Self {
            version: release.version.to_string(),
            published: release.published.to_string(),
            locked: *locked,
            pre_release: release.version.is_pre_release(),
            withdrawn: release.withdrawn.as_ref().map(WithdrawnTold::from),
            too_young: matches!(barred, Some(Barred::TooYoung(_))),
            counts_from: match barred {
                Some(Barred::TooYoung(Some(from))) => Some(from.to_string()),
                _ => None,
            },
            deprecated: release.deprecated.clone(),
            replaced_by: release.replaced_by.as_ref().map(ToString::to_string),
            not_accepted: told(not_accepted),
            unserved: unserved.clone(),
            platforms: release.artifacts.iter().map(|artifact| artifact.platform.clone()).collect(),
            notes: release.notes.clone(),
        }
    }
}
