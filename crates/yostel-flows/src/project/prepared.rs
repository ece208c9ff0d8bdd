//! What everything needs that works with a lockfile: read once a run, and fitting together.

use std::path::PathBuf;

use yostel_documents::{Declared, Lockfile};

use crate::error::{FlowError, LockError};
use crate::project::LoadedProject;
use crate::project::patches::Patches;
use crate::project::read::load_lockfile;

/// A project's lockfile, with what the manifests declare and the patches that they name; the lockfile fits them.
#[derive(Debug)]
pub(crate) struct Prepared {
    pub(crate) lockfile: Lockfile,
    pub(crate) declared: Declared,
    pub(crate) patches: Patches,
    /// The root, when what is installed goes elsewhere: packages in folders are then linked from there.
    pub(crate) seen_from_elsewhere: Option<PathBuf>,
}

impl LoadedProject {
    /// Reads the lockfile, and refuses one that does not fit the manifests.
    ///
    /// # Errors
    /// `NoLockfile`, `Stale`, `Lockfile`, `Read`, `Patch`.
    pub(crate) fn prepare(&self) -> Result<Prepared, FlowError> {
        let lockfile = load_lockfile(self)?.ok_or_else(|| LockError::NoLockfile(self.lockfile_path()))?;
        let patches = self.patches()?;
        let declared = self.declared_with(&patches);
        let differences = lockfile.differences(&declared);
        if !differences.is_empty() {
            return Err(LockError::Stale(differences).into());
        }
        let seen_from_elsewhere = (self.target != self.root).then(|| self.root.clone());
        Ok(Prepared { lockfile, declared, patches, seen_from_elsewhere })
    }
}
