//! What it would take for a package that stands at several versions to stand at one: proved by resolving it.

use std::collections::BTreeMap;

use yostel_documents::{Lockfile, PackageName};
use yostel_findings::Duplicate;
use yostel_resolve::{EditSet, Outcome, Problem, Resolver, WishEdit};
use yostel_sources::SourceSet;

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::search::drive::{Driven, drive};
use crate::search::rules::{Keep, rules_of, versions_of};

/// How many edit sets are compared.
const MOST_EDIT_SETS: usize = 8;

/// What it takes for a package to stand at one version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Joining {
    /// Nothing but to say so.
    Freely,
    /// These edits of what projects need; the smallest there are.
    Edits(Vec<WishEdit>),
    /// No edit of four wishes or fewer would do.
    Impossible,
}

/// Finds out for every package that stands at several versions what would join them.
///
/// # Errors
/// As resolving.
pub(crate) fn joinings(
    project: &LoadedProject,
    lockfile: &Lockfile,
    duplicates: &[Duplicate],
    context: &Context<'_>,
) -> Result<BTreeMap<PackageName, Joining>, FlowError> {
    let several = duplicates.iter().filter_map(|duplicate| match duplicate {
        Duplicate::Versions { package, .. } => Some(package),
        Duplicate::Content { .. } | Duplicate::Role { .. } => None,
    });
    let several: Vec<&PackageName> = several.collect();
    let mut found = BTreeMap::new();
    if several.is_empty() {
        return Ok(found);
    }
    let sources: SourceSet = project.sources_and_elsewhere(Some(lockfile), &Keep::Locked, context)?;
    for package in several {
        let mut rules = rules_of(project, None, None, context.settings);
        rules.coexist.remove(package);
        let problem = Problem { wishes: project.requirements(), keep: versions_of(lockfile), rules };
        let Driven { outcome, mut resolver, .. } =
            drive(Resolver::with_edits(problem), project, &sources, context.observer)?;
        let joining = match outcome {
            Outcome::Resolved(_) => Joining::Freely,
            _ => {
                let edit_sets = resolver.edit_sets(MOST_EDIT_SETS);
                // Of the smallest, and of those the ones that drop the least, the one that leads forward.
                let drops = |edit: &&WishEdit| matches!(edit, WishEdit::Drop { .. });
                let size = |edit_set: &EditSet| (edit_set.edits.len(), edit_set.edits.iter().filter(drops).count());
                let fewest = edit_sets.iter().map(size).min();
                let version =
                    |edit_set: &EditSet| edit_set.resolution.chosen.get(package).map(|c| c.release.version.clone());
                let smallest = edit_sets.into_iter().filter(|edit_set| Some(size(edit_set)) == fewest);
                let best = smallest.rev().max_by(|a, b| version(a).cmp(&version(b)));
                best.map_or(Joining::Impossible, |edit_set| Joining::Edits(edit_set.edits))
            }
        };
        found.insert(package.clone(), joining);
    }
    Ok(found)
}
