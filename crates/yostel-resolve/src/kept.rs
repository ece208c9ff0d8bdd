//! What is true when a package left the version that it should keep.

use yostel_documents::PackageName;
use yostel_solver::Lit;
use yostel_versions::Version;

use crate::encode::Encoding;
use crate::known::{Known, PackageId};
use crate::problem::Problem;

/// What is true when a package is there at another version than the one to keep.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Moved {
    pub(crate) package: PackageId,
    pub(crate) literal: Lit,
    /// That the version to keep is there, where it may be chosen.
    pub(crate) kept: Option<Lit>,
    /// Whether other lines of it may be there beside.
    pub(crate) apart: bool,
}

/// Makes that literal for each version to keep, by name.
pub(crate) fn all_moved(encoding: &mut Encoding, problem: &Problem, known: &mut Known) -> Vec<Moved> {
    let kept = problem.keep.iter().flat_map(|(name, all)| all.iter().map(move |version| (name, version)));
    kept.filter_map(|(name, version)| moved(name, version, encoding, problem, known)).collect()
}

/// Makes the literal that is true when the package is there at another version, of the same line when there may be one of
/// each; none when there is no such release to keep.
fn moved(
    name: &PackageName,
    kept: &Version,
    encoding: &mut Encoding,
    problem: &Problem,
    known: &mut Known,
) -> Option<Moved> {
    let document = known.document(name)?;
    let kept = document.releases.iter().position(|release| release.version == *kept)?;
    let numbering = document.numbering.clone();
    let apart = problem.rules.coexist.contains(name);
    let releases = document.releases.clone();
    let version = |at: usize| &releases[at].version;
    let id = known.package(name);
    let moved = encoding.helper();
    let mut kept_literal = None;
    for (at, literal) in encoding.candidates(id, problem, known) {
        let at = at as usize;
        if at == kept {
            kept_literal = Some(literal);
        } else if !apart || numbering.is_same_line(version(at), version(kept)) {
            encoding.solver.add_clause(&[!literal, moved]);
        }
    }
    Some(Moved { package: id, literal: moved, kept: kept_literal, apart })
}
