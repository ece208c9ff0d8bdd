//! Merging as git asks for it: three files of one path, of which the second is to hold what comes of them. Whatever cannot be
//! merged is left to git and to people: nothing is written then.

use std::path::{Path, PathBuf};

use yostel_documents::{Declared, Manifest, merge_manifests};
use yostel_files::write_atomically;
use yostel_findings::{BothMoved, Merged, MergedNeeds, merge_needs};
use yostel_resolve::{Outcome, Problem, Resolver};
use yostel_sources::{GitConfig, GitError, merge_texts};

use crate::context::Context;
use crate::decide::merge::{ReadSides, Sides, read_sides};
use crate::error::{FlowError, LockError, ProjectError};
use crate::project::LoadedProject;
use crate::project::files::MOST_MANIFEST;
use crate::search::drive::drive;
use crate::search::places::told;
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, kept_versions, rules_of};

/// Merges lockfiles: what both kept stays, and what either moved is taken where that is consistent with what both need together.
/// The manifests are not merged yet, so what theirs needs is taken from its lockfile. Writes what comes of it in place of ours;
/// returns the packages that both moved, each to another version.
///
/// # Errors
/// `BothAsk`, `Collision`, and those of reading, asking sources and writing. Ours is then as it was.
pub fn merge_lockfiles_for_git(
    project: &LoadedProject,
    files: [PathBuf; 3],
    context: &Context<'_>,
) -> Result<Vec<BothMoved>, FlowError> {
    let into = files[1].clone();
    let ReadSides { merged: Merged { lockfile, both }, base, ours, theirs } =
        read_sides(project, &Sides::Files(files))?;
    let needs: MergedNeeds = merge_needs(base.as_ref(), &ours, &theirs);
    if !needs.both.is_empty() {
        return Err(LockError::BothAsk(needs.both).into());
    }
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    let declared = Declared { requirements: needs.applied_to(&declared.requirements), ..declared };
    let keep = kept_versions(&lockfile, &declared, &Keep::Locked);
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Locked, context)?;
    let rules = rules_of(project, None, None, context.settings);
    let problem = Problem { requirements: declared.requirements.clone(), keep, rules, ..Problem::default() };
    let resolution = match drive(Resolver::new(problem), project, &sources, context.observer)?.outcome {
        Outcome::Resolved(resolution) => resolution,
        Outcome::Stopped(_) => return Err(FlowError::Stopped),
        Outcome::Collision(collision) => return Err(told(project, collision).into()),
    };
    let basis = Basis {
        project,
        declared: &declared,
        patches: &patches,
        before: Some(&lockfile),
        keep: &Keep::Locked,
        manifests: Default::default(),
        shareable: false,
    };
    Proposal::of(&resolution, &basis, context)?.write_to(&into)?;
    Ok(both)
}

/// Merges manifests: line by line as git does, or else key by key. Writes what comes of it in place of ours; where both changed
/// one thing, it is what git makes of that, and the keys are returned that both changed.
///
/// # Errors
/// Those of reading, running git and writing.
pub fn merge_manifests_for_git(
    folder: &Path,
    files: [PathBuf; 3],
    context: &Context<'_>,
) -> Result<Option<Vec<String>>, FlowError> {
    let [base, ours, theirs] = &files;
    let read = |path: &PathBuf| {
        let text = context.settings.files.read(path, MOST_MANIFEST);
        text.map_err(|cause| ProjectError::Read { path: path.clone(), cause })
    };
    let texts = [read(base)?, read(ours)?, read(theirs)?];
    let config = GitConfig { patience: context.settings.patience.clone(), ..GitConfig::default() };
    let by_lines = merge_texts(folder, &files, &config).map_err(|error| match error {
        GitError::Stopped(_) => FlowError::Stopped,
        error => LockError::NothingToMerge { said: Some(error.to_string()) }.into(),
    })?;
    let fits = |text: &str| Manifest::read(text, None).problems.is_empty();
    let (text, both) = match by_lines {
        (text, false) if fits(&text) || !fits(&texts[1]) => (text, None),
        (text, _) => match merge_manifests(&texts[0], &texts[1], &texts[2]) {
            Ok(merged) => (merged, None),
            Err(keys) => (text, Some(keys)),
        },
    };
    write_atomically(ours, text.as_bytes())?;
    Ok(both)
}
