//! How a project was installed, and what of it.

use yostel_documents::{PackageName, Purpose};
use yostel_store::{Cache, InstallPlan, Placing, Project, ProjectRecord};

use crate::context::{Context, Settings};
use crate::error::FlowError;
use crate::plan::compose::Selection;
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;

/// What is installed of a project, beside what should be: for everything that looks at an install.
#[derive(Debug)]
pub(crate) struct CurrentInstall {
    /// Where; packages are expected there in the way in which they were placed.
    pub(crate) target: Project,
    pub(crate) placing: Placing,
    /// For which platform, purposes and projects.
    pub(crate) selection: Selection,
    pub(crate) prepared: Prepared,
    /// What the lockfile wants of that selection.
    pub(crate) plan: InstallPlan,
}

impl LoadedProject {
    /// Reads how the project was installed, and plans the same anew.
    ///
    /// # Errors
    /// As [`Prepared::plan`].
    pub(crate) fn installed(&self, prepared: Prepared, context: &Context<'_>) -> Result<CurrentInstall, FlowError> {
        let target = self.target()?;
        let (placing, selection) = as_installed(&target, &context.cache, context.settings);
        let plan = prepared.plan(&selection)?;
        Ok(CurrentInstall { target: target.placing(placing), placing, selection, prepared, plan })
    }
}

/// Tells how the project was installed, and what of it; as it would be now, when that is not known.
pub(crate) fn as_installed(target: &Project, cache: &Cache, settings: &Settings) -> (Placing, Selection) {
    match target.record(cache) {
        Some(record) if !record.platform.is_empty() => (record.placing, selection_of(&record)),
        _ => (Placing::default(), Selection::all_for(&settings.platform)),
    }
}

pub(crate) fn selection_of(record: &ProjectRecord) -> Selection {
    Selection {
        platform: record.platform.clone(),
        purposes: record.purposes.iter().filter_map(|purpose| Purpose::parse(purpose).ok()).collect(),
        projects: record.projects.iter().filter_map(|name| PackageName::parse(name).ok()).collect(),
    }
}
