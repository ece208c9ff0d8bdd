//! What moved between two lockfiles, from what to what, and because of whom.

use std::collections::BTreeSet;

use crate::lockfile::{AskedBy, LockedPackage, Lockfile};
use crate::name::{PackageName, Purpose};
use crate::version::Version;

/// One package that is not as it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// The package.
    pub package: PackageName,
    /// What happened to it.
    pub kind: MoveKind,
    /// Who asks for it now (or asked, when it is gone).
    pub asked_by: BTreeSet<AskedBy>,
}

/// What happened to a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MoveKind {
    /// It came in.
    Added {
        /// At this version.
        to: Version,
    },
    /// It is gone.
    Dropped {
        /// It had this version.
        from: Version,
    },
    /// Its version changed.
    Moved {
        /// From.
        from: Version,
        /// To.
        to: Version,
        /// Whether that left the compatible line, by the package's own numbering.
        crosses_line: bool,
    },
    /// Same version, other content: its release was published again, or it comes from another source.
    Content {
        /// The version.
        version: Version,
    },
    /// Same release, needed for other purposes.
    Purposes {
        /// Before.
        from: BTreeSet<Purpose>,
        /// Now.
        to: BTreeSet<Purpose>,
    },
}

/// Lists what moved, by package.
pub fn compare(old: Option<&Lockfile>, new: &Lockfile) -> Vec<Move> {
    let empty = std::collections::BTreeMap::new();
    let before = old.map_or(&empty, |lockfile| &lockfile.chosen);
    let names: BTreeSet<&PackageName> = before.keys().chain(new.chosen.keys()).collect();
    let mut moves = Vec::new();
    for name in names {
        let (from, to) = (before.get(name), new.chosen.get(name));
        if let Some(kind) = kind_of(from, to) {
            let asked_by = to.or(from).map(|locked| locked.asked_by.clone()).unwrap_or_default();
            moves.push(Move { package: name.clone(), kind, asked_by });
        }
    }
    moves
}

fn kind_of(from: Option<&LockedPackage>, to: Option<&LockedPackage>) -> Option<MoveKind> {
    match (from, to) {
        (None, None) => None,
        (None, Some(to)) => Some(MoveKind::Added { to: to.version.clone() }),
        (Some(from), None) => Some(MoveKind::Dropped { from: from.version.clone() }),
        (Some(from), Some(to)) if from.version.as_str() != to.version.as_str() => {
            let crosses_line = from.numbering.order() != to.numbering.order()
                || !to.numbering.is_same_line(&from.version, &to.version);
            Some(MoveKind::Moved { from: from.version.clone(), to: to.version.clone(), crosses_line })
        }
        (Some(from), Some(to)) if from.artifacts != to.artifacts || from.from != to.from => {
            Some(MoveKind::Content { version: to.version.clone() })
        }
        (Some(from), Some(to)) if from.purposes != to.purposes => {
            Some(MoveKind::Purposes { from: from.purposes.clone(), to: to.purposes.clone() })
        }
        (Some(_), Some(_)) => None,
    }
}
