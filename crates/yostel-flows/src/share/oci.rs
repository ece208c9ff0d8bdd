//! A registry in an OCI registry, as one that can be written to.

use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt;
use std::sync::{Arc, Mutex, PoisonError};

use yostel_documents::oci::{OciPlace, statements_alone};
use yostel_documents::{Artifact, PackageDocument, PackageName};
use yostel_files::NewFile;
use yostel_registry::{Addition, Backend};
use yostel_sources::{Added, OciRegistry};
use yostel_store::Cache;

use crate::error::FlowError;

/// A registry in an OCI registry. Archives that are to be sent are packed into the cache first.
pub(crate) struct OciBackend {
    pub(crate) registry: OciRegistry,
    pub(crate) cache: Cache,
    /// Where that is which is copied from, if anything is.
    pub(crate) copied_from: Vec<OciPlace>,
}

/// The archive that is packed, which nobody else sees.
#[derive(Default)]
pub(crate) struct Aside(Mutex<Option<Arc<File>>>);

/// A file from its first byte on, whoever else reads it.
struct FromStart {
    file: Arc<File>,
    at: u64,
}

impl Read for FromStart {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.file.read_at(buffer, self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Backend for OciBackend {
    type Error = FlowError;
    type Guard = Aside;

    fn guard(&self) -> Result<Aside, FlowError> {
        Ok(Aside::default())
    }

    fn document(&self, package: &PackageName) -> Result<Option<PackageDocument>, FlowError> {
        Ok(self.registry.document(package)?)
    }

    fn aside(&self, guard: &Aside) -> Result<NewFile, FlowError> {
        let (new, file) = self.cache.nameless_file()?;
        *guard.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(Arc::new(file));
        Ok(new)
    }

    fn has(&self, package: &PackageName, artifact: &Artifact) -> Result<bool, FlowError> {
        Ok(self.registry.has_archive(package, artifact)?)
    }

    fn take_over(&self, package: &PackageName, artifact: &Artifact) -> Result<bool, FlowError> {
        for place in &self.copied_from {
            if self.registry.mount_archive(package, artifact, place)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn keep(&self, guard: &Aside, package: &PackageName, artifact: &Artifact) -> Result<(), FlowError> {
        let open = || match &*guard.0.lock().unwrap_or_else(PoisonError::into_inner) {
            Some(file) => Ok(Box::new(FromStart { file: file.clone(), at: 0 }) as Box<dyn Read + Send>),
            None => Err(io::Error::other("nothing was packed")),
        };
        Ok(self.registry.send_archive(package, artifact, &open)?)
    }

    fn put_advisory(&self, _guard: &Aside, file: &str, text: &str) -> Result<bool, FlowError> {
        Ok(self.registry.put_advisory(file, text.as_bytes())?)
    }

    fn add(&self, _guard: &Aside, addition: &Addition<'_>) -> Result<bool, FlowError> {
        let Addition { document, release, is_release, statements } = addition;
        if *is_release && self.registry.add_release(document, release)? == Added::OtherFirst {
            return Ok(false);
        }
        let said = statements_alone(release);
        for statement in &said[said.len() - statements..] {
            if self.registry.add_statement(&document.name, statement)? == Added::OtherFirst {
                return Ok(false);
            }
        }
        if !is_release {
            return Ok(true);
        }
        // Of two ways to write one version, the one that was published first counts.
        let there = self.registry.document(&document.name)?;
        let there = there.as_ref().and_then(|there| there.release(&release.version));
        Ok(there.is_some_and(|there| there.record() == release.record()))
    }

    fn settle(&self, _guard: &Aside, package: &PackageName) -> Result<(), FlowError> {
        Ok(self.registry.write_index(package)?)
    }
}

impl OciBackend {
    /// Lists all packages with all they have, by name.
    pub(crate) fn contents(&self) -> Result<Vec<PackageDocument>, FlowError> {
        let names = self.registry.packages()?;
        names.iter().filter_map(|name| self.document(name).transpose()).collect()
    }
}
