//! A set that was found, as it would be written: with the constraints that move, and the files that change.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Declared, Lockfile, PackageName};
use yostel_resolve::Resolution;
use yostel_sources::SourceSet;

use crate::context::Context;
use crate::error::FlowError;
use crate::moving::aim::Aim;
use crate::moving::constraints::{ConstraintMove, with_edits};
use crate::moving::reach::proved;
use crate::moving::tested::Trial;
use crate::project::LoadedProject;
use crate::project::files::LOCKFILE_NAME;
use crate::project::patches::Patches;
use crate::search::proposal::{Basis, Proposal};

/// What there is before anything moves.
pub(crate) struct StartingPoint<'g> {
    pub(crate) project: &'g LoadedProject,
    pub(crate) before: &'g Lockfile,
    pub(crate) declared: &'g Declared,
    pub(crate) patches: &'g Patches,
    pub(crate) sources: &'g SourceSet,
}

/// A set that was found, as it would be written.
pub(crate) struct PlannedUpdate {
    /// The project, with its constraints moved.
    pub(crate) edited: LoadedProject,
    pub(crate) declared: Declared,
    pub(crate) edits: Vec<ConstraintMove>,
    pub(crate) proposal: Proposal,
}

impl PlannedUpdate {
    /// Moves constraints where that is wanted, and makes of what the manifests say then what is to be written.
    pub(crate) fn of(
        found: &Resolution,
        aim: &Aim<'_>,
        start: &StartingPoint<'_>,
        context: &Context<'_>,
    ) -> Result<Self, FlowError> {
        let StartingPoint { project, patches, before, sources, .. } = start;
        let (edited, edits) = with_edits(project, aim, found)?;
        let declared = edited.declared_with(patches);
        let again = match edits.is_empty() && aim.demands.is_empty() {
            true => None,
            false => Some(proved(found, &edited, &declared, sources, aim.request, context)?),
        };
        let keep = aim.keep();
        let texts = edited.projects().zip(project.projects()).filter(|(after, before)| after.text != before.text);
        let texts = texts.map(|(after, before)| (before.manifest_path(), (before.text.clone(), after.text.clone())));
        let basis = Basis {
            project: &edited,
            declared: &declared,
            patches,
            before: Some(before),
            keep: &keep,
            manifests: texts.collect(),
            shareable: false,
        };
        let proposal = Proposal::of(again.as_ref().unwrap_or(found), &basis, context)?;
        Ok(Self { edited, declared, edits, proposal })
    }

    /// Says what is to be tried before it is written, where these packages moved.
    pub(crate) fn trial<'t>(&'t self, start: &StartingPoint<'t>, moved: BTreeSet<&'t PackageName>) -> Trial<'t> {
        Trial {
            project: start.project,
            before: (start.before, start.declared),
            edited: &self.edited,
            after: (self.proposal.lockfile(), &self.declared),
            text: self.proposal.text(),
            followed: self.proposal.followed_texts(),
            moved,
        }
    }

    /// Lists the files that change, as they would be.
    pub(crate) fn files(&self) -> BTreeMap<String, String> {
        let others = self.proposal.manifests().iter().map(|(file, (_, after))| (file.clone(), after.clone()));
        let changes = self.proposal.changes_lockfile();
        let lockfile = changes.then(|| (LOCKFILE_NAME.to_owned(), self.proposal.text().to_owned()));
        others.chain(lockfile).collect()
    }
}
