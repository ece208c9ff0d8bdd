//! Packages by their distance from the needs: those that are asked for directly first, then what those need.

use std::collections::BTreeSet;

use yostel_documents::PackageName;

use crate::problem::Problem;

/// Packages by their distance from the needs.
#[derive(Debug)]
pub(super) struct Layers {
    /// Packages to decide, the last one first.
    pub(super) now: Vec<PackageName>,
    pub(super) next: BTreeSet<PackageName>,
    pub(super) met: BTreeSet<PackageName>,
}

impl Layers {
    pub(super) fn of(problem: &Problem) -> Self {
        let met: BTreeSet<PackageName> =
            problem.requirements.iter().map(|requirement| requirement.package.clone()).collect();
        Self { now: met.iter().rev().cloned().collect(), next: BTreeSet::new(), met }
    }
}
