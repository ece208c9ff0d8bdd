//! Finding and reading a project: its manifest, its sources, its lockfile.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use yostel_documents::{
    Elsewhere, Glance, Live, Lockfile, Manifest, Need, Origin, Overrides, PackageDocument, PackageName, Release,
    Requirement, run_purpose,
};
use yostel_files::{Entry, Folder, Kind, is_unfinished, read_text_of, remove_unfinished};
use yostel_sources::{FolderSource, Patience, SourceSet};
use yostel_versions::{Accept, Numbering, Version};

use crate::error::{FlowError, WishPlace};
use crate::workspace::{ProjectFile, has_project, plain_path, read_projects};

/// Longest manifest and longest lockfile that are read, in bytes: a clone may bring a link to something without end.
pub(crate) const MOST_MANIFEST: u64 = 4 << 20;
const MOST_LOCKFILE: u64 = 256 << 20;

/// The manifest's file name.
pub const MANIFEST_NAME: &str = "yostel.toml";
/// The lockfile's file name.
pub const LOCKFILE_NAME: &str = "yostel.lock";

/// What a flow would otherwise have to ask the machine for.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The cache's folder.
    pub cache: PathBuf,
    /// The time.
    pub now: Timestamp,
    /// System and architecture, like `linux/amd64`.
    pub platform: String,
    /// The tool's own version.
    pub tool: Version,
    /// How long to wait for repositories and servers.
    pub patience: Patience,
}

/// Returns the platform this program was built for, by the names that container images use.
pub fn current_platform() -> String {
    let architecture = match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    };
    let system = match std::env::consts::OS {
        "macos" => "darwin",
        other => other,
    };
    format!("{system}/{architecture}")
}

/// A project whose manifest was read; or a workspace, with the manifests of all its projects.
#[derive(Debug, Clone)]
pub struct LoadedProject {
    /// Its folder, or that of the workspace's root: where the lockfile lies.
    pub root: PathBuf,
    /// Its manifest, or that of the workspace's root. What binds all projects stands there.
    pub top: ProjectFile,
    /// The workspace's other projects, sorted by folder.
    pub below: Vec<ProjectFile>,
    /// Which of those is worked on; the one at the root when none is.
    pub(crate) here: Option<usize>,
    /// Packages that are what lies in a folder that somebody named, each with where that is named.
    pub(crate) paths: BTreeMap<PackageName, PathPackage>,
    /// Packages that come from a repository or an archive, seen from the root.
    pub(crate) elsewhere: BTreeMap<PackageName, Elsewhere>,
    /// How long to wait for repositories and servers.
    pub(crate) patience: Patience,
}

/// A package that is what lies in a folder.
#[derive(Debug, Clone)]
pub(crate) struct PathPackage {
    /// The folder, relative to the root or absolute.
    pub(crate) folder: String,
    /// Its manifest; none when it has none.
    pub(crate) manifest: Option<Manifest>,
}

impl LoadedProject {
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
    pub fn at_project(mut self, name: &PackageName) -> Result<Self, FlowError> {
        self.project(name)?;
        self.here = self.below.iter().position(|project| *project.name() == *name);
        Ok(self)
    }

