//! A project that was read: its manifests, and all that follows from them.

pub(crate) mod answers;
pub(crate) mod files;
pub(crate) mod journal;
pub(crate) mod mentions;
pub(crate) mod patches;
pub(crate) mod places;
pub(crate) mod prepared;
pub(crate) mod read;
pub(crate) mod workspace;
pub(crate) mod write;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use yostel_documents::{
    Elsewhere, LocalPackage, Manifest, Need, Origin, Overrides, PackageDocument, PackageName, Release, Requirement,
    SourceDeclaration, SourceName, SourcePlace, run_purpose,
};
use yostel_files::FileError;
use yostel_findings::Spot;
use yostel_sources::{OpenSource, RegistryPlace, Source, SourceContext, SourceError, SourceSet};
use yostel_store::Project;
use yostel_versions::{ConstraintText, Numbering, Version};

use crate::error::{FlowError, ProjectError, RequirementPlace};
use crate::project::files::{Files, LOCKFILE_NAME, MANIFEST_NAME};
use crate::project::workspace::plain_path;

/// A project whose manifest was read; or a workspace, with the manifests of all its projects.
#[derive(Debug, Clone)]
pub struct LoadedProject {
    /// Its folder, or that of the workspace's root: where the lockfile is.
    pub root: PathBuf,
    /// Its manifest, or that of the workspace's root. What binds all projects is there.
    pub top: ProjectFile,
    /// The workspace's other projects, sorted by folder.
    pub below: Vec<ProjectFile>,
    /// Which of those is worked on; the one at the root when none is.
    pub(crate) here: Option<usize>,
    /// Local packages that somebody named, each with where that is named.
    pub(crate) paths: BTreeMap<PackageName, PathPackage>,
    /// Packages that come from a repository or an archive, seen from the root.
    pub(crate) elsewhere: BTreeMap<PackageName, Elsewhere>,
    /// How sources are opened.
    pub(crate) opener: Arc<dyn OpenSource>,
    /// What sources are asked with.
    pub(crate) asking: SourceContext,
    /// Where its manifests and its lockfile are read from.
    pub(crate) files: Arc<dyn Files>,
    /// The folder whose `.yostel` everything is installed into; the root's, unless somebody wants another.
    pub(crate) target: PathBuf,
}

/// A local package.
#[derive(Debug, Clone)]
pub(crate) struct PathPackage {
    /// The folder, relative to the root or absolute.
    pub(crate) folder: String,
    /// Its manifest; none when it has none.
    pub(crate) manifest: Option<Manifest>,
}

impl LoadedProject {
    /// Installs into another folder, and looks there for what is installed: to try a set without touching the project. What
    /// the manifests name is still as they name it, seen from the root.
    #[must_use]
    pub fn installed_in(self, target: PathBuf) -> Self {
        Self { target, ..self }
    }

    /// Opens the folder that everything is installed into.
    pub(crate) fn target(&self) -> Result<Project, FileError> {
        Project::at(&self.target)
    }

    /// Returns the project that is worked on.
    pub fn here(&self) -> &ProjectFile {
        self.here.map_or(&self.top, |at| &self.below[at])
    }

    /// Returns the manifest whose tables bind all projects.
    pub fn manifest(&self) -> &Manifest {
        &self.top.manifest
    }

    /// Lists all projects, the one at the root first.
    pub fn projects(&self) -> impl Iterator<Item = &ProjectFile> {
        std::iter::once(&self.top).chain(&self.below)
    }

    /// Tells whether it is a workspace.
    pub fn is_workspace(&self) -> bool {
        self.top.manifest.workspace.is_some()
    }

    /// Returns a project's folder.
    pub fn folder_of(&self, project: &ProjectFile) -> PathBuf {
        if project.folder.is_empty() { self.root.clone() } else { self.root.join(&project.folder) }
    }

    /// Returns a project's manifest file.
    pub fn manifest_of(&self, project: &ProjectFile) -> PathBuf {
        self.folder_of(project).join(MANIFEST_NAME)
    }

    /// Returns the lockfile's file.
    pub fn lockfile_path(&self) -> PathBuf {
        self.root.join(LOCKFILE_NAME)
    }

    /// Works on this project of the workspace.
    ///
    /// # Errors
    /// `NoSuchProject`.
    pub fn at_project(mut self, name: &PackageName) -> Result<Self, ProjectError> {
        self.project(name)?;
        self.here = self.below.iter().position(|project| *project.name() == *name);
        Ok(self)
    }

    /// Returns the project of this name.
    ///
    /// # Errors
    /// `NoSuchProject`.
    pub fn project(&self, name: &PackageName) -> Result<&ProjectFile, ProjectError> {
        let found = self.projects().find(|project| project.name() == name);
        found.ok_or_else(|| {
            let known = self.projects().map(|project| project.name().clone()).collect();
            ProjectError::NoSuchProject { name: name.clone(), known }
        })
    }

