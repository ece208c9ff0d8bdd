//! What it would take for a package that is locked at several versions to be locked at one: proved by resolving it.

use std::collections::BTreeMap;

use yostel_documents::{Lockfile, PackageName};
use yostel_findings::{Dedupe, Duplicate};
use yostel_resolve::{EditRules, EditSet, Outcome, Problem, RequirementEdit, Resolver};
use yostel_sources::SourceSet;

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::search::drive::{Driven, MOST_EDIT_SETS, drive, edit_sets};
use crate::search::rules::{Keep, rules_of, versions_of};

/// Finds out for every package that is locked at several versions what would join them.
///
/// # Errors
/// As resolving.
pub(crate) fn dedupes(
    project: &LoadedProject,
    lockfile: &Lockfile,
    duplicates: &[Duplicate],
    context: &Context<'_>,
) -> Result<BTreeMap<PackageName, Dedupe>, FlowError> {
    let several = duplicates.iter().filter_map(|duplicate| match duplicate {
        Duplicate::Versions { package, .. } => Some(package),
        _ => None,
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
        let problem =
            Problem { requirements: project.requirements(), keep: versions_of(lockfile), rules, ..Problem::default() };
        let Driven { outcome, mut resolver, .. } =
            drive(Resolver::with_edits(problem), project, &sources, context.observer)?;
        let dedupe = match outcome {
            Outcome::Resolved(_) => Dedupe::ByPolicyOnly,
            _ => {
                let edit_sets = edit_sets(&mut resolver, &EditRules::any(MOST_EDIT_SETS), context.observer)?;
                // Of the smallest, and of those the ones that drop the least, the one that leads forward.
                let drops = |edit: &&RequirementEdit| matches!(edit, RequirementEdit::Drop { .. });
                let size = |edit_set: &EditSet| (edit_set.edits.len(), edit_set.edits.iter().filter(drops).count());
                let fewest = edit_sets.iter().map(size).min();
                let version =
                    |edit_set: &EditSet| edit_set.resolution.chosen.get(package).map(|c| c.release.version.clone());
                let smallest = edit_sets.into_iter().filter(|edit_set| Some(size(edit_set)) == fewest);
                let best = smallest.rev().max_by(|a, b| version(a).cmp(&version(b)));
                best.map_or(Dedupe::Impossible, |edit_set| Dedupe::Edits(edit_set.edits))
            }
        };
        found.insert(package.clone(), dedupe);
    }
    Ok(found)
}
