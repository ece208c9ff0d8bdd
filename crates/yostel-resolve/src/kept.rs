//! What is true when a package left the version that it should keep.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::PackageName;
use yostel_solver::Lit;
use yostel_versions::Version;

use crate::encode::Encoding;
use crate::known::{Known, PackageId};
use crate::problem::Problem;

/// For each version to keep, what is true when its package is there at another one.
#[derive(Debug, Default)]
pub(crate) struct Kept {
    /// Those literals, by name.
    pub(crate) moved: Vec<Lit>,
    /// The same, by name and version.
    by_version: BTreeMap<(PackageName, Version), Lit>,
    /// Of packages without other lines beside: that literal, and the version to keep by its place and literal, where it may be chosen.
    alone: BTreeMap<usize, (Lit, Option<(u32, Lit)>)>,
}

impl Kept {
    /// Makes them.
    pub(crate) fn of(encoding: &mut Encoding, problem: &Problem, known: &mut Known) -> Self {
        let mut kept = Self::default();
        for (name, version) in
            problem.keep.iter().flat_map(|(name, all)| all.iter().map(move |version| (name, version)))
        {
            if let Some((moved, stays)) = moved(name, version, encoding, problem, known) {
                kept.moved.push(moved);
                kept.by_version.insert((name.clone(), version.clone()), moved);
                if !problem.rules.coexist.contains(name) {
                    kept.alone.insert(known.package(name).index(), (moved, stays));
                }
            }
        }
        kept
    }

    /// Lists what is true when packages left these versions; of those that cannot be kept at all, nothing.
    pub(crate) fn moved_from<'k>(
        &'k self,
        versions: &'k BTreeSet<(PackageName, Version)>,
    ) -> impl Iterator<Item = Lit> + 'k {
        versions.iter().filter_map(|version| self.by_version.get(version).copied())
    }

    /// Returns what is true when a package left its version, and when it is there at it; nothing of one that may be there on
    /// several lines.
    pub(crate) fn alone(&self, package: PackageId) -> Option<(Lit, Option<(u32, Lit)>)> {
        self.alone.get(&package.index()).copied()
    }
}

/// Makes the literal that is true when the package is there at another version, and finds that of the version to keep; of the same line when there may be one of
/// each; none when there is no such release to keep.
fn moved(
    name: &PackageName,
    kept: &Version,
    encoding: &mut Encoding,
    problem: &Problem,
    known: &mut Known,
) -> Option<(Lit, Option<(u32, Lit)>)> {
    let document = known.document(name)?;
    let kept = document.releases.iter().position(|release| release.version == *kept)?;
    let numbering = document.numbering.clone();
    let apart = problem.rules.coexist.contains(name);
    let releases = document.releases.clone();
    let version = |at: usize| &releases[at].version;
    let id = known.package(name);
    let moved = encoding.helper();
    let mut kept_literal = None;
    for (place, literal) in encoding.candidates(id, problem, known) {
        let at = place as usize;
        if at == kept {
            kept_literal = Some((place, literal));
        } else if !apart || numbering.is_same_line(version(at), version(kept)) {
            encoding.solver.add_clause(&[!literal, moved]);
        }
    }
    Some((moved, kept_literal))
}