    /// Returns the same with other texts of manifests, by their path relative to the root; nothing when one is none.
    pub(crate) fn with_texts(&self, texts: &BTreeMap<String, String>) -> Option<Self> {
        let mut edited = self.clone();
        if let Some(text) = texts.get(&self.top.manifest_path()) {
            edited.top.manifest = Manifest::parse(text).ok()?;
            edited.top.text.clone_from(text);
        }
        for project in &mut edited.below {
            // What is agreed at the root counts for all.
            let text = texts.get(&project.manifest_path()).unwrap_or(&project.text).clone();
            project.manifest = Manifest::parse_below(&text, &edited.top.manifest.agreed).ok()?;
            project.text = text;
        }
        Some(edited)
    }

    /// Tells why manifests could not be read with other texts, by their path relative to the root.
    ///
    /// # Errors
    /// `Manifest`, of the first that could not.
    pub(crate) fn check_texts(&self, texts: &BTreeMap<String, String>) -> Result<(), ProjectError> {
        let text_of = |file: &ProjectFile| texts.get(&file.manifest_path()).unwrap_or(&file.text).clone();
        let fail = |file: &ProjectFile, text, problems| {
            Err(ProjectError::Manifest { path: self.manifest_of(file), text, problems })
        };
        let text = text_of(&self.top);
        let top = match Manifest::parse(&text) {
            Ok(top) => top,
            Err(problems) => return fail(&self.top, text, problems),
        };
        for file in &self.below {
            let text = text_of(file);
            if let Err(problems) = Manifest::parse_below(&text, &top.agreed) {
                return fail(file, text, problems);
            }
        }
        Ok(())
    }

    /// Lists what all projects need.
    pub fn requirements(&self) -> Vec<Requirement> {
        self.projects().flat_map(|project| project.manifest.requirements()).collect()
    }

    /// Returns what is said about packages wherever they turn up.
    pub fn overrides(&self) -> Overrides {
        let mut overrides = self.top.manifest.overrides();
        // What a project asks of an agreed package, and says why, is in place of what is agreed.
        for needs in self.below.iter().flat_map(|project| project.manifest.needs.values()) {
            for package in needs.iter().filter(|(_, need)| need.why.is_some()).map(|(package, _)| package) {
                overrides.agreed.remove(package);
            }
        }
        overrides
    }

    /// Returns the local packages: the workspace's projects, and paths that somebody named.
    pub(crate) fn local(&self) -> BTreeMap<PackageName, LocalPackage> {
        let mut local = BTreeMap::new();
        for (name, path) in &self.paths {
            let origin = Origin::Path { folder: path.folder.clone() };
            let project = path.manifest.as_ref().map(|manifest| &manifest.project);
            let needs = path.manifest.as_ref().and_then(|manifest| manifest.needs.get(&run_purpose()));
            let needs = needs.into_iter().flatten().map(|(name, need)| (name.clone(), need.accept.clone()));
            local.insert(name.clone(), local_package(origin, project, needs.collect()));
        }
        if self.is_workspace() {
            for project in self.projects() {
                let folder = if project.folder.is_empty() { ".".to_owned() } else { project.folder.clone() };
                let about = &project.manifest.project;
                let package = local_package(Origin::Project { folder }, Some(about), BTreeMap::new());
                local.insert(about.name.clone(), package);
            }
        }
        local
    }

    /// Opens the manifest's sources.
    pub(crate) fn sources(&self) -> Result<SourceSet, FlowError> {
        self.sources_with(false)
    }

    /// Opens the manifest's sources, of which web servers are not asked: what is kept of them is all there is.
    pub(crate) fn cached_sources(&self) -> Result<SourceSet, FlowError> {
        self.sources_with(true)
    }

    /// Opens the manifest's sources, without the packages that are in folders.
    pub(crate) fn declared_sources(&self) -> Result<SourceSet, FlowError> {
        self.declared_sources_with(false)
    }

    fn declared_sources_with(&self, offline: bool) -> Result<SourceSet, FlowError> {
        let mut set = SourceSet::default();
        for (name, declared) in &self.top.manifest.sources {
            set.add(self.open_source(name, declared, offline)?, declared.reserves.clone());
        }
        Ok(set)
    }

    fn sources_with(&self, offline: bool) -> Result<SourceSet, FlowError> {
        let mut set = self.declared_sources_with(offline)?;
        for (origin, document) in self.local_documents() {
            set.give(origin, document);
        }
        Ok(set)
    }

    /// Lists when the servers of sources were last reached, where none is asked.
    pub(crate) fn cached_sources_seen(&self, sources: &SourceSet) -> Vec<(SourceName, Option<Timestamp>)> {
        let is_server = |name: &SourceName| {
            self.manifest().sources.get(name).is_some_and(|declared| declared.place.folder().is_none())
        };
        let seen = sources.last_seen().into_iter();
        if self.asking.offline { seen.filter(|(name, _)| is_server(name)).collect() } else { Vec::new() }
    }

