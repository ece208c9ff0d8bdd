//! Answer of `audit`.

use std::collections::BTreeSet;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{AskedBy, Dispute, Disputed};
use yostel_findings::{
    AuditReport, Concern, Debt, Dedupe, Duplicate, LicenceTrouble, Quiet, Unlicensed, Upkeep, Verdict,
};
use yostel_versions::Version;

use super::Told;
use super::advisories::{AdvisedTold, DismissedTold, UnreadAdvisoryTold};
use super::findings::FindingTold;
use super::outdated::OutdatedTold;
use super::parts::{AskedTold, EditTold, NoticeTold, ReleaseTold, texts, told};
use crate::words::{concern_words, dispute_words};

/// Answer of `audit`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AuditAnswer {
    /// How many packages are locked.
    pub packages: usize,
    /// All that was found, each kind told alike: what should be looked at first is first.
    pub findings: Vec<FindingTold>,
    /// What the baseline knows and was not found any more.
    pub gone: Vec<String>,
    /// Packages for which something newer exists.
    pub outdated: Vec<OutdatedTold>,
    /// What is there twice.
    pub duplicates: Vec<DuplicateTold>,
    /// Rules of the manifest that are due for review.
    pub upkeep: Vec<UpkeepTold>,
    /// What may go wrong one day with what is needed, as far as the policy asks for that.
    pub concerns: Vec<ConcernTold>,
    /// What is said of locked releases since they were published.
    pub notices: Vec<NoticeTold>,
    /// What the lockfile says of releases, and their sources say otherwise.
    pub alarms: Vec<AlarmTold>,
    /// Packages that no source has any more.
    pub unknown: Vec<String>,
    /// Advisories that affect what is locked, the worst first.
    pub advisories: Vec<AdvisedTold>,
    /// Advisories of which somebody says that they do not affect what is locked.
    pub dismissed: Vec<DismissedTold>,
    /// Those of which somebody said so until a day that is past: they are among `advisories` again.
    pub lapsed: Vec<DismissedTold>,
    /// Advisories that could not be read.
    pub unread_advisories: Vec<UnreadAdvisoryTold>,
    /// Locked releases whose licence is not allowed.
    pub licences: Vec<UnlicensedTold>,
    /// Packages of which nothing new came for long.
    pub quiet: Vec<QuietTold>,
}

impl Told for AuditAnswer {
    const COMMAND: &'static str = "audit";
    const LOOKS: bool = true;
}

/// Something that is there twice.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum DuplicateTold {
    /// Packages with the same files.
    Content {
        /// The digest of their files.
        content: String,
        /// The packages.
        packages: Vec<ReleaseTold>,
        /// How many bytes could be spared; null when not all of their files are in the cache.
        bytes: Option<u64>,
    },
    /// Packages with nearly the same files.
    Alike {
        /// How many of a hundred files are equal, for the one that is least like the first.
        alike: usize,
        /// The packages; the others are compared with the first.
        packages: Vec<ReleaseTold>,
        /// How many bytes could be spared.
        bytes: Option<u64>,
    },
    /// Packages with nearly the same name.
    Names {
        /// The names without `-`, `.` and `_`.
        name: String,
        /// The packages.
        packages: Vec<ReleaseTold>,
    },
    /// Packages that do the same job.
    Role {
        /// The role.
        role: String,
        /// The packages.
        packages: Vec<ReleaseTold>,
    },
    /// One package at several versions.
    Versions {
        /// The package.
        versions: String,
        /// Its versions, rising.
        packages: Vec<VersionTold>,
        /// How many bytes those beside the newest take; null when not all of their files are in the cache.
        bytes: Option<u64>,
        /// What it would take to have one.
        join: JoinTold,
    },
}

/// One of several versions of a package.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct VersionTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Who asks for it.
    pub asked_by: Vec<AskedTold>,
}

