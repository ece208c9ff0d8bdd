//! The projects' own constraints, moved with what they constrain.

use std::collections::BTreeMap;

use yostel_documents::{Asker, EditError, PackageName, Purpose, Requirement, add_agreed, run_purpose};
use yostel_resolve::{RequirementEdit, Resolution};
use yostel_versions::{ConstraintText, Version};

use crate::error::FlowError;
use crate::moving::aim::Aim;
use crate::project::LoadedProject;
use crate::project::write::edit_needs;

/// A constraint of a project that moved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConstraintMove {
    /// Whose it is; none of what all agreed on.
    pub project: Option<PackageName>,
    /// Of what.
    pub package: PackageName,
    /// For what; `run` of what all agreed on.
    pub purpose: Purpose,
    /// As it was.
    pub before: ConstraintText,
    /// As it is, or would be.
    pub after: ConstraintText,
}

/// Writes the projects' own constraints so that they accept what was found, each in its form; returns the project with the
/// manifests as they are then.
pub(crate) fn with_edits(
    project: &LoadedProject,
    aim: &Aim<'_>,
    resolution: &Resolution,
) -> Result<(LoadedProject, Vec<ConstraintMove>), FlowError> {
    let mut moves = Vec::new();
    let mut texts = BTreeMap::new();
    if !aim.request.edit {
        return Ok((project.clone(), moves));
    }
    let moved = |package: &PackageName, before: &ConstraintText| {
        // A version that is forced is nobody's constraint.
        if project.manifest().force.contains_key(package) {
            return None;
        }
        // Of several lines a need is met by the newest that it accepts.
        let choice = resolution.chosen.get(package)?;
        let versions: Vec<&Version> =
            resolution.chosen.all(package).iter().map(|choice| &choice.release.version).collect();
        let bound = before.bind(&choice.numbering).ok()?;
        let accepts_one = versions.iter().any(|version| bound.accepts(version));
        (!accepts_one).then(|| before.moved_to(&choice.release.version, &choice.numbering))
    };
    let top = &project.top;
    for (package, agreed) in top.manifest.agreed.iter().filter(|(package, _)| aim.is_for(package)) {
        if let Some(after) = moved(package, &agreed.accept) {
            let text = texts.entry(top.manifest_path()).or_insert_with(|| top.text.clone());
            *text = add_agreed(text, package, &after)?;
            let (package, before) = (package.clone(), agreed.accept.clone());
            moves.push(ConstraintMove { project: None, package, purpose: run_purpose(), before, after });
        }
    }
    // What takes the constraint from there moved with it.
    let agreed = project.with_texts(&texts).ok_or(EditError::Unreadable)?;
    let declared = agreed.declared()?;
    for file in agreed.projects() {
        for (purpose, needs) in &file.manifest.needs {
            let of_sources = needs.iter().filter(|(package, need)| aim.is_for(package) && need.elsewhere.is_none());
            for (package, need) in of_sources {
                let Some(after) = moved(package, &need.accept) else { continue };
                let asker = Asker::Project(file.name().clone());
                let same =
                    |one: &&Requirement| one.asker == asker && one.package == *package && one.purpose == *purpose;
                let Some(requirement) = declared.requirements.iter().find(same).cloned() else { continue };
                let edit = RequirementEdit::Change { requirement, accept: after.clone() };
                edit_needs(&agreed, &mut texts, std::slice::from_ref(&edit))?;
                let (project, before) = (Some(file.name().clone()), need.accept.clone());
                moves.push(ConstraintMove {
                    project,
                    package: package.clone(),
                    purpose: purpose.clone(),
                    before,
                    after,
                });
            }
        }
    }
    project.check_texts(&texts)?;
    let edited = project.with_texts(&texts).ok_or(EditError::Unreadable)?;
    Ok((edited, moves))
}
