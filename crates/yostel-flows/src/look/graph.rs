//! What is locked as a graph, with what was found and what moved.

use yostel_documents::PackageName;
use yostel_findings::{AuditReport, Folding, Graph, Left, folded, graph};
use yostel_versions::Version;

use crate::context::Context;
use crate::error::{FlowError, LockError};
use crate::look::audit::{AuditRequest, audit};
use crate::look::compare::{Side, compare_lockfiles};
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;

/// What to draw.
#[derive(Debug, Clone)]
pub struct GraphRequest {
    /// Only what leads to this package, or on from it, by at most so many needs.
    pub focus: Option<(PackageName, usize)>,
    /// What to draw as one.
    pub fold: Option<Folding>,
    /// Most nodes that are drawn.
    pub most: usize,
    /// Mark what moved since this lockfile.
    pub since: Option<Side>,
}

/// The most nodes that anybody may ask for.
pub const MOST_NODES: usize = 2_000;

/// A graph to draw.
#[derive(Debug)]
pub struct GraphReport {
    /// The project that is worked on.
    pub project: PackageName,
    /// How many packages are locked.
    pub packages: usize,
    /// What is drawn.
    pub graph: Graph,
    /// What is not drawn by itself.
    pub left: Left,
    /// What was found; nothing when the sources cannot be asked.
    pub audit: Option<AuditReport>,
    /// Why nothing is told of what was found.
    pub untold: Option<String>,
    /// What the moves are told since.
    pub since: Option<Side>,
    /// What is gone since then.
    pub gone: Vec<(PackageName, Version)>,
}

/// Makes the graph of what is locked.
///
/// # Errors
/// `NotLocked`, and as loading a lockfile and comparing two. Sources that cannot be asked are told.
pub fn graph_of(
    project: &LoadedProject,
    request: &GraphRequest,
    context: &Context<'_>,
) -> Result<GraphReport, FlowError> {
    let Prepared { lockfile, declared, .. } = project.prepare_to_look(context.observer)?;
    if let Some((package, _)) = &request.focus {
        let is_project = project.projects().any(|one| one.name() == package);
        if !is_project && !lockfile.chosen.contains_key(package) {
            return Err(LockError::not_locked(package, &lockfile).into());
        }
    }
    let comparison = match &request.since {
        Some(since) => Some(compare_lockfiles(project, [since.clone(), Side::Now], context)?.comparison),
        None => None,
    };
    let (audit, untold) = match audit(project, &AuditRequest::default(), context) {
        Ok(report) => (Some(report), None),
        Err(FlowError::Stopped) => return Err(FlowError::Stopped),
        Err(error) => (None, Some(error.to_string())),
    };
    let projects: Vec<(PackageName, Option<String>)> = project
        .projects()
        .map(|one| (one.name().clone(), one.manifest.project.version.as_ref().map(ToString::to_string)))
        .collect();
    let mut graph = graph(&lockfile, &declared, &projects);
    if let Some(report) = &audit {
        graph.mark_findings(report);
    }
    let gone = comparison.as_ref().map(|comparison| graph.mark_moves(comparison)).unwrap_or_default();
    let gone = gone.into_iter().map(|(package, version)| (package.clone(), version.clone())).collect();
    let focus = request.focus.as_ref().map(|(package, distance)| (package, *distance));
    let (graph, left) = folded(graph, focus, request.fold, request.most.clamp(2, MOST_NODES));
    Ok(GraphReport {
        project: project.here().name().clone(),
        packages: lockfile.chosen.len(),
        graph,
        left,
        audit,
        untold,
        since: request.since.clone(),
        gone,
    })
}