/// What it would take to have one version in place of several.
#[derive(Debug, Serialize, JsonSchema)]
pub struct JoinTold {
    /// Whether edits, or the policy alone, can join the versions.
    pub possible: bool,
    /// The edits, when it is possible; empty when it is enough to take the package out of `coexist`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub edits: Option<Vec<EditTold>>,
}

impl From<Option<&Dedupe>> for JoinTold {
    fn from(dedupe: Option<&Dedupe>) -> Self {
        let edits = match dedupe {
            Some(Dedupe::ByPolicyOnly) => Some(Vec::new()),
            Some(Dedupe::Edits(edits)) => Some(told(edits)),
            Some(Dedupe::Impossible) | None => None,
        };
        Self { possible: edits.is_some(), edits }
    }
}

impl DuplicateTold {
    fn of(duplicate: &Duplicate, report: &AuditReport) -> Self {
        match duplicate {
            Duplicate::Content { digest, packages, bytes } => {
                Self::Content { content: digest.to_string(), packages: told(packages), bytes: *bytes }
            }
            Duplicate::Alike { packages, percent, bytes } => {
                Self::Alike { alike: *percent, packages: told(packages), bytes: *bytes }
            }
            Duplicate::Names { packages } => {
                let name = packages.first().map(|(name, _)| name.as_str().replace(['-', '.', '_'], ""));
                Self::Names { name: name.unwrap_or_default(), packages: told(packages) }
            }
            Duplicate::Role { role, packages } => Self::Role { role: role.to_string(), packages: told(packages) },
            Duplicate::Versions { package, versions, bytes } => {
                let one = |(version, by): &(Version, BTreeSet<AskedBy>)| {
                    let (package, version) = (package.to_string(), version.to_string());
                    VersionTold { package, version, asked_by: told(by) }
                };
                let packages = versions.iter().map(one).collect();
                let join = report.dedupes.get(package).into();
                Self::Versions { versions: package.to_string(), packages, bytes: *bytes, join }
            }
        }
    }
}

/// A rule of a manifest that is due for review.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UpkeepTold {
    /// `force`, `swap`, `admit`, `licence-exceptions` or `deviation`.
    pub rule: String,
    /// The package it is about.
    pub package: String,
    /// The manifest, from the root.
    pub file: String,
    /// The line of it, from 1.
    pub line: usize,
    /// Why the rule is there.
    pub why: String,
    /// What is wrong with it.
    pub debts: Vec<DebtTold>,
}

/// What may go wrong one day with what is needed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ConcernTold {
    /// `unbounded`, `lower-bound`, `only-here`, `unused`, `no-provenance`, `too-young` or `stray-mention`.
    pub kind: &'static str,
    /// The package.
    pub package: String,
    /// The locked version; null where it is not about one.
    pub version: Option<String>,
    /// The constraint of the need; null where it is not about one.
    pub accept: Option<String>,
    /// What it is, in a sentence.
    pub says: String,
}

impl From<&Concern> for ConcernTold {
    fn from(concern: &Concern) -> Self {
        Self {
            kind: concern.about.word(),
            package: concern.package.to_string(),
            version: concern.version.as_ref().map(ToString::to_string),
            accept: concern.need.as_ref().map(|need| need.accept.to_string()),
            says: concern_words(concern),
        }
    }
}

/// What is wrong with a rule.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum DebtTold {
    /// Its last day is past.
    Past {
        /// By so many days.
        days: i64,
    },
    /// Without it, the same releases would be chosen.
    ChangesNothing,
    /// Without it, a newer release would be chosen.
    Hides {
        /// The newer release.
        version: String,
    },
    /// It differs from what is agreed.
    Stands,
}

impl From<&Debt> for DebtTold {
    fn from(debt: &Debt) -> Self {
        match debt {
            Debt::Past(days) => Self::Past { days: *days },
            Debt::ChangesNothing => Self::ChangesNothing,
            Debt::Hides(version) => Self::Hides { version: version.to_string() },
            Debt::Stands => Self::Stands,
        }
    }
}

