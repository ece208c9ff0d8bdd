//! What would be chosen if nothing were kept: said of a newer version only when it was resolved.

use std::time::Duration;

use yostel_resolve::{Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;

use crate::error::FlowError;
use crate::observer::Observer;
use crate::project::LoadedProject;
use crate::search::drive::drive_within;

/// How long a remark is worth waiting for.
const PATIENCE: Duration = Duration::from_secs(2);

/// Resolves a problem without anything to keep; nothing where there is no such set, or none was found soon.
///
/// # Errors
/// `Stopped`. What else goes wrong only means that nothing is said.
pub(crate) fn fresh(
    problem: &Problem,
    project: &LoadedProject,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<Option<Resolution>, FlowError> {
    let problem = Problem { keep: Default::default(), ..problem.clone() };
    match drive_within(Resolver::new(problem), project, sources, observer, Some(PATIENCE)) {
        Ok(driven) => Ok(match driven.outcome {
            Outcome::Resolved(resolution) => Some(resolution),
            Outcome::Collision(_) | Outcome::Stopped(_) => None,
        }),
        Err(FlowError::Stopped) => Err(FlowError::Stopped),
        Err(_) => Ok(None),
    }
}
