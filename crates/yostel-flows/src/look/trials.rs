//! Whether a package that is behind can move to its newest release now: tried, and not guessed.

use std::collections::BTreeSet;

use yostel_documents::{Asker, Declared, Lockfile, PackageName, Requirement, run_purpose};
use yostel_findings::{MoveKind, Outdated, Trial};
use yostel_resolve::{RequirementEdit, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::ConstraintText;

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::search::drive::{Tried, drive_trial, watched};
use crate::search::proposal::moves_to;
use crate::search::rules::{rules_of, versions_of};

/// How much work all trials of an audit are worth, as [`Resolver::work`] counts it: half a second at most. Counted and not timed,
/// so that the same is said on every machine; those that are asked for directly are tried first.
const MOST_WORK: u64 = 2_500_000;

/// Tries for each outdated package to have its newest release, with as few other moves as can be. The project's own needs
/// that do not accept it are changed for that; whatever else keeps it out does.
///
/// # Errors
/// `Stopped`. What else goes wrong only means that nothing is said.
pub(crate) fn try_all(
    outdated: &mut [Outdated],
    lockfile: &Lockfile,
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    let declared = project.declared()?;
    // One for all of them: what arrived and was learned in one trial is known in the next.
    let mut resolver = Resolver::for_trials(versions_of(lockfile), rules_of(project, None, None, context.settings));
    resolver.allow(MOST_WORK);
    let stop = resolver.stop_flag();
    watched(&stop, context.observer, || {
        try_each(outdated, &mut resolver, &declared, lockfile, project, sources, context)
    })?
}

fn try_each(
    outdated: &mut [Outdated],
    resolver: &mut Resolver,
    declared: &Declared,
    lockfile: &Lockfile,
    project: &LoadedProject,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    for one in outdated {
        if one.several || resolver.is_worn_out() {
            continue;
        }
        let accept_newest = |need: &Requirement| {
            let numbering = &lockfile.chosen[&one.package].numbering;
            need.accept.bind(numbering).is_ok_and(|bound| bound.accepts(&one.newest))
        };
        let is_in_the_way = |need: &&Requirement| need.package == one.package && !accept_newest(need);
        let Ok(wider) = ConstraintText::parse(&format!("^{}", one.newest)) else { continue };
        let edits = declared.requirements.iter().filter(is_in_the_way).map(|need| RequirementEdit::Change {
            requirement: need.clone(),
            accept: wider.where_counts(&need.accept),
        });
        let edits: Vec<RequirementEdit> = edits.collect();
        let changed = |need: &Requirement| match edits.iter().find(|edit| edit.requirement() == need) {
            Some(RequirementEdit::Change { accept, .. }) => Requirement { accept: accept.clone(), ..need.clone() },
            _ => need.clone(),
        };
        let mut requirements: Vec<Requirement> = declared.requirements.iter().map(changed).collect();
        let mut declared = declared.clone();
        declared.requirements.clone_from(&requirements);
        if edits.is_empty() {
            // Nothing that is written asks for it, so it is asked for here.
            requirements.push(Requirement {
                asker: Asker::Project(project.here().name().clone()),
                purpose: run_purpose(),
                package: one.package.clone(),
                accept: ConstraintText::parse(&format!("={}", one.newest)).expect("a version makes a constraint"),
            });
        }
        resolver.try_with(requirements);
        let tried = match drive_trial(resolver, project, sources, context.observer) {
            Ok(tried) => tried,
            Err(FlowError::Stopped) => return Err(FlowError::Stopped),
            Err(_) => continue,
        };
        tracing::trace!(package = %one.package, work = resolver.work(), stats = ?resolver.stats(), "a trial");
        one.tried = match tried {
            Tried::Resolved(resolution) if resolution.chosen.at(&one.package, &one.newest).is_some() => {
                let others = match several(&resolution, lockfile) {
                    true => others_by_line(&resolution, &declared, lockfile, &one.package),
                    false => others(&resolution, lockfile, &one.package),
                };
                Some(Trial::Free { edits, others })
            }
            // What the manifest forces or swaps, it has whatever is needed.
            Tried::Resolved(_) | Tried::Refuted => Some(Trial::Blocked),
            Tried::Stopped => None,
        };
    }
    Ok(())
}

/// Tells whether some package is there, or locked, at several versions.
fn several(resolution: &Resolution, lockfile: &Lockfile) -> bool {
    lockfile.chosen.keys().any(|name| lockfile.chosen.all(name).len() > 1)
        || resolution.chosen.keys().any(|name| resolution.chosen.all(name).len() > 1)
}

/// Counts the other packages that move, come or go, where each is there at one version.
fn others(resolution: &Resolution, lockfile: &Lockfile, package: &PackageName) -> usize {
    let names: BTreeSet<&PackageName> = lockfile.chosen.keys().chain(resolution.chosen.keys()).collect();
    let is_other = |name: &&PackageName| {
        let before = lockfile.chosen.get(name).map(|locked| &locked.version);
        let after = resolution.chosen.get(name).map(|choice| &choice.release.version);
        *name != package && before != after
    };
    names.into_iter().filter(is_other).count()
}

/// The same where several are side by side: each moves along its own line.
fn others_by_line(resolution: &Resolution, declared: &Declared, lockfile: &Lockfile, package: &PackageName) -> usize {
    let counts =
        |kind: &MoveKind| matches!(kind, MoveKind::Moved { .. } | MoveKind::Added { .. } | MoveKind::Dropped { .. });
    let moves = moves_to(resolution, declared, lockfile).into_iter();
    moves.filter(|moved| counts(&moved.kind) && moved.package != *package).count()
}
