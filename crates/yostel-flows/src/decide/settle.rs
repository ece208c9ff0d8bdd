//! The smallest edits that end a collision: listed, previewed, applied.

use std::collections::BTreeSet;

use jiff::Timestamp;
use yostel_documents::{
    Declared, EditError, Lockfile, NeedForm, PackageName, Purpose, Requirement, add_coexist, add_need, remove_need,
};
use yostel_findings::MoveKind;
use yostel_resolve::{EditRules, EditSet, Outcome, Problem, ROOM_FOR_WISHED, RequirementEdit, Resolution, Resolver};

use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::project::read::load_lockfile;
use crate::project::write::Texts;
use crate::search::drive::{Driven, MOST_EDIT_SETS, drive, edit_sets};
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, kept_versions, rules_of};

/// How many packages are offered to be permitted at several versions: the rest of the list is for edits of needs.
const MOST_COEXIST: usize = 3;

/// An edit set that was proved by resolving it.
#[derive(Debug)]
pub struct Settlement {
    /// The edits of the manifest, and the set they lead to.
    pub edit_set: EditSet,
    /// The package that may be there at several versions, when that is the edit.
    pub coexist: Option<PackageName>,
    /// The manifests and the lockfile afterwards, and what moves; to be applied.
    pub proposal: Proposal,
}

/// What to look for.
#[derive(Debug, Clone, Default)]
pub struct SettleRequest {
    /// Only releases published by then count, but for versions that are locked.
    pub as_of: Option<Timestamp>,
    /// Packages whose needs stay as they are.
    pub kept: BTreeSet<PackageName>,
}

/// Lists the smallest edit sets; nothing when there is a set as things are. Those that leave alone what was not needed yet
/// when the lockfile was written come first, then the smallest.
///
/// # Errors
/// As locking, but for a collision; `Edit` when something is to be kept that is not needed.
pub fn settle(
    project: &LoadedProject,
    request: &SettleRequest,
    context: &Context<'_>,
) -> Result<Option<Vec<Settlement>>, FlowError> {
    let before = load_lockfile(project)?;
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    if declared.requirements.is_empty() {
        return Ok(None);
    }
    if let Some(unknown) =
        request.kept.iter().find(|kept| !declared.requirements.iter().any(|one| one.package == **kept))
    {
        return Err(EditError::NoSuchNeed(unknown.clone()).into());
    }
    let as_of = request.as_of;
    let keep = before.as_ref().map(|before| kept_versions(before, &declared, &Keep::Locked)).unwrap_or_default();
    let requirements = declared.requirements.clone();
    let rules = rules_of(project, as_of, None, context.settings);
    let resolver = Resolver::with_edits(Problem { requirements, keep: keep.clone(), rules });
    let sources = project.sources_and_elsewhere(before.as_ref(), &Keep::Locked, context)?;
    let Driven { outcome, mut resolver, .. } = drive(resolver, project, &sources, context.observer)?;
    let Outcome::Collision(collision) = outcome else { return Ok(None) };
    let mut settlements = Vec::new();
    let propose = |project: &LoadedProject, declared: &Declared, resolution: &Resolution, manifests: Texts| {
        let (before, keep) = (before.as_ref(), &Keep::Locked);
        let basis = Basis { project, declared, patches: &patches, before, keep, manifests, shareable: false };
        Proposal::of(resolution, &basis, context)
    };
    let wished = before.as_ref().map(|before| not_locked_yet(&declared, before)).unwrap_or_default();
    let edit_rules = EditRules { most: MOST_EDIT_SETS, kept: request.kept.clone(), wished };
    for edit_set in edit_sets(&mut resolver, &edit_rules, context.observer)? {
        let texts = edited(project, &edit_set.edits)?;
        // What is said about packages wherever they turn up can undo an edit, or forbid it.
        let Some(edited) = means(project, &texts, &edit_set.requirements) else { continue };
        let declared = Declared { requirements: edit_set.requirements.clone(), ..declared.clone() };
        let proposal = propose(&edited, &declared, &edit_set.resolution, texts)?;
        settlements.push(Settlement { edit_set, coexist: None, proposal });
    }
    // Where two lines of a package are wanted, permitting both is one edit too.
    let apart: BTreeSet<&PackageName> = collision.lines.iter().map(|apart| &apart.package).collect();
    for package in apart {
        if settlements.iter().filter(|settlement| settlement.coexist.is_some()).count() == MOST_COEXIST {
            break;
        }
        let mut rules = rules_of(project, as_of, None, context.settings);
        rules.coexist.insert(package.clone());
        let problem = Problem { requirements: declared.requirements.clone(), keep: keep.clone(), rules };
        let Driven { outcome, .. } = drive(Resolver::new(problem), project, &sources, context.observer)?;
        let Outcome::Resolved(resolution) = outcome else { continue };
        let mut declared = declared.clone();
        declared.coexist.insert(package.clone());
        let after = add_coexist(&project.top.text, package)?;
        let texts = [(project.top.manifest_path(), (project.top.text.clone(), after))].into();
        let proposal = propose(project, &declared, &resolution, texts)?;
        let moved = proposal.moves().iter().filter(|m| matches!(m.kind, MoveKind::Moved { .. })).count();
        let edit_set = EditSet { edits: Vec::new(), requirements: declared.requirements.clone(), resolution, moved };
        settlements.push(Settlement { edit_set, coexist: Some(package.clone()), proposal });
    }
    let drops = |edit: &&RequirementEdit| matches!(edit, RequirementEdit::Drop { .. });
    let rank = |settlement: &Settlement| {
        let edits = &settlement.edit_set.edits;
        (edits.len().max(1), edits.iter().filter(drops).count(), settlement.coexist.is_some())
    };
    settlements.sort_by_key(rank);
    let touches_wish = |settlement: &Settlement| edit_rules.touches_wish(&settlement.edit_set);
    let (mut last, mut first): (Vec<_>, Vec<_>) = settlements.into_iter().partition(touches_wish);
    first.truncate(MOST_EDIT_SETS - last.len().min(ROOM_FOR_WISHED));
    last.truncate(MOST_EDIT_SETS - first.len());
    first.append(&mut last);
    Ok(Some(first))
}

