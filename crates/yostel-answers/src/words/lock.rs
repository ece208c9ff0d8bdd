//! Lockfiles: those that cannot be used, and those that cannot be written.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Place, Suggestion};
use yostel_findings::BothAsk;
use yostel_flows::LockError;

use super::content::of_republished;
use super::dispute::of_disputes;
use super::manifest::{of_lockfile, of_stale};
use super::{TOLD, Viewpoint, internal, join, tell};

/// Tells which needs both sides of a merge changed.
fn of_both(both: &[BothAsk], headline: String) -> Diagnostic {
    let next = Suggestion::run("yostel lock --merge", "once the manifests say what both need together");
    let told = tell(Code::BothAsk, headline, next);
    let accepts = |accept: &Option<_>| match accept {
        Some(accept) => format!("{accept}"),
        None => "no more".to_owned(),
    };
    let one = |both: &BothAsk| {
        let (project, purpose, package) = &both.need;
        let (ours, theirs) = (accepts(&both.ours), accepts(&both.theirs));
        format!("{project} needs {package} for {purpose}: ours {ours}, theirs {theirs}")
    };
    both.iter().take(TOLD).map(one).fold(told, Diagnostic::note)
}

/// Tells why a lockfile cannot be used, or not be written.
pub(super) fn of_lock(error: &LockError, view: &Viewpoint<'_>) -> Diagnostic {
    // Long: an arm per error, so that a new error does not compile until it has its words.
    let headline = error.to_string();
    match error {
        LockError::NoLockfile(path) => tell(
            Code::LockfileMissing,
            format!("there is no {}", view.show(path)),
            Suggestion::run("yostel lock", "to resolve and write it"),
        ),
        LockError::Lockfile { path, text, error, both_sides } => {
            of_lockfile(error, &view.show(path), text, *both_sides)
        }
        LockError::Stale(differences) => of_stale(differences),
        LockError::Disputed(disputes) => of_disputes(disputes),
        LockError::NotReadableBack { longest: Some((package, who, length)), problem } => tell(
            Code::LockfileUnreadable,
            format!("{who} needs {package} with a constraint of {length} bytes, which no lockfile can hold"),
            format!("agree on a shorter constraint for {package}, or force or swap it"),
        )
        .note(problem.clone())
        .note("the lockfile is as it was"),
        LockError::NotReadableBack { longest: None, .. } => internal(headline),
        LockError::ForcedOutsideAgreed { package, path, text, span, .. } => {
            let next = format!("force a version of {package} that is agreed, or agree on one that is forced");
            let mut told = tell(Code::ManifestContradiction, headline, next).note("the lockfile is as it was");
            told.place = Some(Place::of(view.show(path), text, span));
            told
        }
        LockError::NotShareable(packages) => {
            let named: Vec<String> = packages.iter().map(|(name, from)| format!("{name} ({from})")).collect();
            let headline = format!("only this machine has {}", join(&named));
            let next = "name a release, a commit or an archive of it instead, then yostel lock";
            tell(Code::NotShareable, headline, next).note("the lockfile is as it was")
        }
        LockError::Republished(releases) => of_republished(releases, view),
        LockError::UnknownSource { source_name, .. } => {
            let again = format!("yostel sources add {source_name} FOLDER");
            tell(
                Code::UnknownSource,
                headline,
                Suggestion::run("yostel lock", "to take the package from another source"),
            )
            .or(Suggestion::run(again, "with the registry's folder, to name it again"))
        }
        LockError::NothingToMerge { said } => {
            let files = "yostel lock --merge BASE OURS THEIRS";
            let told = tell(Code::NothingToMerge, headline, Suggestion::run(files, "with the three lockfiles"));
            said.iter().fold(told, |told, said| told.note(said.clone()))
        }
        LockError::BothAsk(both) => of_both(both, headline),
        LockError::NotALockfile { path, error } => {
            let headline = format!("{} is no lockfile that can be read: {error}", view.show(path));
            tell(Code::NotALockfile, headline, "name a lockfile as yostel lock writes it")
        }
        LockError::NoSuchRevision { is_shallow, .. } => {
            let told = tell(
                Code::NoSuchRevision,
                headline,
                Suggestion::run("git log --oneline yostel.lock", "to see those that changed it"),
            );
            match is_shallow {
                true => told
                    .or(Suggestion::run("git fetch --unshallow", "to have what came before"))
                    .note("only a part of the history is here"),
                false => told,
            }
        }
        LockError::NothingToCompare { said, .. } => tell(
            Code::NothingToCompare,
            headline,
            Suggestion::run("yostel compare FILE", "with the lockfile to compare with"),
        )
        .note(said.clone()),
        LockError::NotLocked { near, .. } => {
            let next = match near {
                Some(near) => format!("{near} exists, if that is the one").into(),
                None => Suggestion::run("yostel list", "to see what is locked"),
            };
            tell(Code::NotLocked, headline, next)
        }
    }
}
