//! Answers of the commands that change a manifest.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{Elsewhere, NeedForm, PackageName, Purpose};
use yostel_flows::{
    AddReport, AddedElsewhere, AgreeReport, GitReport, InitReport, InstallReport, LockReport, RemoveReport,
};
use yostel_versions::ConstraintText;

use super::Told;
use super::decide::LockAnswer;
use super::parts::{OriginTold, texts, told};
use super::sources::doubt;
use super::using::InstallAnswer;

/// Answer of `init`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct InitAnswer {
    /// The manifest that was written.
    pub manifest: PathBuf,
    /// The project's name.
    pub project: String,
    /// Why the source that it names cannot be asked yet: `no-folder` or `no-registry`; null when it can, or none is named.
    pub source_doubt: Option<&'static str>,
    /// Registries nearby, as paths from the folder, when no source is named.
    pub registries_nearby: Vec<String>,
    /// What git was told, with `--git`.
    pub git: Option<GitTold>,
}

/// What git was told.
#[derive(Debug, Serialize, JsonSchema)]
pub struct GitTold {
    /// The file with attributes.
    pub attributes: PathBuf,
    /// The lines that it got.
    pub lines: Vec<String>,
    /// The settings of this clone that changed.
    pub settings: Vec<SettingTold>,
}

/// A setting of git's.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingTold {
    /// Its name.
    pub key: String,
    /// Its value.
    pub value: String,
    /// What it was; null where it had none.
    pub before: Option<String>,
}

impl From<&GitReport> for GitTold {
    fn from(report: &GitReport) -> Self {
        let setting = |(key, value, before): &(&'static str, &'static str, Option<String>)| SettingTold {
            key: (*key).to_owned(),
            value: (*value).to_owned(),
            before: before.clone(),
        };
        Self {
            attributes: report.attributes.clone(),
            lines: report.lines.clone(),
            settings: report.settings.iter().map(setting).collect(),
        }
    }
}

impl InitAnswer {
    /// Tells of a manifest that was started, and of what git was told.
    pub fn of(report: &InitReport, project: &PackageName, git: Option<&GitReport>) -> Self {
        Self {
            manifest: report.path.clone(),
            project: project.to_string(),
            source_doubt: report.doubt.map(doubt),
            registries_nearby: report.nearby.clone(),
            git: git.map(GitTold::from),
        }
    }
}

impl Told for InitAnswer {
    const COMMAND: &'static str = "init";
}

/// Answer of `add`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum AddAnswer {
    /// Of a package from a source.
    Source(AddedFromSource),
    /// Of a package from elsewhere.
    Elsewhere(AddedFromElsewhere),
    /// Of several packages.
    Several(AddedSeveral),
}

/// Needs of several packages.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AddedSeveral {
    /// The needs, in the order in which they were named.
    pub added: Vec<AddedFromSource>,
    /// With `--install`: what locking came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lock: Option<LockAnswer>,
    /// With `--install`: what installing came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub install: Option<InstallAnswer>,
}

impl Told for AddAnswer {
    const COMMAND: &'static str = "add";
}

/// A need of a package that a source has.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AddedFromSource {
    /// The manifest that was edited.
    pub manifest: PathBuf,
    /// The package.
    pub package: String,
    /// For which purpose.
    pub purpose: String,
    /// The constraint.
    pub accept: String,
    /// Whether the manifest says `agreed`.
    pub agreed: bool,
    /// The constraint in words.
    pub means: String,
    /// The constraint that was there before; null when the need is new.
    pub before: Option<String>,
    /// Where the package comes from.
    pub source: OriginTold,
    /// The releases that the constraint accepts today, rising.
    pub accepted: Vec<String>,
    /// The newest release, when the constraint does not accept it.
    pub newest_not_accepted: Option<String>,
    /// Whether the constraint has an upper bound.
    pub bounded_above: bool,
    /// With `--install`: what locking came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lock: Option<LockAnswer>,
    /// With `--install`: what installing came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub install: Option<InstallAnswer>,
}

/// A need of a package from a repository, a folder or an archive.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AddedFromElsewhere {
    /// The manifest that was edited.
    pub manifest: PathBuf,
    /// The package.
    pub package: String,
    /// For which purpose.
    pub purpose: String,
    /// The constraint; null when any version will do.
    pub accept: Option<String>,
    /// The place, in words.
    pub elsewhere: String,
    /// The commit that the place has today; null when it is not a repository.
    pub commit: Option<String>,
    /// The only digest that is accepted; null when it is not an archive.
    pub digest: Option<String>,
    /// What was there before; null when the need is new.
    pub before: Option<String>,
    /// With `--install`: what locking came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lock: Option<LockAnswer>,
    /// With `--install`: what installing came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub install: Option<InstallAnswer>,
}

impl From<&[AddReport]> for AddAnswer {
    fn from(reports: &[AddReport]) -> Self {
        match reports {
            [one] => Self::Source(one.into()),
            several => Self::Several(AddedSeveral { added: told(several), lock: None, install: None }),
        }
    }
}

