//! Finding and reading a project: its manifest, its sources, its lockfile.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use yostel_core::{Glance, Lockfile, Manifest, Need, Numbering, PackageName, Requirement, Version};
use yostel_sources::{FolderSource, SourceSet};

use crate::error::{FlowError, WishPlace};

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

/// A project whose manifest was read.
#[derive(Debug, Clone)]
pub struct LoadedProject {
    /// Its folder.
    pub root: PathBuf,
    /// The manifest's text.
    pub text: String,
    /// The manifest.
    pub manifest: Manifest,
}

impl LoadedProject {
    /// Returns the manifest's file.
    pub fn manifest_path(&self) -> PathBuf {
        self.root.join(MANIFEST_NAME)
    }

    /// Returns the lockfile's file.
    pub fn lockfile_path(&self) -> PathBuf {
        self.root.join(LOCKFILE_NAME)
    }

    /// Opens the manifest's sources.
    pub(crate) fn sources(&self) -> Result<SourceSet, FlowError> {
        let mut set = SourceSet::default();
        for (name, declared) in &self.manifest.sources {
            let folder = self.root.join(&declared.folder);
            let folder = fs::canonicalize(&folder).unwrap_or(folder);
            set.add(Box::new(FolderSource::open(name.clone(), folder)?), declared.reserves.clone());
        }
        if set.is_empty() { Err(FlowError::NoSources) } else { Ok(set) }
    }

    /// Finds where a wish stands: as it is written, or as it binds with what the manifest says about packages wherever
    /// they turn up.
    pub(crate) fn place_of(&self, wish: &Requirement) -> Option<WishPlace> {
        let needs = self.manifest.needs.get(&wish.purpose)?;
        let overrides = self.manifest.overrides();
        let binds = |(package, need): &(&PackageName, &Need)| {
            let bound = overrides.bind(package, &need.accept).unwrap_or(((*package).clone(), need.accept.clone()));
            bound == (wish.package.clone(), wish.accept.clone())
        };
        let need = needs.get(&wish.package).or_else(|| needs.iter().find(binds).map(|(_, need)| need))?;
        let line = self.line_of(&need.span);
        Some(WishPlace { wish: wish.clone(), line })
    }

    /// Returns the line of the manifest in which a part of it begins, from 1.
    pub(crate) fn line_of(&self, span: &std::ops::Range<usize>) -> usize {
        self.text[..span.start].matches('\n').count() + 1
    }
}

/// Reads the project whose folder is `start` or the nearest one above it.
///
/// # Errors
/// `NoProject`, `Read`, `Manifest`, `OtherTool`.
pub fn load_project(start: &Path, settings: &Settings) -> Result<LoadedProject, FlowError> {
    let root = start.ancestors().find(|folder| folder.join(MANIFEST_NAME).is_file());
    let root = root.ok_or_else(|| FlowError::NoProject(start.to_owned()))?.to_owned();
    let path = root.join(MANIFEST_NAME);
    let text = fs::read_to_string(&path).map_err(|cause| FlowError::Read { path: path.clone(), cause })?;
    let manifest = match Manifest::parse(&text) {
        Ok(manifest) => manifest,
        Err(problems) => return Err(FlowError::Manifest { path, text, problems }),
    };
    if let Some(accept) = &manifest.project.yostel {
        let admits = accept.bind(Numbering::default()).is_ok_and(|constraint| constraint.admits(&settings.tool));
        if !admits {
            let (project, accept) = (manifest.project.name.clone(), accept.clone());
            return Err(FlowError::OtherTool { project, accept, found: settings.tool.clone() });
        }
    }
    Ok(LoadedProject { root, text, manifest })
}

/// Reads a project's lockfile; nothing when there is none.
///
/// # Errors
/// `Read`, `Lockfile`.
pub fn load_lockfile(project: &LoadedProject) -> Result<Option<Lockfile>, FlowError> {
    let path = project.lockfile_path();
    let text = match fs::read_to_string(&path) {
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
    Lockfile::glance(&fs::read_to_string(project.lockfile_path()).ok()?)
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