/// Lists the needs, as they bind, that the lockfile does not know.
fn not_locked_yet(declared: &Declared, before: &Lockfile) -> BTreeSet<Requirement> {
    let known = |requirement: &Requirement| {
        before.chosen.all(&requirement.package).iter().any(|locked| {
            locked.asked_by.iter().any(|asked| {
                asked.who == requirement.asker
                    && asked.purpose == requirement.purpose
                    && asked.accept == requirement.accept
            })
        })
    };
    declared.bound_requirements().into_iter().filter(|requirement| !known(requirement)).collect()
}

/// Returns the project with edited manifests, if they come to these needs.
fn means(project: &LoadedProject, texts: &Texts, requirements: &[Requirement]) -> Option<LoadedProject> {
    let after = texts.iter().map(|(file, (_, after))| (file.clone(), after.clone())).collect();
    let edited = project.with_texts(&after)?;
    let overrides = edited.overrides();
    let bound: BTreeSet<Requirement> =
        edited.requirements().iter().map(|requirement| overrides.bound(requirement)).collect();
    (bound == requirements.iter().cloned().collect()).then_some(edited)
}

fn edited(project: &LoadedProject, edits: &[RequirementEdit]) -> Result<Texts, FlowError> {
    let mut texts = Texts::new();
    for edit in edits {
        let requirement = edit.requirement();
        let purpose: &Purpose = &requirement.purpose;
        let Some(file) = project.projects().find(|file| file.name() == requirement.asker.name()) else { continue };
        let (_, text) = texts.entry(file.manifest_path()).or_insert_with(|| (file.text.clone(), file.text.clone()));
        *text = match edit {
            RequirementEdit::Change { accept, .. } => {
                add_need(text, purpose, &requirement.package, &NeedForm::Constraint(accept.clone()))?.text
            }
            RequirementEdit::Drop { .. } => remove_need(text, Some(purpose), &requirement.package)?.text,
        };
    }
    Ok(texts)
}