impl From<&AddReport> for AddedFromSource {
    fn from(report: &AddReport) -> Self {
        Self {
            manifest: report.path.clone(),
            package: report.package.to_string(),
            purpose: report.purpose.to_string(),
            accept: report.accept.to_string(),
            agreed: report.form == NeedForm::Agreed,
            means: report.constraint.to_words(),
            before: report.before.clone(),
            source: (&report.source).into(),
            accepted: texts(&report.accepted),
            newest_not_accepted: report.newest_not_accepted.as_ref().map(ToString::to_string),
            bounded_above: report.constraint.is_bounded_above(),
            lock: None,
            install: None,
        }
    }
}

impl AddAnswer {
    /// Adds what followed.
    #[must_use]
    pub fn and_then(mut self, then: Option<(&LockReport, &InstallReport)>) -> Self {
        let (lock, install) = match &mut self {
            Self::Source(told) => (&mut told.lock, &mut told.install),
            Self::Elsewhere(told) => (&mut told.lock, &mut told.install),
            Self::Several(told) => (&mut told.lock, &mut told.install),
        };
        *lock = then.map(|(lock, _)| lock.into());
        *install = then.map(|(_, install)| install.into());
        self
    }

    /// Tells of a package from elsewhere.
    pub fn elsewhere(
        report: &AddedElsewhere,
        package: &PackageName,
        purpose: &Purpose,
        accept: Option<&ConstraintText>,
    ) -> Self {
        let digest = match &report.elsewhere {
            Elsewhere::Archive { digest, .. } => Some(digest.to_string()),
            Elsewhere::Git(_) | Elsewhere::Path(_) => None,
        };
        Self::Elsewhere(AddedFromElsewhere {
            manifest: report.path.clone(),
            package: package.to_string(),
            purpose: purpose.to_string(),
            accept: accept.map(ToString::to_string),
            elsewhere: report.elsewhere.to_string(),
            commit: report.commit.clone(),
            digest,
            before: report.before.clone(),
            lock: None,
            install: None,
        })
    }
}

/// Answer of `agree`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AgreeAnswer {
    /// The manifest that says what is agreed.
    pub manifest: PathBuf,
    /// What is agreed from now on.
    pub agreed: Vec<AgreedTold>,
    /// What stays as it is, because projects need it with different constraints.
    pub apart: Vec<ApartTold>,
}

impl Told for AgreeAnswer {
    const COMMAND: &'static str = "agree";
}

/// A constraint that is agreed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AgreedTold {
    /// The package.
    pub package: String,
    /// The constraint.
    pub accept: String,
    /// The projects that had it.
    pub projects: Vec<String>,
}

/// A package that projects need with different constraints.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ApartTold {
    /// The package.
    pub package: String,
    /// Who needs it with which constraint.
    pub needs: Vec<ProjectNeedTold>,
}

/// A project's need.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProjectNeedTold {
    /// The project.
    pub project: String,
    /// The constraint.
    pub accept: String,
}

impl From<&AgreeReport> for AgreeAnswer {
    fn from(report: &AgreeReport) -> Self {
        let agreed = report.gathered.iter().map(|(package, (accept, projects))| AgreedTold {
            package: package.to_string(),
            accept: accept.to_string(),
            projects: texts(projects),
        });
        let need = |(project, accept): &(PackageName, ConstraintText)| ProjectNeedTold {
            project: project.to_string(),
            accept: accept.to_string(),
        };
        let apart = report.apart.iter().map(|(package, needs)| ApartTold {
            package: package.to_string(),
            needs: needs.iter().map(need).collect(),
        });
        Self { manifest: report.path.clone(), agreed: agreed.collect(), apart: apart.collect() }
    }
}

/// Answer of `remove`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RemoveAnswer {
    /// The manifest that was edited.
    pub manifest: PathBuf,
    /// The package.
    pub package: String,
    /// The constraint that was there; null when it had none.
    pub before: Option<String>,
    /// The purposes it was removed from.
    pub purposes: Vec<String>,
    /// With `--install`: what locking came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lock: Option<LockAnswer>,
    /// With `--install`: what installing came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub install: Option<InstallAnswer>,
}

impl Told for RemoveAnswer {
    const COMMAND: &'static str = "remove";
}

impl RemoveAnswer {
    /// Tells that a need was removed.
    pub fn of(report: &RemoveReport, package: &PackageName) -> Self {
        let (before, purposes) = (report.before.clone(), report.purposes.clone());
        let package = package.to_string();
        Self { manifest: report.path.clone(), package, before, purposes, lock: None, install: None }
    }

    /// Adds what followed.
    #[must_use]
    pub fn and_then(self, then: Option<(&LockReport, &InstallReport)>) -> Self {
        let (lock, install) = then.map(|(lock, install)| (lock.into(), install.into())).unzip();
        Self { lock, install, ..self }
    }
}
