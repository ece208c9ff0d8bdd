//! Other sets that an update could come to: the best of those that leave something in its place which each before moves.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Lockfile, PackageDocument, PackageName};
use yostel_findings::{Advisories, Comparison, MoveKind, comparison};
use yostel_resolve::Resolution;
use yostel_versions::Version;

use crate::context::Context;
use crate::error::FlowError;
use crate::moving::aim::Aim;
use crate::moving::constraints::ConstraintMove;
use crate::moving::planned::{PlannedUpdate, StartingPoint};
use crate::moving::reach::{problem_of, search_another};

/// Another set that an update could come to.
#[derive(Debug)]
pub struct Alternative {
    /// What it moves, because of whom, and what that means.
    pub comparison: Comparison,
    /// The projects' own constraints that move with it.
    pub edits: Vec<ConstraintMove>,
    /// What to ask for to have exactly this set: packages and versions. Nothing where a package is there at several.
    pub asked: Option<Vec<(PackageName, Version)>>,
}

/// A set that was found, before it is compared.
pub(crate) struct AlternativeSet {
    pub(crate) lockfile: Lockfile,
    documents: BTreeMap<PackageName, PackageDocument>,
    edits: Vec<ConstraintMove>,
}

/// Finds so many other sets at most, the best first, none of which moves all that the best one, or one before it, moves beside
/// what was asked for. It ends where none of what was asked for would move.
///
/// # Errors
/// Those of resolving; `Stopped`.
pub(crate) fn other_sets(
    most: usize,
    best: &Resolution,
    aim: &Aim<'_>,
    start: &StartingPoint<'_>,
    context: &Context<'_>,
) -> Result<Vec<AlternativeSet>, FlowError> {
    let mut problem = problem_of(aim, (start.before, start.declared), start.project, context);
    let mut others = Vec::new();
    let mut left = best.moved_versions(&problem);
    // Where nothing else moves there is nothing to leave in its place.
    while others.len() < most && !left.is_empty() {
        problem.not_all_moved.push(left);
        let found = search_another(problem.clone(), start.project, start.sources, context)?;
        let Some((resolution, documents)) = found else { break };
        left = resolution.moved_versions(&problem);
        let PlannedUpdate { edits, proposal, .. } = PlannedUpdate::of(&resolution, aim, start, context)?;
        let lockfile = proposal.lockfile().clone();
        if !aim.packages.iter().flatten().any(|name| lockfile.chosen.all(name) != start.before.chosen.all(name)) {
            break;
        }
        others.push(AlternativeSet { lockfile, documents, edits });
    }
    Ok(others)
}

impl AlternativeSet {
    /// Adds what the sources told of its packages, where nobody did before.
    pub(crate) fn lend_to(&self, documents: &mut BTreeMap<PackageName, PackageDocument>) {
        for (name, document) in &self.documents {
            documents.entry(name.clone()).or_insert_with(|| document.clone());
        }
    }

    /// Tells what it would move.
    pub(crate) fn compared(
        self,
        aim: &Aim<'_>,
        before: &Lockfile,
        documents: &BTreeMap<PackageName, PackageDocument>,
        advisories: &Advisories,
        platform: &str,
    ) -> Alternative {
        let comparison = comparison(before, &self.lockfile, documents, advisories, platform);
        let is_moved = |kind: &MoveKind| matches!(kind, MoveKind::Moved { .. });
        let moved = comparison.moves.iter().filter(|one| is_moved(&one.moved.kind)).map(|one| &one.moved.package);
        let named: BTreeSet<&PackageName> = aim.packages.iter().flatten().chain(moved).collect();
        let at = |name: &PackageName| match self.lockfile.chosen.all(name) {
            [] => Some(None),
            [one] => Some(Some((name.clone(), one.version.clone()))),
            _ => None,
        };
        let asked: Option<Vec<Option<(PackageName, Version)>>> = named.into_iter().map(at).collect();
        let asked = asked.map(|all| all.into_iter().flatten().collect());
        Alternative { comparison, edits: self.edits, asked }
    }
}
