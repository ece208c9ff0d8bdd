//! Projects of a workspace in the order in which they need each other.

use std::collections::BTreeMap;

use yostel_documents::PackageName;

use crate::project::{LoadedProject, ProjectFile};

/// Lists all projects so that each comes after those it needs, for any purpose; by folder where that leaves it open, and
/// where projects need each other in a circle.
pub fn in_order_of_needs(project: &LoadedProject) -> Vec<&ProjectFile> {
    let mut left: Vec<&ProjectFile> = project.projects().collect();
    // A root that holds the others together has nothing of its own to build.
    if left.len() > 1 && left[0].manifest.needs.values().all(BTreeMap::is_empty) {
        left.remove(0);
    }
    let needs = |one: &ProjectFile, other: &PackageName| {
        one.manifest.needs.values().any(|needs| one.name() != other && needs.contains_key(other))
    };
    let mut ordered = Vec::new();
    while !left.is_empty() {
        let free = left.iter().position(|one| !left.iter().any(|other| needs(one, other.name())));
        ordered.push(left.remove(free.unwrap_or(0)));
    }
    ordered
}
