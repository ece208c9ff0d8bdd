//! What moved between two lockfiles, from what to what, and because of whom.

use std::collections::BTreeSet;

use yostel_documents::{AskedBy, Asker, Chosen, LockedPackage, Lockfile, Origin, PackageName, Purpose, artifact_for};
use yostel_versions::Version;

use crate::ways::Ways;

/// One package that is not as it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// The package.
    pub package: PackageName,
    /// What happened to it.
    pub kind: MoveKind,
    /// Who asks for it now (or asked, when it is gone).
    pub asked_by: BTreeSet<AskedBy>,
    /// From a project to who pulled it where it is, each asked for by the one before: to the first of those who ask and do
    /// not accept the version it had, or else by the shortest way; of a way of more than 100, its project and the last 99.
    /// Empty when it is gone.
    pub pulled_by: Vec<Asker>,
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
    /// Same version, other content: its release was published again, or another source has another of that version.
    Content {
        /// The version.
        version: Version,
    },
    /// Same files, but its source describes it otherwise than before.
    Record {
        /// The version.
        version: Version,
    },
    /// Same version, from somewhere else, or from another commit; from another source, with the same content.
    Origin {
        /// The version.
        version: Version,
        /// Where it came from.
        from: Origin,
        /// Where it comes from now.
        to: Origin,
    },
    /// Same release, locked for other platforms.
    Platforms {
        /// Before.
        from: Vec<String>,
        /// Now.
        to: Vec<String>,
    },
    /// Same release, changed locally in another way than before.
    Altered {
        /// Whether it is changed locally now.
        now: bool,
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
    let empty = Chosen::default();
    let before = old.map_or(&empty, |lockfile| &lockfile.chosen);
    let names: BTreeSet<&PackageName> = before.keys().chain(new.chosen.keys()).collect();
    let ways = Ways::of(new);
    let mut moves = Vec::new();
    for name in names {
        for (from, to) in paired(before.all(name), new.chosen.all(name)) {
            if let Some(kind) = kind_of(from, to) {
                let asked_by = to.or(from).map(|locked| locked.asked_by.clone()).unwrap_or_default();
                let pulled_by = to.map(|locked| ways.to(puller(from, locked))).unwrap_or_default();
                moves.push(Move { package: name.clone(), kind, asked_by, pulled_by });
            }
        }
    }
    moves
}

type Pair<'l> = (Option<&'l LockedPackage>, Option<&'l LockedPackage>);

/// Finds what became of each: one of one is the same package whatever its version; where there are several, those on one
/// compatible line are.
fn paired<'l>(before: &'l [LockedPackage], after: &'l [LockedPackage]) -> Vec<Pair<'l>> {
    if before.len() <= 1 && after.len() <= 1 {
        return vec![(before.first(), after.first())];
    }
    let mut left: Vec<&LockedPackage> = before.iter().collect();
    let mut pairs: Vec<Pair<'_>> = Vec::new();
    for to in after {
        let same = |from: &&LockedPackage| to.numbering.is_same_line(&from.version, &to.version);
        let from = left.iter().position(same).map(|at| left.remove(at));
        pairs.push((from, Some(to)));
    }
    pairs.extend(left.into_iter().map(|from| (Some(from), None)));
    pairs
}

/// Returns who pulled a package: the first who asks and does not accept what was there.
fn puller<'l>(from: Option<&LockedPackage>, to: &'l LockedPackage) -> Option<&'l Asker> {
    let accepts = |asked: &AskedBy, version: &Version| {
        asked.accept.bind(&to.numbering).is_ok_and(|constraint| constraint.accepts(version))
    };
    let moved = from.and_then(|from| to.asked_by.iter().find(|asked| !accepts(asked, &from.version)));
    moved
        .or_else(|| to.asked_by.iter().find(|asked| asked.who.is_project()).or(to.asked_by.first()))
        .map(|asked| &asked.who)
}

fn kind_of(from: Option<&LockedPackage>, to: Option<&LockedPackage>) -> Option<MoveKind> {
    match (from, to) {
        (None, None) => None,
        (None, Some(to)) => Some(MoveKind::Added { to: to.version.clone() }),
        (Some(from), None) => Some(MoveKind::Dropped { from: from.version.clone() }),
        (Some(from), Some(to)) if from.version.as_str() != to.version.as_str() => {
            // A package that lists more words than before orders as it did.
            let crosses_line = from.numbering.order().as_str() != to.numbering.order().as_str()
                || !to.numbering.is_same_line(&from.version, &to.version);
            Some(MoveKind::Moved { from: from.version.clone(), to: to.version.clone(), crosses_line })
        }
        (Some(from), Some(to))
            if from.from != to.from && (from.from.source().is_none() || to.from.source().is_none()) =>
        {
            let version = to.version.clone();
            Some(MoveKind::Origin { version, from: from.from.clone(), to: to.from.clone() })
        }
        (Some(from), Some(to)) if has_other_content(from, to) => {
            Some(MoveKind::Content { version: to.version.clone() })
        }
        (Some(from), Some(to)) if from.from != to.from => {
            let version = to.version.clone();
            Some(MoveKind::Origin { version, from: from.from.clone(), to: to.from.clone() })
        }
        (Some(from), Some(to)) if from.record != to.record => Some(MoveKind::Record { version: to.version.clone() }),
        (Some(from), Some(to)) if from.artifacts != to.artifacts => {
            let platforms = |locked: &LockedPackage| locked.artifacts.iter().map(|a| a.platform.clone()).collect();
            Some(MoveKind::Platforms { from: platforms(from), to: platforms(to) })
        }
        (Some(from), Some(to)) if from.altered != to.altered => Some(MoveKind::Altered { now: to.altered.is_some() }),
        (Some(from), Some(to)) if from.purposes != to.purposes => {
            Some(MoveKind::Purposes { from: from.purposes.clone(), to: to.purposes.clone() })
        }
        (Some(_), Some(_)) => None,
    }
}

/// Tells whether some platform that was served would get other files than before.
fn has_other_content(from: &LockedPackage, to: &LockedPackage) -> bool {
    let named = from.artifacts.iter().chain(&to.artifacts).map(|artifact| artifact.platform.as_str());
    let content = |locked: &LockedPackage, platform: &str| {
        artifact_for(&locked.artifacts, platform).map(|artifact| (artifact.digest, artifact.size, artifact.tree))
    };
    named.into_iter().any(|platform| match (content(from, platform), content(to, platform)) {
        (Some(old), Some(new)) => old != new,
        _ => false,
    })
}
