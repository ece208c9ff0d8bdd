//! Answer of `audit --under`.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_findings::{Bar, Judged, Rating, judge, years};
use yostel_flows::{Audited, UnderReport};

use super::Told;
use super::findings::FindingTold;
use crate::words::{Viewpoint, diagnostics_of};

/// Answer of `audit --under`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UnderAnswer {
    /// The projects and workspaces that have a lockfile, the furthest behind first.
    pub projects: Vec<UnderProjectTold>,
    /// Advisories that affect some of them, the worst first.
    pub advisories: Vec<UnderAdvisoryTold>,
    /// Packages that they have at several versions.
    pub versions: Vec<UnderVersionsTold>,
    /// Folders of projects without a lockfile.
    pub without_lockfile: Vec<String>,
    /// How many folders could not be read.
    pub unreadable: usize,
}

impl Told for UnderAnswer {
    const COMMAND: &'static str = "audit-under";
}

/// What was found in a project.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UnderProjectTold {
    /// Its folder, from the one that was named.
    pub folder: String,
    /// Its name; null when it cannot be audited.
    pub project: Option<String>,
    /// How many packages are locked.
    pub packages: usize,
    /// Years from the locked releases to the newest, by when they were published, summed, to the thousandth; null when
    /// what is outdated was not looked for.
    pub years: Option<f64>,
    /// Newer releases, summed; null as there.
    pub releases: Option<usize>,
    /// What was found, as `audit` tells it.
    pub findings: Vec<FindingTold>,
    /// Why it cannot be audited; null when it can.
    pub error: Option<String>,
}

/// An advisory, and whom it hits.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UnderAdvisoryTold {
    /// Its name.
    pub id: String,
    /// The package.
    pub package: String,
    /// `none`, `low`, `medium`, `high` or `critical`; what nobody rates counts as high.
    pub severity: &'static str,
    /// Folders of the projects.
    pub projects: Vec<String>,
}

/// The versions at which a package is locked.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UnderVersionsTold {
    /// The package.
    pub package: String,
    /// Each version and the folders of the projects that have it, rising.
    pub versions: Vec<UnderVersionTold>,
}

/// A version, and who has it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UnderVersionTold {
    /// The version.
    pub version: String,
    /// Folders of the projects.
    pub projects: Vec<String>,
}

impl UnderAnswer {
    /// Tells what all audits found; `bar` says what lets one fail, `looks_behind` whether what is outdated was looked for.
    pub fn of(report: &UnderReport, bar: &Bar, looks_behind: bool, view: &Viewpoint<'_>) -> Self {
        let mut projects: Vec<UnderProjectTold> = report
            .projects
            .iter()
            .map(|one| project_told(&one.folder, &one.outcome, bar, looks_behind, view))
            .collect();
        projects.sort_by(|a, b| {
            (b.error.is_some().cmp(&a.error.is_some()))
                .then(b.years.unwrap_or(0.0).total_cmp(&a.years.unwrap_or(0.0)))
                .then(a.folder.cmp(&b.folder))
        });
        let audited =
            || report.projects.iter().filter_map(|one| Some((folder_of(&one.folder), one.outcome.as_ref().ok()?)));
        Self {
            projects,
            advisories: advisories(audited()),
            versions: versions(audited()),
            without_lockfile: report.without_lockfile.iter().map(|folder| folder_of(folder)).collect(),
            unreadable: report.unreadable,
        }
    }
}

fn folder_of(folder: &Path) -> String {
    if folder.as_os_str().is_empty() { ".".to_owned() } else { folder.display().to_string() }
}

fn project_told(
    folder: &Path,
    outcome: &Result<Audited, yostel_flows::FlowError>,
    bar: &Bar,
    looks_behind: bool,
    view: &Viewpoint<'_>,
) -> UnderProjectTold {
    let folder = folder_of(folder);
    match outcome {
        Err(error) => UnderProjectTold {
            folder,
            project: None,
            packages: 0,
            years: None,
            releases: None,
            findings: Vec::new(),
            error: Some(
                diagnostics_of(error, view).into_iter().map(|told| told.headline).collect::<Vec<_>>().join("; "),
            ),
        },
        Ok(Audited { report, .. }) => {
            let known = yostel_documents::Baseline::default();
            let today = view.now.to_zoned(jiff::tz::TimeZone::UTC).date();
            let verdict = judge(report, &known, today, bar, |_| true);
            let lag = |one: &yostel_findings::Outdated| {
                let published = one.published?.as_second();
                u64::try_from(one.newest_published.as_second() - published).ok()
            };
            let seconds: u64 = report.outdated.iter().filter_map(lag).sum();
            UnderProjectTold {
                folder,
                project: Some(report.project.to_string()),
                packages: report.packages,
                years: looks_behind.then(|| years(seconds)),
                releases: looks_behind.then(|| report.outdated.iter().map(|one| one.releases_behind).sum()),
                findings: verdict.all.iter().map(|judged: &Judged<'_>| FindingTold::of(judged, report)).collect(),
                error: None,
            }
        }
    }
}

fn advisories<'r>(found: impl Iterator<Item = (String, &'r Audited)>) -> Vec<UnderAdvisoryTold> {
    let mut all: BTreeMap<(&str, &str), (Rating, BTreeSet<String>)> = BTreeMap::new();
    for (folder, audited) in found {
        for threat in audited.report.advisories.iter().map(|advised| &advised.threat) {
            let rating = threat.severity.map_or(Rating::High, |(rating, _)| rating);
            let known = all.entry((&threat.id, threat.package.as_str())).or_insert((rating, BTreeSet::new()));
            known.0 = known.0.max(rating);
            known.1.insert(folder.clone());
        }
    }
    let mut all: Vec<_> = all.into_iter().collect();
    all.sort_by_key(|(_, (rating, _))| std::cmp::Reverse(*rating));
    let told = |((id, package), (rating, projects)): ((&str, &str), (Rating, BTreeSet<String>))| UnderAdvisoryTold {
        id: id.to_owned(),
        package: package.to_owned(),
        severity: rating.word(),
        projects: projects.into_iter().collect(),
    };
    all.into_iter().map(told).collect()
}

fn versions<'r>(found: impl Iterator<Item = (String, &'r Audited)>) -> Vec<UnderVersionsTold> {
    let mut all: BTreeMap<&str, BTreeMap<&yostel_versions::Version, Vec<String>>> = BTreeMap::new();
    for (folder, audited) in found {
        for (package, version) in &audited.locked {
            all.entry(package.as_str()).or_default().entry(version).or_default().push(folder.clone());
        }
    }
    let several = all.into_iter().filter(|(_, versions)| versions.len() > 1);
    let told = |(package, versions): (&str, BTreeMap<&yostel_versions::Version, Vec<String>>)| UnderVersionsTold {
        package: package.to_owned(),
        versions: versions
            .into_iter()
            .map(|(version, projects)| UnderVersionTold { version: version.to_string(), projects })
            .collect(),
    };
    several.map(told).collect()
}
