//! What would be locked with the releases of a day.

use std::collections::BTreeMap;

use jiff::Timestamp;
use yostel_documents::Lockfile;
use yostel_resolve::{Outcome, Problem, Resolver};

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::search::drive::drive;
use crate::search::places::told;
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, rules_of};

/// Resolves what the project needs with the releases published by then, keeping nothing.
///
/// # Errors
/// `Collision` where there was no such set, and those of asking the sources.
pub(crate) fn lockfile_as_of(
    project: &LoadedProject,
    day: Timestamp,
    context: &Context<'_>,
) -> Result<Lockfile, FlowError> {
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    let sources = project.sources_and_elsewhere(None, &Keep::Nothing, context)?;
    let rules = rules_of(project, Some(day), None, context.settings);
    let problem = Problem { requirements: declared.requirements.clone(), rules, ..Problem::default() };
    let resolution = match drive(Resolver::new(problem), project, &sources, context.observer)?.outcome {
        Outcome::Resolved(resolution) => resolution,
        Outcome::Stopped(_) => return Err(FlowError::Stopped),
        Outcome::Collision(collision) => return Err(told(project, collision).into()),
    };
    let (declared, patches, keep) = (&declared, &patches, &Keep::Nothing);
    let basis = Basis { project, declared, patches, before: None, keep, manifests: BTreeMap::new(), shareable: false };
    Ok(Proposal::of(&resolution, &basis, context)?.lockfile().clone())
}
