//! What would be chosen if nothing were kept: said of a newer version only when it was resolved.

use yostel_resolve::{Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;

use crate::error::FlowError;
use crate::observer::Observer;
use crate::project::LoadedProject;
use crate::search::drive::drive;

/// How much work a remark is worth, as [`Resolver::work`] counts it: a second or two. Counted and not timed, so that the
/// same is said on every machine.
const MOST_WORK: u64 = 5_000_000;

/// Resolves a problem without anything to keep; nothing where there is no such set, or finding it is more work than that.
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
    let mut resolver = Resolver::new(problem);
    resolver.allow(MOST_WORK);
    match drive(resolver, project, sources, observer) {
        Ok(driven) => Ok(match driven.outcome {
            Outcome::Resolved(resolution) => Some(resolution),
            Outcome::Collision(_) | Outcome::Stopped(_) => None,
        }),
        Err(FlowError::Stopped) => Err(FlowError::Stopped),
        Err(_) => Ok(None),
    }
}
