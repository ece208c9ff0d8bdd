//! What everything needs that works with a lockfile: read once a run.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_documents::{
    Asker, Declared, Difference, LocalPackage, Lockfile, Origin, Overrides, PackageName, Purpose, Requirement,
};
use yostel_versions::ConstraintText;

use crate::error::{FlowError, LockError, ProjectError};
use crate::observer::{Event, Observer};
use crate::project::LoadedProject;
use crate::project::patches::Patches;
use crate::project::read::load_lockfile;

/// A project's lockfile, with what the manifests declare and the patches that they name.
#[derive(Debug)]
pub(crate) struct Prepared {
    pub(crate) lockfile: Lockfile,
    /// What the lockfile fits.
    pub(crate) declared: Declared,
    pub(crate) patches: Patches,
    /// The root, when what is installed goes elsewhere: packages in folders are then linked from there.
    pub(crate) seen_from_elsewhere: Option<PathBuf>,
    /// Whether the manifests declare something else by now; then `declared` is what the lockfile knows of that.
    pub(crate) stale: bool,
}

impl LoadedProject {
    /// Reads the lockfile, and refuses one that does not fit the manifests.
    ///
    /// # Errors
    /// `NoLockfile`, `Stale`, `Lockfile`, `Read`, `Patch`.
    pub(crate) fn prepare(&self) -> Result<Prepared, FlowError> {
        let (prepared, differences) = self.prepare_whatever()?;
        if differences.is_empty() { Ok(prepared) } else { Err(LockError::Stale(differences).into()) }
    }

    /// Reads the lockfile to look at what is locked, whether it still fits the manifests or not; tells the observer when it
    /// does not.
    ///
    /// # Errors
    /// As [`Self::prepare`]; `Stale` only where a patch is gone without which nothing can be told.
    pub(crate) fn prepare_to_look(&self, observer: &dyn Observer) -> Result<Prepared, FlowError> {
        let (prepared, differences) = self.prepare_whatever()?;
        if differences.is_empty() {
            return Ok(prepared);
        }
        let Prepared { lockfile, declared, patches, .. } = &prepared;
        let has_patch = |name| patches.packages().any(|package| package == name);
        if lockfile.chosen.iter().any(|(name, locked)| locked.altered.is_some() && !has_patch(name)) {
            return Err(LockError::Stale(differences).into());
        }
        let declared = as_locked(declared, lockfile);
        observer.notice(Event::Stale(differences));
        Ok(Prepared { declared, stale: true, ..prepared })
    }

    fn prepare_whatever(&self) -> Result<(Prepared, Vec<Difference>), FlowError> {
        let lockfile = load_lockfile(self)?.ok_or_else(|| LockError::NoLockfile(self.lockfile_path()))?;
        let patches = self.patches()?;
        let declared = self.declared_with(&patches);
        let differences = lockfile.differences(&declared);
        let seen_from_elsewhere = (self.target != self.root).then(|| self.root.clone());
        Ok((Prepared { lockfile, declared, patches, seen_from_elsewhere, stale: false }, differences))
    }
}

/// Returns what was declared when it was locked, as far as that decides what is there: needs, as they were bound then, and
/// local packages. What is said about packages wherever they turn up is in those needs already.
fn as_locked(declared: &Declared, lockfile: &Lockfile) -> Declared {
    let of_projects = lockfile.chosen.iter().flat_map(|(package, locked)| {
        let asked = locked.asked_by.iter().filter(|asked| matches!(asked.who, Asker::Project(_)));
        asked.map(move |asked| Requirement {
            asker: asked.who.clone(),
            package: package.clone(),
            accept: asked.accept.clone(),
            purpose: asked.purpose.clone(),
        })
    });
    let local = lockfile.chosen.iter().filter(|(_, locked)| locked.from.local_folder().is_some());
    let local = local.map(|(name, locked)| {
        // What a project needs is among the needs above.
        let needs = match locked.from {
            Origin::Project { .. } => BTreeMap::new(),
            _ => needs_of(&Asker::Release(name.clone(), locked.version.clone()), lockfile),
        };
        let (origin, version) = (locked.from.clone(), locked.version.clone());
        (name.clone(), LocalPackage { origin, version, numbering: locked.numbering.clone(), needs })
    });
    let mut requirements: Vec<Requirement> = of_projects.collect();
    // In the order of a manifest.
    requirements.sort_by(|a, b| (&a.purpose, &a.package).cmp(&(&b.purpose, &b.package)));
    Declared { requirements, local: local.collect(), overrides: Overrides::default(), ..declared.clone() }
}

/// Lists what somebody asks for, as a lockfile knows it.
fn needs_of(who: &Asker, lockfile: &Lockfile) -> BTreeMap<PackageName, ConstraintText> {
    let asked =
        lockfile.chosen.iter().flat_map(|(name, locked)| locked.asked_by.iter().map(move |asked| (name, asked)));
    asked.filter(|(_, asked)| asked.who == *who).map(|(name, asked)| (name.clone(), asked.accept.clone())).collect()
}

/// Checks that a project has needs for each of these purposes.
///
/// # Errors
/// `UnknownPurpose`.
pub(crate) fn known_purposes<'p>(
    project: &LoadedProject,
    lockfile: &Lockfile,
    wanted: impl IntoIterator<Item = &'p Purpose>,
) -> Result<(), FlowError> {
    let locked = lockfile.chosen.values().flat_map(|locked| locked.purposes.iter());
    let known: BTreeSet<Purpose> =
        project.projects().flat_map(|one| one.manifest.needs.keys()).chain(locked).cloned().collect();
    match wanted.into_iter().find(|purpose| !known.contains(*purpose)) {
        Some(unknown) => {
            Err(ProjectError::UnknownPurpose { purpose: unknown.clone(), known: known.into_iter().collect() }.into())
        }
        None => Ok(()),
    }
}
