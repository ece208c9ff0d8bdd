//! Projects of a workspace in the order in which they need each other.

use std::collections::{BTreeMap, BTreeSet};

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
    let at: BTreeMap<&PackageName, usize> = left.iter().enumerate().map(|(at, one)| (one.name(), at)).collect();
    let needed = |(one, file): (usize, &&ProjectFile)| -> BTreeSet<usize> {
        let names = file.manifest.needs.values().flat_map(BTreeMap::keys);
        names.filter_map(|name| at.get(name).copied()).filter(|other| *other != one).collect()
    };
    let mut needs: Vec<BTreeSet<usize>> = left.iter().enumerate().map(needed).collect();
    let mut needed_by: Vec<Vec<usize>> = vec![Vec::new(); left.len()];
    needs.iter().enumerate().for_each(|(one, needs)| needs.iter().for_each(|other| needed_by[*other].push(one)));
    let mut open: BTreeSet<usize> = (0..left.len()).collect();
    let mut free: BTreeSet<usize> = open.iter().copied().filter(|one| needs[*one].is_empty()).collect();
    let mut ordered = Vec::new();
    while let Some(next) = free.pop_first().or_else(|| open.first().copied()) {
        open.remove(&next);
        ordered.push(left[next]);
        for one in &needed_by[next] {
            needs[*one].remove(&next);
            if needs[*one].is_empty() && open.contains(one) {
                free.insert(*one);
            }
        }
    }
    ordered
}