    /// Returns the project of this name.
    ///
    /// # Errors
    /// `NoSuchProject`.
    pub fn project(&self, name: &PackageName) -> Result<&ProjectFile, FlowError> {
        let found = self.projects().find(|project| project.name() == name);
        found.ok_or_else(|| {
            let known = self.projects().map(|project| project.name().clone()).collect();
            FlowError::NoSuchProject { name: name.clone(), known }
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

    /// Returns the packages that are what lies in a folder: the workspace's projects, and paths that somebody named.
    pub(crate) fn live(&self) -> BTreeMap<PackageName, Live> {
        let mut live = BTreeMap::new();
        for (name, path) in &self.paths {
            let origin = Origin::Path { folder: path.folder.clone() };
            let project = path.manifest.as_ref().map(|manifest| &manifest.project);
            let needs = path.manifest.as_ref().and_then(|manifest| manifest.needs.get(&run_purpose()));
            let needs = needs.into_iter().flatten().map(|(name, need)| (name.clone(), need.accept.clone()));
            live.insert(name.clone(), live_of(origin, project, needs.collect()));
        }
        if self.is_workspace() {
            for project in self.projects() {
                let folder = if project.folder.is_empty() { ".".to_owned() } else { project.folder.clone() };
                let about = &project.manifest.project;
                let live_one = live_of(Origin::Project { folder }, Some(about), BTreeMap::new());
                live.insert(about.name.clone(), live_one);
            }
        }
        live
    }

    /// Opens the manifest's sources.
    pub(crate) fn sources(&self) -> Result<SourceSet, FlowError> {
        let mut set = SourceSet::default();
        for (name, declared) in &self.top.manifest.sources {
            let folder = self.root.join(&declared.folder);
            let folder = fs::canonicalize(&folder).unwrap_or(folder);
            set.add(Box::new(FolderSource::open(name.clone(), folder)?), declared.reserves.clone());
        }
        for (origin, document) in self.live_documents() {
            set.give(origin, document);
        }
        Ok(set)
    }

    /// Describes packages in folders as a source would.
    fn live_documents(&self) -> Vec<(Origin, PackageDocument)> {
        let offers = |name: &PackageName| {
            let of_path = self.paths.get(name).and_then(|path| path.manifest.as_ref());
            let of_project = || self.projects().map(|project| &project.manifest).find(|m| m.project.name == *name);
            of_path.or_else(of_project).map(|manifest| manifest.offers.clone()).unwrap_or_default()
        };
        let document = |(name, live): (PackageName, Live)| {
            let offers = offers(&name);
            let needs = [(run_purpose(), live.needs)].into();
            let release = Release::unpublished(live.version, needs, offers, Vec::new());
            (live.origin, PackageDocument::of_one(name, live.numbering, release))
        };
        self.live().into_iter().map(document).collect()
    }

    /// Finds where a wish stands: as it is written, or as it binds with what the manifest says about packages wherever
    /// they turn up.
    pub(crate) fn place_of(&self, wish: &Requirement) -> Option<WishPlace> {
        let project = self.projects().find(|project| *project.name() == *wish.asker.name())?;
        let needs = project.manifest.needs.get(&wish.purpose)?;
        let overrides = self.overrides();
        let binds = |(package, need): &(&PackageName, &Need)| {
            let bound = overrides.bind(package, &need.accept).unwrap_or(((*package).clone(), need.accept.clone()));
            bound == (wish.package.clone(), wish.accept.clone())
        };
        let need = needs.get(&wish.package).or_else(|| needs.iter().find(binds).map(|(_, need)| need))?;
        Some(WishPlace { wish: wish.clone(), file: project.manifest_path(), line: line_of(&project.text, &need.span) })
    }
}

/// Returns the line of a text in which a part of it begins, from 1.
pub(crate) fn line_of(text: &str, span: &std::ops::Range<usize>) -> usize {
    text[..span.start].matches('\n').count() + 1
}

/// Returns the version of what lies somewhere and how it numbers: `0.0.0`, where nothing says so.
pub(crate) fn version_of(project: Option<&yostel_documents::Project>) -> (Version, Numbering) {
    let numbering = project.map(|project| project.numbering.clone()).unwrap_or_default();
    let version = project.and_then(|project| project.version.clone());
    let none = || numbering.parse_version("0.0.0").expect("that is a version in any order");
    (version.unwrap_or_else(none), numbering)
}

fn live_of(origin: Origin, project: Option<&yostel_documents::Project>, needs: BTreeMap<PackageName, Accept>) -> Live {
    let (version, numbering) = version_of(project);
    Live { origin, version, numbering, needs }
}

/// Reads a text file.
pub(crate) fn read_text(path: &Path) -> Result<String, FlowError> {
    read_text_of(path, MOST_MANIFEST).map_err(|cause| FlowError::Read { path: path.to_owned(), cause })
}

/// Reads a manifest that stands alone, or at the root of a workspace.
fn read_top(folder: &Path) -> Result<ProjectFile, FlowError> {
    let path = folder.join(MANIFEST_NAME);
    let text = read_text(&path)?;
    match Manifest::parse(&text) {
        Ok(manifest) => Ok(ProjectFile { folder: String::new(), text, manifest }),
        Err(problems) => Err(FlowError::Manifest { path, text, problems }),
    }
}

/// Finds the workspace that a project's folder belongs to: its root, and the folder as seen from there.
fn workspace_of(folder: &Path) -> Result<Option<(PathBuf, ProjectFile, String)>, FlowError> {
    for above in folder.ancestors().skip(1) {
        let path = above.join(MANIFEST_NAME);
        // Most folders above have none, and most manifests are no workspace's: those are not read in full.
        let Ok(text) = read_text_of(&path, MOST_MANIFEST) else { continue };
        let inside = folder.strip_prefix(above).ok().map(plain_path);
        let Some(inside) = inside.filter(|_| text.contains("workspace")) else { continue };
        let top = read_top(above)?;
        if top.manifest.workspace.as_ref().is_some_and(|workspace| has_project(workspace, &inside)) {
            return Ok(Some((above.to_owned(), top, inside)));
        }
    }
    Ok(None)
}

/// Reads the project whose folder is `start` or the nearest one above it; when it is one of a workspace, that, with the
/// project worked on.
///
/// # Errors
/// `NoProject`, `Read`, `Manifest`, `Workspace`, `Path`, `OtherTool`.
pub fn load_project(start: &Path, settings: &Settings) -> Result<LoadedProject, FlowError> {
    let mut project = load_manifests(start, settings)?;
    project.read_places()?;
    Ok(project)
}

/// The same, for a change of manifests: what lies in folders that they name is not looked at, so that one that is gone is
/// no obstacle to saying so.
///
/// # Errors
/// As [`load_project`], but for `Path`.
pub fn load_manifests(start: &Path, settings: &Settings) -> Result<LoadedProject, FlowError> {
    let nearest = start.ancestors().find(|folder| folder.join(MANIFEST_NAME).is_file());
    let nearest = nearest.ok_or_else(|| FlowError::NoProject(start.to_owned()))?;
    let (root, top, inside) = match workspace_of(nearest)? {
        Some((root, top, inside)) => (root, top, Some(inside)),
        None => (nearest.to_owned(), read_top(nearest)?, None),
    };
    check_tool(&top.manifest, settings)?;
    let below = read_projects(&root, &top.text, &top.manifest)?;
    below.iter().try_for_each(|project| check_tool(&project.manifest, settings))?;
    remove_leftovers(&root, &top.manifest, &below);
    let here = inside.and_then(|inside| below.iter().position(|project| project.folder == inside));
    let patience = settings.patience;
    Ok(LoadedProject { root, top, below, here, paths: BTreeMap::new(), elsewhere: BTreeMap::new(), patience })
}

/// Removes what killed runs left beside the files that they were replacing.
fn remove_leftovers(root: &Path, manifest: &Manifest, below: &[ProjectFile]) {
    if let Ok(folder) = Folder::open(root) {
        remove_unfinished(&folder, [MANIFEST_NAME, LOCKFILE_NAME]);
        let mut parts: Vec<PathBuf> = vec!["altered".into(), "patches".into()];
        parts.extend(manifest.alter.values().filter_map(|alter| Path::new(&alter.patch).parent()).map(Path::to_owned));
        while let Some(part) = parts.pop() {
            if let Ok(folder) = folder.folder(&part) {
                let entries = folder.entries().unwrap_or_default();
                let is_level = |entry: &&Entry| entry.kind == Kind::Folder && entry.text().ends_with('_');
                parts.extend(entries.iter().filter(is_level).map(|level| part.join(&level.name)));
                let names = entries.into_iter().map(|entry| entry.name);
                remove_unfinished(&folder, names.filter(|name| is_unfinished(name)));
            }
        }
    }
    for project in below {
        if let Ok(folder) = Folder::open(&root.join(&project.folder)) {
            remove_unfinished(&folder, [MANIFEST_NAME]);
        }
    }
}

/// Checks that this version of the tool may work on a project.
fn check_tool(manifest: &Manifest, settings: &Settings) -> Result<(), FlowError> {
    let Some(accept) = &manifest.project.yostel else { return Ok(()) };
    if accept.bind(&Numbering::default()).is_ok_and(|constraint| constraint.admits(&settings.tool)) {
        return Ok(());
    }
    let (project, accept) = (manifest.project.name.clone(), accept.clone());
    Err(FlowError::OtherTool { project, accept, found: settings.tool.clone() })
}

/// Reads a project's lockfile; nothing when there is none.
///
/// # Errors
/// `Read`, `Lockfile`.
pub fn load_lockfile(project: &LoadedProject) -> Result<Option<Lockfile>, FlowError> {
    let path = project.lockfile_path();
    let text = match read_text_of(&path, MOST_LOCKFILE) {
        Ok(text) => text,
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(cause) => return Err(FlowError::Read { path, cause }),
    };
    match Lockfile::parse(&text) {
        Ok(lockfile) => Ok(Some(lockfile)),
        Err(error) => Err(FlowError::Lockfile { path, text, error }),
    }
}

/// Looks at a project's lockfile without reading it in full; nothing when that cannot be done.
pub(crate) fn glance_at_lockfile(project: &LoadedProject) -> Option<Glance> {
    Lockfile::glance(&read_text_of(&project.lockfile_path(), MOST_LOCKFILE).ok()?)
}

/// Reads a project's lockfile and refuses one that does not fit the manifest.
///
/// # Errors
/// `NoLockfile`, `Stale`, and as [`load_lockfile`].
pub(crate) fn load_fitting_lockfile(project: &LoadedProject) -> Result<Lockfile, FlowError> {
    let lockfile = load_lockfile(project)?.ok_or_else(|| FlowError::NoLockfile(project.lockfile_path()))?;
    let differences = lockfile.differences(&project.declared()?);
    if differences.is_empty() { Ok(lockfile) } else { Err(FlowError::Stale(differences)) }
}
