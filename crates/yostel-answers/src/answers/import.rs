//! Answer of `import`.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{InventoryForm, Requirement};
use yostel_flows::{ImportReport, NotKept, WhyNotKept};

use super::Told;
use super::parts::{ReleaseTold, told};

/// Answer of `import`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ImportAnswer {
    /// The manifest.
    pub manifest: PathBuf,
    /// The lockfile.
    pub lockfile: PathBuf,
    /// The form of the list: `cyclonedx`, `spdx`, `urls` or `csv`.
    pub form: &'static str,
    /// How many packages it lists.
    pub listed: usize,
    /// What is locked at the listed version.
    pub kept: Vec<ReleaseTold>,
    /// What is not, and why.
    pub others: Vec<NotKeptTold>,
    /// What is locked now, and neither listed nor locked before.
    pub added: Vec<ReleaseTold>,
    /// What is locked at the listed version, with archives of other digests than the list has.
    pub differs: Vec<ReleaseTold>,
    /// The needs that were taken over.
    pub needs: Vec<TakenNeedTold>,
    /// Whether it was written.
    pub written: bool,
}

impl Told for ImportAnswer {
    const COMMAND: &'static str = "import";
}

/// A need that was taken over.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenNeedTold {
    /// The package.
    pub package: String,
    /// What for.
    pub purpose: String,
    /// Which versions will do.
    pub accept: String,
}

impl From<&Requirement> for TakenNeedTold {
    fn from(need: &Requirement) -> Self {
        let (package, purpose) = (need.package.to_string(), need.purpose.to_string());
        Self { package, purpose, accept: need.accept.to_string() }
    }
}

/// A listed package that is not locked as it is listed.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NotKeptTold {
    /// Its name as it is listed.
    pub listed: String,
    /// Its version as it is listed.
    pub version: Option<String>,
    /// The line of the list; null where the list has none that mean something.
    pub line: Option<usize>,
    /// The package that is meant; null where no source knows one.
    pub package: Option<String>,
    /// The versions at which it is locked.
    pub locked: Vec<String>,
    /// Why: `left-out`, `unknown`, `no-version`, `no-release`, `not-needed`, `asked-for` (another version) or `no-room`.
    pub why: &'static str,
    /// Who asks for another version, and for which.
    pub asked_by: Option<String>,
    /// Where it comes from, as the list says: an address.
    pub place: Option<String>,
}

impl From<&NotKept> for NotKeptTold {
    fn from(other: &NotKept) -> Self {
        let why = match &other.why {
            WhyNotKept::LeftOut => "left-out",
            WhyNotKept::Unknown => "unknown",
            WhyNotKept::NoVersion => "no-version",
            WhyNotKept::NoRelease => "no-release",
            WhyNotKept::NotNeeded => "not-needed",
            WhyNotKept::AskedFor { .. } => "asked-for",
            WhyNotKept::NoRoom => "no-room",
        };
        let asked_by = match &other.why {
            WhyNotKept::AskedFor { who, accept } => Some(format!("{who} needs {accept}")),
            _ => None,
        };
        Self {
            listed: other.listed.name.clone(),
            version: other.listed.version.clone(),
            line: other.listed.line,
            package: other.package.as_ref().map(ToString::to_string),
            locked: other.locked.iter().map(ToString::to_string).collect(),
            why,
            asked_by,
            place: other.listed.place.clone(),
        }
    }
}

impl From<&ImportReport> for ImportAnswer {
    fn from(report: &ImportReport) -> Self {
        let releases = |all: &std::collections::BTreeSet<(_, _)>| all.iter().map(ReleaseTold::from).collect();
        Self {
            manifest: report.manifest.clone(),
            lockfile: report.path.clone(),
            form: match report.form {
                InventoryForm::CycloneDx => "cyclonedx",
                InventoryForm::Spdx => "spdx",
                InventoryForm::Urls => "urls",
                InventoryForm::Csv => "csv",
            },
            listed: report.listed,
            kept: releases(&report.kept),
            others: told(&report.others),
            added: releases(&report.added),
            differs: releases(&report.differs),
            needs: told(&report.needs),
            written: report.written,
        }
    }
}
