//! All that can be told of a project, for a page to hand round.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{Origin, PackageName, Purpose, Seal, artifact_for};
use yostel_findings::AuditReport;
use yostel_versions::Version;

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::error::FlowError;
use crate::look::audit::{AuditRequest, audit};
use crate::look::drift::{DriftReport, drift};
use crate::look::graph::{GraphReport, GraphRequest, graph_of};
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;

/// All that can be told of a project.
#[derive(Debug)]
pub struct ProjectReport {
    /// The project that is worked on.
    pub project: PackageName,
    /// Its version, where it says one.
    pub version: Option<Version>,
    /// When this was found out.
    pub made: Timestamp,
    /// The lockfile that it is of.
    pub seal: Seal,
    /// What was found.
    pub audit: AuditReport,
    /// What is locked, by name and version.
    pub packages: Vec<ReportedPackage>,
    /// Who needs whom.
    pub graph: GraphReport,
    /// How far behind it is and was.
    pub drift: DriftReport,
}

/// A locked release, and what its source tells of it.
#[derive(Debug)]
pub struct ReportedPackage {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// Whether a project asks for it itself.
    pub direct: bool,
    /// What it is needed for.
    pub purposes: BTreeSet<Purpose>,
    /// Where it comes from.
    pub from: Origin,
    /// How many ask for it.
    pub askers: usize,
    /// Its licence, where a source tells one.
    pub licence: Option<String>,
    /// When it was published, where a source tells.
    pub published: Option<Timestamp>,
    /// The newest release, where it is another one.
    pub newest: Option<Version>,
    /// Bytes of its archive for this machine's platform.
    pub bytes: Option<u64>,
}

/// Finds out all that can be told of a project.
///
/// # Errors
/// As loading a lockfile and asking the sources.
pub fn report_of(project: &LoadedProject, most: usize, context: &Context<'_>) -> Result<ProjectReport, FlowError> {
    let request = GraphRequest { focus: None, fold: None, most, since: None };
    let mut graph = graph_of(project, &request, context)?;
    let audit = match graph.audit.take() {
        Some(audit) => audit,
        // A page that does not tell what is dangerous would be taken for good news.
        None => audit(project, &AuditRequest::default(), context)?,
    };
    let drift = drift(project, context)?;
    let Prepared { lockfile, .. } = project.prepare_to_look(context.observer)?;
    let names = from_sources(&lockfile);
    let documents = told_by_sources(project, &names, context.observer)?;
    let newest: BTreeMap<&PackageName, &Version> =
        audit.outdated.iter().map(|outdated| (&outdated.package, &outdated.newest)).collect();
    let platform = &context.settings.platform;
    let packages = lockfile.chosen.iter().map(|(package, locked)| {
        let release = documents.get(package).and_then(|document| document.release(&locked.version));
        let askers: BTreeSet<_> = locked.asked_by.iter().map(|asked| &asked.who).collect();
        ReportedPackage {
            package: package.clone(),
            version: locked.version.clone(),
            direct: locked.asked_by.iter().any(|asked| asked.who.is_project()),
            purposes: locked.purposes.clone(),
            from: locked.from.clone(),
            askers: askers.len(),
            licence: release.and_then(|release| release.licence.clone()),
            published: release.map(|release| release.published),
            newest: newest.get(package).map(|newest| (*newest).clone()),
            bytes: artifact_for(&locked.artifacts, platform).map(|artifact| artifact.size),
        }
    });
    Ok(ProjectReport {
        project: project.here().name().clone(),
        version: project.here().manifest.project.version.clone(),
        made: context.settings.now,
        seal: lockfile.seal(),
        packages: packages.collect(),
        audit,
        graph,
        drift,
    })
}