    /// Opens one source.
    pub(crate) fn open_source(
        &self,
        name: &SourceName,
        declared: &SourceDeclaration,
        offline: bool,
    ) -> Result<Box<dyn Source>, SourceError> {
        let place = match &declared.place {
            SourcePlace::Folder(folder) => {
                let folder = self.root.join(folder);
                RegistryPlace::Folder(fs::canonicalize(&folder).unwrap_or(folder))
            }
            SourcePlace::Web(addresses) => RegistryPlace::Web(addresses.clone()),
            SourcePlace::Oci(places) => RegistryPlace::Oci(places.clone()),
        };
        let certificates = declared.certificates.as_ref().map(|file| self.root.join(file));
        let offline = offline || self.asking.offline;
        let context = SourceContext { offline, certificates, ..self.asking.clone() };
        self.opener.open(name.clone(), place, &context)
    }

    /// Describes packages in folders as a source would.
    fn local_documents(&self) -> Vec<(Origin, PackageDocument)> {
        let offers = |name: &PackageName| {
            let of_path = self.paths.get(name).and_then(|path| path.manifest.as_ref());
            let of_project = || self.projects().map(|project| &project.manifest).find(|m| m.project.name == *name);
            of_path.or_else(of_project).map(|manifest| manifest.offers.clone()).unwrap_or_default()
        };
        let document = |(name, local): (PackageName, LocalPackage)| {
            let offers = offers(&name);
            let needs = [(run_purpose(), local.needs)].into();
            let release = Release::unpublished(local.version, needs, offers, Vec::new());
            (local.origin, PackageDocument::of_one(name, local.numbering, release))
        };
        self.local().into_iter().map(document).collect()
    }

    /// Finds a project's need, as it is written or as it binds with what the manifest says about packages wherever they turn up.
    fn written(&self, requirement: &Requirement) -> Option<(&ProjectFile, &PackageName, &Need)> {
        let project = self.projects().find(|project| *project.name() == *requirement.asker.name())?;
        let needs = project.manifest.needs.get(&requirement.purpose)?;
        let overrides = self.overrides();
        let binds = |(package, need): &(&PackageName, &Need)| {
            let bound = overrides.bind(package, &need.accept).unwrap_or(((*package).clone(), need.accept.clone()));
            bound == (requirement.package.clone(), requirement.accept.clone())
        };
        let here = needs.get_key_value(&requirement.package);
        let (package, need) = here.filter(binds).or_else(|| needs.iter().find(binds)).or(here)?;
        Some((project, package, need))
    }

    /// Finds where a project's need is, and what is written there.
    pub(crate) fn place_of(&self, requirement: &Requirement) -> Option<RequirementPlace> {
        let (project, package, need) = self.written(requirement)?;
        let as_it_is = (package, &need.accept) == (&requirement.package, &requirement.accept);
        Some(RequirementPlace {
            asked: (!as_it_is).then(|| (package.clone(), need.accept.clone())),
            requirement: requirement.clone(),
            file: project.manifest_path(),
            line: line_of(&project.text, &need.span),
        })
    }
}

/// Returns where a part of a project's manifest begins.
pub(crate) fn spot_of(project: &ProjectFile, span: &std::ops::Range<usize>) -> Spot {
    let text = &project.text;
    let start = text[..span.start].rfind('\n').map_or(0, |at| at + 1);
    let column = text[start..span.start].chars().count() + 1;
    Spot { file: project.manifest_path(), line: line_of(text, span), column }
}

/// Returns the line of a text in which a part of it begins, from 1.
pub(crate) fn line_of(text: &str, span: &std::ops::Range<usize>) -> usize {
    text[..span.start].matches('\n').count() + 1
}

/// Returns the version of what is somewhere and how it numbers: `0.0.0`, where nothing says so.
pub(crate) fn version_of(project: Option<&yostel_documents::Project>) -> (Version, Numbering) {
    let numbering = project.map(|project| project.numbering.clone()).unwrap_or_default();
    let version = project.and_then(|project| project.version.clone());
    let none = || numbering.parse_version("0.0.0").expect("that is a version in any order");
    (version.unwrap_or_else(none), numbering)
}

fn local_package(
    origin: Origin,
    project: Option<&yostel_documents::Project>,
    needs: BTreeMap<PackageName, ConstraintText>,
) -> LocalPackage {
    let (version, numbering) = version_of(project);
    LocalPackage { origin, version, numbering, needs }
}

/// A project of a workspace: the root itself, or one below it.
#[derive(Debug, Clone)]
pub struct ProjectFile {
    /// Its folder, relative to the workspace's root, with `/` between its parts; empty for the root itself.
    pub folder: String,
    /// Its manifest's text.
    pub text: String,
    /// Its manifest.
    pub manifest: Manifest,
}

impl ProjectFile {
    /// Returns its manifest's path, relative to the workspace's root.
    pub fn manifest_path(&self) -> String {
        plain_path(&Path::new(&self.folder).join(MANIFEST_NAME))
    }

    /// Returns its name.
    pub fn name(&self) -> &PackageName {
        &self.manifest.project.name
    }
}
