//! Whether those who will need a package can be given a set: what it needs is resolved as theirs will be, before it is
//! published.

use std::fs;
use std::time::Duration;

use yostel_documents::{
    NamePattern, Origin, Requirement, SourceDeclaration, SourceName, SourcePlace, Word, run_purpose,
};
use yostel_registry::foreseen;
use yostel_resolve::{Outcome, Problem, Resolver, Rules};
use yostel_sources::SourceSet;

use super::target::{OpenTarget, RegistryTarget, with_target};
use crate::context::Context;
use crate::error::FlowError;
use crate::project::{LoadedProject, ProjectFile};
use crate::search::drive::{Driven, drive_within};
use crate::search::places::told;

/// How long is searched, asking the sources not counted: nobody is refused because it takes longer.
const MOST_TIME: Duration = Duration::from_secs(60);

/// What is known of what a package needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NeedsVerdict {
    /// It needs nothing.
    None,
    /// There is a set.
    Resolved,
    /// Nobody tried.
    Untried,
    /// It was not found out in time.
    Undecided,
}

/// What packages are tried with that are published together: the sources of their project and the registry that they go to,
/// where all of them are already. What the project says of packages wherever they turn up is not known to those who will
/// need them, and does not count.
pub(crate) struct Trial {
    project: LoadedProject,
    sources: SourceSet,
}

impl Trial {
    /// # Errors
    /// When a source or the registry cannot be asked.
    pub(crate) fn of(
        project: &LoadedProject,
        chosen: &[&ProjectFile],
        (target, registry): (&RegistryTarget, &OpenTarget),
    ) -> Result<Self, FlowError> {
        let project = with_registry(project, target, registry);
        let mut sources = project.declared_sources()?;
        // One alone is there for nobody but itself.
        for file in chosen.iter().filter(|_| chosen.len() > 1) {
            let document = with_target!(registry, registry => foreseen(registry, &file.manifest))?;
            sources.give(Origin::Project { folder: file.folder.clone() }, document);
        }
        Ok(Self { project, sources })
    }

    /// Resolves what these packages need to run, all of it together: where that can be had, each can have what it needs.
    ///
    /// # Errors
    /// `Search` when there is no set, and whatever asking refuses.
    pub(crate) fn needs_of(&self, files: &[&ProjectFile], context: &Context<'_>) -> Result<NeedsVerdict, FlowError> {
        let requirements = files.iter().flat_map(|file| run_needs(file)).collect();
        let policy = &self.project.manifest().policy;
        let rules =
            Rules { coexist: policy.coexist.clone(), shared_roles: policy.share_roles.clone(), ..Rules::default() };
        let resolver = Resolver::new(Problem { requirements, rules, ..Problem::default() });
        let (project, sources) = (&self.project, &self.sources);
        let Driven { outcome, .. } = drive_within(resolver, project, sources, context.observer, Some(MOST_TIME))?;
        match outcome {
            Outcome::Resolved(_) => Ok(NeedsVerdict::Resolved),
            Outcome::Stopped(_) => Ok(NeedsVerdict::Undecided),
            Outcome::Collision(collision) => Err(told(project, collision).into()),
        }
    }
}

/// Lists what a package needs to run.
pub(crate) fn run_needs(file: &ProjectFile) -> Vec<Requirement> {
    let mut requirements = file.manifest.requirements();
    requirements.retain(|requirement| requirement.purpose == run_purpose());
    requirements
}

/// Returns the project with the registry among its sources, if it is not yet: for what its workspace publishes there, or for
/// all, where it has no other source.
fn with_registry(project: &LoadedProject, target: &RegistryTarget, registry: &OpenTarget) -> LoadedProject {
    let mut project = project.clone();
    let canonical = |folder: &std::path::Path| fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    let is_target = |declared: &SourceDeclaration| match (&declared.place, target) {
        (SourcePlace::Folder(folder), RegistryTarget::Folder(there)) => {
            canonical(&project.root.join(folder)) == canonical(there)
        }
        (SourcePlace::Oci(places), RegistryTarget::Oci { place, .. }) => places.contains(place),
        _ => false,
    };
    if project.manifest().sources.values().any(is_target) {
        return project;
    }
    let (place, certificates) = match target {
        RegistryTarget::Folder(folder) => (SourcePlace::Folder(canonical(folder).to_string_lossy().into_owned()), None),
        RegistryTarget::Oci { place, certificates, .. } => {
            (SourcePlace::Oci(vec![place.clone()]), certificates.clone())
        }
    };
    let certificates = certificates.map(|file| file.to_string_lossy().into_owned());
    let mut reserves = Vec::new();
    if !project.manifest().sources.is_empty() {
        reserves = project.projects().filter_map(|file| NamePattern::parse(file.name().as_str()).ok()).collect();
    }
    let taken = |name: &SourceName| project.manifest().sources.contains_key(name);
    let names = [registry.name(), "registry"].into_iter().map(str::to_owned);
    let names = names.chain((2..).map(|n| format!("registry-{n}")));
    let name = names.filter_map(|name| Word::parse(&name).ok()).find(|name| !taken(name)).expect("one is free");
    project.top.manifest.sources.insert(name, SourceDeclaration { place, certificates, reserves, span: 0..0 });
    project
}