impl From<&Upkeep> for UpkeepTold {
    fn from(upkeep: &Upkeep) -> Self {
        Self {
            rule: upkeep.rule.word().to_owned(),
            package: upkeep.package.to_string(),
            file: upkeep.file.clone(),
            line: upkeep.line,
            why: upkeep.why.clone(),
            debts: told(&upkeep.debts),
        }
    }
}

/// A locked release whose licence is not allowed.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UnlicensedTold {
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// The SPDX expression that its release tells; null when it tells none.
    pub licence: Option<String>,
    /// Licences of it that are not allowed; empty when it tells none, or no expression.
    pub not_allowed: Vec<String>,
    /// Why it is no expression; null when it is one.
    pub no_expression: Option<String>,
    /// The last day of an exception for it that is past; null when there is none.
    pub excepted_until: Option<String>,
}

impl From<&Unlicensed> for UnlicensedTold {
    fn from(one: &Unlicensed) -> Self {
        let (not_allowed, no_expression) = match &one.trouble {
            LicenceTrouble::NotAllowed(missing) => (missing.clone(), None),
            LicenceTrouble::NoExpression(why) => (Vec::new(), Some(why.clone())),
            LicenceTrouble::Untold => (Vec::new(), None),
        };
        Self {
            package: one.package.to_string(),
            version: one.version.to_string(),
            licence: one.licence.clone(),
            not_allowed,
            no_expression,
            excepted_until: one.excepted_until.map(|until| until.to_string()),
        }
    }
}

/// A package of which nothing new came for long.
#[derive(Debug, Serialize, JsonSchema)]
pub struct QuietTold {
    /// The package.
    pub package: String,
    /// The release that was published last.
    pub last: String,
    /// When that was.
    pub published: String,
    /// How many days ago.
    pub days: i64,
}

impl From<&Quiet> for QuietTold {
    fn from(quiet: &Quiet) -> Self {
        let (last, published) = (quiet.last.to_string(), quiet.published.to_string());
        Self { package: quiet.package.to_string(), last, published, days: quiet.days }
    }
}

/// Something that the lockfile says and its source contradicts.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AlarmTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// What it is about: `package`, `release`, `content`, `needs`, `record` or `inside`.
    pub kind: String,
    /// What the contradiction is, in a sentence.
    pub says: String,
    /// The digest of the archive that is locked, where content differs.
    pub locked: Option<String>,
    /// The digest of the archive that is offered, where content differs.
    pub offered: Option<String>,
}

impl From<&Dispute> for AlarmTold {
    fn from(alarm: &Dispute) -> Self {
        let (locked, offered) = match &alarm.about {
            Disputed::Content { locked, offered } => (Some(locked), offered.as_ref()),
            _ => (None, None),
        };
        Self {
            package: alarm.package.to_string(),
            version: alarm.version.to_string(),
            kind: alarm.about.word().to_owned(),
            says: dispute_words(alarm),
            locked: locked.map(|artifact| artifact.digest.to_string()),
            offered: offered.map(|artifact| artifact.digest.to_string()),
        }
    }
}

impl AuditAnswer {
    /// Tells what was found; ages are counted to `now`.
    pub fn of(report: &AuditReport, verdict: &Verdict<'_>, now: Timestamp) -> Self {
        Self {
            packages: report.packages,
            findings: verdict.all.iter().map(|judged| FindingTold::of(judged, report)).collect(),
            gone: verdict.gone.iter().map(|known| known.id.clone()).collect(),
            outdated: report.outdated.iter().map(|outdated| OutdatedTold::of(outdated, now)).collect(),
            duplicates: report.duplicates.iter().map(|duplicate| DuplicateTold::of(duplicate, report)).collect(),
            upkeep: told(&report.upkeep),
            concerns: told(&report.concerns),
            notices: told(&report.notices),
            alarms: told(&report.alarms),
            unknown: texts(&report.unknown),
            advisories: told(&report.advisories),
            dismissed: told(&report.dismissed),
            lapsed: told(&report.lapsed),
            unread_advisories: told(&report.unread),
            licences: told(&report.unlicensed),
            quiet: told(&report.quiet),
        }
    }
}
