//! Whether a package that is behind can move to its newest release now: tried, and not guessed.

use yostel_documents::{Asker, Lockfile, Requirement, run_purpose};
use yostel_findings::{MoveKind, Outdated, Trial};
use yostel_resolve::{Outcome, Problem, RequirementEdit, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::ConstraintText;

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::search::drive::drive;
use crate::search::proposal::moves_to;
use crate::search::rules::{rules_of, versions_of};

/// How much work all trials of an audit are worth, as [`Resolver::work`] counts it: a second at most. Counted and not timed,
/// so that the same is said on every machine; those that are asked for directly are tried first.
const MOST_WORK: u64 = 2_000_000;

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
    let mut left = MOST_WORK;
    for one in outdated {
        if one.several || left == 0 {
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
        let problem = Problem {
            requirements,
            keep: versions_of(lockfile),
            rules: rules_of(project, None, None, context.settings),
        };
        let mut resolver = Resolver::new(problem);
        resolver.allow(left);
        let driven = match drive(resolver, project, sources, context.observer) {
            Ok(driven) => driven,
            Err(FlowError::Stopped) => return Err(FlowError::Stopped),
            Err(_) => continue,
        };
        left = left.saturating_sub(driven.resolver.work());
        one.tried = match driven.outcome {
            Outcome::Resolved(resolution) if resolution.chosen.at(&one.package, &one.newest).is_some() => {
                let others = moves_to(&resolution, &declared, lockfile).into_iter().filter(|m| {
                    let counts =
                        matches!(m.kind, MoveKind::Moved { .. } | MoveKind::Added { .. } | MoveKind::Dropped { .. });
                    counts && m.package != one.package
                });
                Some(Trial::Free { edits, others: others.count() })
            }
            // What the manifest forces or swaps, it has whatever is needed.
            Outcome::Resolved(_) => Some(Trial::Blocked),
            Outcome::Collision(_) => Some(Trial::Blocked),
            Outcome::Stopped(_) => None,
        };
    }
    Ok(())
}
