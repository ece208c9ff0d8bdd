//! List what is locked.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Origin, PackageName, Purpose, TreeDigest};
use yostel_findings::Notice;
use yostel_versions::Version;

use crate::content::trust::said_of;
use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;

/// All locked packages.
#[derive(Debug)]
pub struct ListReport {
    /// The project.
    pub project: PackageName,
    /// By name.
    pub rows: Vec<ListRow>,
}

/// One locked package.
#[derive(Debug)]
pub struct ListRow {
    /// Its name.
    pub package: PackageName,
    /// Its version.
    pub version: Version,
    /// Whether the project asks for it itself.
    pub direct: bool,
    /// For which purposes it is there.
    pub purposes: BTreeSet<Purpose>,
    /// Where it comes from.
    pub from: Origin,
    /// Who asks for it, sorted.
    pub asked_by: Vec<String>,
    /// Digests of its trees, by platform.
    pub trees: BTreeMap<String, TreeDigest>,
    /// Whether it is changed locally.
    pub altered: bool,
    /// Whether its version is forced.
    pub forced: bool,
    /// The packages that were asked for and for which it stands in.
    pub stands_in_for: BTreeSet<PackageName>,
    /// What is said of it since it was published, as far as its source could be asked.
    pub notice: Option<Notice>,
}

/// Lists what is locked; of a workspace, for the project that is worked on, or for all when that is the one at the root.
///
/// # Errors
/// As loading a lockfile.
pub fn list(project: &LoadedProject, context: &Context<'_>) -> Result<ListReport, FlowError> {
    let Prepared { lockfile, declared, .. } = project.prepare_to_look(context.observer)?;
    let mut requirements = declared.bound_requirements();
    let here = project.here().name();
    requirements.retain(|requirement| project.here.is_none() || requirement.asker.name() == here);
    let reached = lockfile.reached(&requirements, &declared, None);
    let met = requirements.iter().filter_map(|requirement| lockfile.met_by(requirement, &declared));
    let direct: BTreeSet<_> = met.map(|(name, locked)| (name, &locked.version)).collect();
    let said = said_of(project, &lockfile, context)?;
    let rows = lockfile.chosen.iter().filter_map(|(name, locked)| {
        let purposes = reached.purposes(name, &locked.version)?.clone();
        let asked_by: BTreeSet<String> = locked.asked_by.iter().map(|asked| asked.who.to_string()).collect();
        Some(ListRow {
            package: name.clone(),
            version: locked.version.clone(),
            direct: direct.contains(&(name, &locked.version)),
            purposes,
            from: locked.from.clone(),
            asked_by: asked_by.into_iter().collect(),
            altered: locked.altered.is_some(),
            forced: locked.forced,
            stands_in_for: locked.stands_in_for.clone(),
            notice: said.iter().find(|one| one.package == *name && one.version == locked.version).cloned(),
            trees: locked.artifacts.iter().map(|artifact| (artifact.platform.clone(), artifact.tree)).collect(),
        })
    });
    Ok(ListReport { project: here.clone(), rows: rows.collect() })
}
