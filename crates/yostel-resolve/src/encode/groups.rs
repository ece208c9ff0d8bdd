//! Variables of which one at most is true, and those beside some of them.

use std::ops::Range;

use yostel_documents::ListedRelease;
use yostel_solver::{Lit, Searching};
use yostel_versions::Numbering;

use super::positive;

/// Returns the spans of variables beside some, which rise.
pub(super) fn others(all: Range<usize>, some: &[Lit]) -> Vec<Range<usize>> {
    let mut others: Vec<Range<usize>> = Vec::new();
    let mut from = all.start;
    for literal in some {
        others.extend((from < literal.var().index()).then(|| from..literal.var().index()));
        from = literal.var().index() + 1;
    }
    others.extend((from < all.end).then_some(from..all.end));
    others
}

/// Makes the variables of releases of which one per compatible line may be chosen; returns the first variable's number.
pub(super) fn groups_by_line(
    places: &[u32],
    releases: &[ListedRelease],
    numbering: Numbering,
    search: &mut Searching<'_>,
) -> usize {
    let version = |at: u32| &releases[at as usize].version;
    let mut runs: Vec<(u32, Range<usize>)> = Vec::new();
    let mut first = None;
    for run in places.chunk_by(|a, b| numbering.is_same_line(version(*a), version(*b))) {
        let start = search.new_group(run.len()).index();
        first.get_or_insert(start);
        // Lines follow each other in every order there is; should one come up again, it is one line all the same.
        for (other, span) in &runs {
            if numbering.is_same_line(version(*other), version(run[0])) {
                for (a, b) in span.clone().flat_map(|a| (start..start + run.len()).map(move |b| (a, b))) {
                    search.add_clause(&[!positive(a), !positive(b)]);
                }
            }
        }
        runs.push((run[0], start..start + run.len()));
    }
    first.unwrap_or_default()
}
