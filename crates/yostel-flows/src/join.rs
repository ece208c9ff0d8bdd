//! What it would take for a package that stands at several versions to stand at one: proved by resolving it.

use std::collections::BTreeMap;

use yostel_core::{Duplicate, Lockfile, Outcome, PackageName, Problem, Repair, Resolver, WishEdit};
use yostel_sources::SourceSet;
use yostel_store::Cache;

use crate::error::FlowError;
use crate::lock::{Driven, Keep, drive, rules_of, versions_of};
use crate::observer::Observer;
use crate::project::{LoadedProject, Settings};

/// How many repairs are compared.
const MOST_REPAIRS: usize = 8;

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
    settings: &Settings,
    observer: &dyn Observer,
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
    let cache = Cache::open(&settings.cache);
    let sources: SourceSet = project.sources_and_elsewhere(Some(lockfile), Keep::Locked, &cache, observer)?;
    for package in several {
        let mut rules = rules_of(project, None, None, settings);
        rules.coexist.remove(package);
        let problem = Problem { wishes: project.requirements(), keep: versions_of(lockfile), rules };
        let Driven { outcome, mut resolver, .. } = drive(Resolver::with_repairs(problem), project, &sources, observer)?;
        let joining = match outcome {
            Outcome::Resolved(_) => Joining::Freely,
            _ => {
                let repairs = resolver.repairs(MOST_REPAIRS);
                // Of the smallest, and of those the ones that drop the least, the one that leads forward.
                let drops = |edit: &&WishEdit| matches!(edit, WishEdit::Drop { .. });
                let size = |repair: &Repair| (repair.edits.len(), repair.edits.iter().filter(drops).count());
                let fewest = repairs.iter().map(size).min();
                let version =
                    |repair: &Repair| repair.resolution.chosen.get(package).map(|c| c.release.version.clone());
                let smallest = repairs.into_iter().filter(|repair| Some(size(repair)) == fewest);
                let best = smallest.rev().max_by(|a, b| version(a).cmp(&version(b)));
                best.map_or(Joining::Impossible, |repair| Joining::Edits(repair.edits))
            }
        };
        found.insert(package.clone(), joining);
    }
    Ok(found)
}
